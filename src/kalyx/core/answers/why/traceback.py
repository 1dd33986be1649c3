"""``why --traceback``: what a pasted traceback says, tried again where its interpreter is on this machine."""

from __future__ import annotations

import re
import sys

from kalyx.core.answers.why.module import WhyAnswer, explain, observe_request
from kalyx.core.errors import NothingToJudge, Unreadable
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.imports.case import THE_TEXT, Case
from kalyx.core.facts.interpreters.environment import prefix_of, python_in
from kalyx.core.facts.seats.finder import find_seat_to_run
from kalyx.core.facts.tracebacks.parser import (
    TEXT_LIMIT,
    parse_fatal,
    parse_refusal,
    parse_traceback,
    place_of,
)
from kalyx.core.facts.tracebacks.pasted_text import decode_text, text_of_notebook, without_prefixes
from kalyx.core.lean.record import record, replace
from kalyx.core.machine.from_text import TextMachine
from kalyx.core.model import (
    Environment,
    Evidence,
    ImportReport,
    Interpreter,
    Launch,
    Note,
    Observation,
    ObservedError,
    RunningPython,
    Seat,
)

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.facts.tracebacks.parser import (
        Place,
        Traceback,
    )
    from kalyx.core.machine.interface import Machine
    from kalyx.core.model import (
        Finding,
        Frame,
    )

__all__ = ["answer_traceback", "read_text"]

NOTEBOOK_LIMIT = 256 * 1024 * 1024  # bytes; outputs make them large
UNKNOWN_VERSION = "3.99"  # newer than any: nothing is concluded from the version
# Evidence that only looking at the machine itself would give


@record
class _Origin:
    """Where a traceback comes from, as far as its paths tell."""

    prefix: str = ""
    base: str = ""
    version: str = ""
    site: str = ""
    library: str = ""
    start: str = ""  # the folder of the script


def read_text(machine: Machine, path: str) -> str:
    """Read the text of a file, ``-`` for what is piped in; of a notebook the last error that it shows.

    Raises:
        NothingToJudge: it cannot be read.
    """
    if path == "-":
        return decode_text(sys.stdin.buffer.read(TEXT_LIMIT))
    try:
        text = decode_text(machine.read_bytes(machine.absolute(path), NOTEBOOK_LIMIT))
        is_json = text.lstrip()[:1] == "{"
        return text_of_notebook(text) if is_json else text[-TEXT_LIMIT:]
    except Unreadable as error:
        raise NothingToJudge(f"{path} cannot be read: {error.reason}.", "Name a text file, or - to pipe "
                             "the text in.") from None


def answer_traceback(context: SeatContext, text: str, at: str | None, limit: float) -> WhyAnswer:
    """Explain a traceback: by trying it again at its interpreter, else from the text alone.

    Raises:
        NothingToJudge: there is no traceback in the text.
    """
    text = without_prefixes(text)
    fatal = parse_fatal(text)
    if fatal is not None:
        return _died(*fatal)
    found = parse_traceback(text) or parse_refusal(text)
    if found is None:
        raise NothingToJudge("There is no traceback in that text.", "Copy all of it, from the line "
                             "'Traceback (most recent call last)' to the one that names the error.")
    origin = _origin(found)
    request = found.request()
    module, name = request[:2] if request else (_missing(found) or "__main__", None)
    m = context.machine
    program, why = _program(context, found, origin)
    seat_ref = at or (f"python:{program}" if program else None)
    if seat_ref is not None and (module != "__main__" or program):
        answer = _again(context, found, seat_ref, (module, name), origin, limit)
        if at or answer.status != "ok" or not origin.start or (
                m.is_folder(origin.start) and not context.examiner.trust.why_not_read(origin.start)):
            return answer
        why = (f"{origin.start} {'is not yours alone' if m.exists(origin.start) else 'is not on this machine'}, "
               f"and without it the import succeeds with {program}")
    report = _from_text(found, origin, (module, name), request[2] if request else None)
    notes = (Note("from-text", f"This is concluded from the text alone: {why}. Say --at SEAT to have it tried "
                  "somewhere."),)
    return WhyAnswer(Seat(report.seat, "python", report.seat.partition(":")[2] or "the text",
                          report.interpreter), (report,), notes)


def _program(context: SeatContext, found: Traceback, origin: _Origin) -> tuple[str, str]:
    """Return the traceback's interpreter where it is on this machine, else why there is none."""
    m = context.machine
    if found.windows != (m.platform == "win32"):
        return "", "it comes from Windows" if found.windows else "it does not come from Windows"
    if found.program and m.is_executable(m.absolute(found.program)):
        program = m.absolute(found.program)
        return (program, "") if _is_known(context, program) else ("", f"{program} is of no environment known here")
    if not origin.prefix:
        return "", "no path in it tells which interpreter it was"
    program = python_in(m, origin.prefix)
    named = m.path.join(m.path.dirname(program), f"python{origin.version}")
    program = named if "." in origin.version and m.is_executable(named) else program
    if not m.is_executable(program):
        return "", f"{program} is not on this machine"
    if not _is_known(context, program):
        return "", f"{program} is of no environment known here"
    examined = context.examiner.examine(program, m.cwd).interpreter
    if "." in origin.version and examined.version and examined.short_version != origin.version:
        return "", f"{program} is Python {examined.version} here, and the text is of {origin.version}"
    return program, ""


def _is_known(context: SeatContext, program: str) -> bool:
    """Whether a program is the interpreter of an environment of this machine, and of a base that may be run.

    A text may come from anywhere: it chooses among what is known, and names nothing to run.
    """
    m = context.machine
    prefix = prefix_of(m, program)
    known = {m.key(p) for p in context.prefixes()} | {m.key(i.prefix) for i in context.bases() if i.prefix}
    python = context.shell_python()
    own = python is not None and m.same(python[1].interpreter.path, program)
    return own or (bool({m.key(prefix), m.key(m.path.dirname(prefix))} & known) and context.examiner.is_sound(program))


def _missing(found: Traceback) -> str | None:
    return next((e.name for e in found.chain if e.name), None)


def _origin(found: Traceback) -> _Origin:
    places = [(f, place_of(f.file)) for f in found.frames]
    site = next((p for _, p in reversed(places) if p.kind == "site"), None)
    library = next((p for _, p in reversed(places) if p.kind == "stdlib"
                    and "importlib" not in p.folder), None)
    # the script is what the last exception began in; those before it may begin further inside
    begun = [*((f, place_of(f.file)) for f in found.chain[0].frames), *places]
    own = next((f for f, p in begun if p.kind == "own" and not f.file.startswith("<")), None)
    best: Place | None = site or library
    if best is None:
        named = [place_of(f) for e in found.chain for f in _files_in(e.message)]
        version = next((p.version for p in named if p.kind == "stdlib" and "." in p.version), "")
        return _Origin(start=_folder(own), version=version)
    return _Origin(best.prefix, library.prefix if library else best.prefix, best.version or (
        library.version if library else ""), site.folder if site else "",
        library.folder if library else "", _folder(own))


def _folder(frame: Frame | None) -> str:
    import ntpath
    import posixpath

    if frame is None:
        return ""
    return ntpath.dirname(frame.file) if "\\" in frame.file else posixpath.dirname(frame.file)


def _again(context: SeatContext, found: Traceback, seat_ref: str, request: tuple[str, str | None],
           origin: _Origin, limit: float) -> WhyAnswer:
    """Try the same import in the traceback's interpreter, from the folder of its script."""
    from kalyx.core.verdicts.seats.judge_seat import judge_seat

    m = context.machine
    context = context.but(asks_when_read=False)
    facts = find_seat_to_run(context, seat_ref)
    neighbours = Neighbours(m, context)
    seat = judge_seat(facts, context.machine, neighbours)
    if seat.launch is not None and m.is_folder(origin.start) \
            and not context.examiner.trust.why_not_read(origin.start):
        seat = replace(seat, launch=replace(seat.launch, start=origin.start))
    facts = replace(facts, seat=seat)
    tried = request if request[0] != "__main__" else ("builtins", None)
    observed = observe_request(context, seat, tried, limit)
    asker = _asked_later(found, request[0])
    later = asker if observed is not None and observed.python and (
        tried != request or _fails_as_told(observed, found)) else None
    if later and observed is not None:
        observed = replace(observed, module=later, name=None, outcome="fails", chain=found.chain, origin=None,
                           later=not _while_importing(found))
        request = later, None
    report = explain(context, facts, request, observed, neighbours)
    said, error = found.chain[0], report.error
    notes = []
    if request[0] == later and tried[0] == "builtins":
        notes.append(Note("from-text", "What failed was no import, so it was not tried again: this is "
                          "concluded from the text, and from the files as they are now."))
    elif report.outcome == "imports":
        notes.append(Note("imports-now", f"The text says {_short(said)}; tried again, it imports."))
    elif error and _short(said) != _short(ObservedError(error["type"], error["message"])):
        notes.append(Note("fails-otherwise", f"The text says {_short(said)}; tried again, it is "
                          f"{error['type']}: {error['message'].split(chr(10))[0]}."))
    return WhyAnswer(seat, (report,), tuple(notes))


def _while_importing(found: Traceback) -> bool:
    """Whether every frame of the last exception is the body of a module: each was being imported."""
    frames = [f for f in found.chain[0].frames if not f.file.startswith("<frozen")]
    return bool(frames) and all(f.function == "<module>" for f in frames)


def _fails_as_told(observed: Observation, found: Traceback) -> bool:
    """Whether an import that was tried again fails with an exception of the text."""
    error = observed.error
    return error is not None and any((e.type, e.message) == (error.type, error.message) for e in found.chain)


def _asked_later(found: Traceback, module: str) -> str | None:
    """Return what asked, where that was code of a package or no import at all: then who asked tells more
    than the import tried by itself.
    """
    request = found.request()
    frames = [request[2]] if request else list(reversed(found.chain[0].frames))
    for frame in frames:
        place = place_of(frame.file)
        if place.kind in ("site", "user"):
            rest = frame.file[len(place.folder):].strip("/\\").replace("\\", "/")
            return rest.split("/")[0].removesuffix(".py")
    return "the script" if module == "__main__" else None


def _short(error: ObservedError) -> str:
    return f"{error.type}: {error.message.split(chr(10))[0]}".rstrip(": ")


def _died(said: str, found: Traceback) -> WhyAnswer:
    """Explain the last words of an interpreter: it could not start, or died while it ran; nothing is tried."""
    from kalyx.core.verdicts.judge_import import judge_last_words

    finding = judge_last_words(said, found.chain[0].frames)
    module = _asked_later(found, "__main__") or "the script"
    report = ImportReport(module, None, "text", None, "fails", {"type": "Crash", "message": said},
                          causes=(finding,))
    note = Note("from-text", "This is concluded from the text alone: an interpreter that died is not tried "
                "again. Ask for the import itself: kalyx why MODULE --at SEAT.")
    return WhyAnswer(Seat("text", "python", "the text"), (report,), (note,))


# -- from the text alone -----------------------------------------------------------------------------
def _from_text(found: Traceback, origin: _Origin, request: tuple[str, str | None],
               asking: Frame | None) -> ImportReport:
    """Judge what the text shows by the same checks, on a machine that has only what it shows."""
    from kalyx.core.verdicts.judge_import import judge_import

    origin = _filled(origin, found)
    machine = TextMachine(_files(found, origin), windows=found.windows)
    python = python_in(machine, origin.prefix)
    known_as = origin.prefix or THE_TEXT
    interpreter = Interpreter(python, python, origin.version or None, "cpython", origin.prefix, origin.base,
                              known_by="text")
    environment = Environment(origin.prefix, str(machine.path.basename(origin.prefix)) or known_as, "venv",
                              None, origin.version or None)
    launch = Launch((python,), {}, origin.start or machine.cwd, origin.start)
    seat = Seat(f"python:{python}" if origin.prefix else "text", "python", known_as,
                interpreter, environment, launch=launch)
    chain = tuple(_after(e, asking) for e in found.chain)
    module, name = request
    if module == "__main__":
        module = _asked_later(found, module) or module
    observed = Observation(module, name, "fails", _python(origin, found), chain,
                           loaded=_loaded(found, machine, origin),
                           later=asking is None or place_of(asking.file).kind in ("site", "user"))
    case = Case(machine, seat, observed, Neighbours(machine), text_of=known_as)
    report = judge_import(case)
    text_says = Evidence(f"the text says {_short(chain[0])}")
    return replace(report, causes=tuple(_by_text(f, text_says) for f in report.causes),
                   interpreter=interpreter if origin.version else None)


def _filled(origin: _Origin, found: Traceback) -> _Origin:
    """Complete what the paths leave open with the usual layout of the system."""
    if not origin.prefix:
        if found.windows:
            return replace(origin, site="C:\\Lib\\site-packages", library="C:\\Lib")
        return replace(origin, site="/site-packages", library="/lib/python3")
    if found.windows:
        return replace(origin, site=origin.site or f"{origin.prefix}\\Lib\\site-packages",
                       library=origin.library or f"{origin.base}\\Lib")
    version = origin.version if "." in origin.version else ""
    return replace(origin, site=origin.site or f"{origin.prefix}/lib/python{version}/site-packages",
                   library=origin.library or f"{origin.base}/lib/python{version or '3'}")


def _said_missing(found: Traceback) -> set[str]:
    """Return the top-level modules that the text says are not there."""
    return {e.name for e in found.chain if e.name and e.type == "ModuleNotFoundError"}


def _files_in(message: str) -> list[str]:
    """Return the files that a message names."""
    return re.findall(r"['(]((?:/|[A-Za-z]:\\)[^'()]+\.py)[')]", message)


def _files(found: Traceback, origin: _Origin) -> dict[str, str]:
    """Return the files that the text shows, each with the lines that are known of it."""
    separator = "\\" if found.windows else "/"
    lines: dict[str, dict[int, str]] = {}
    for frame in found.frames:
        if not frame.file.startswith("<"):
            lines.setdefault(frame.file, {})[frame.line] = found.code.get((frame.file, frame.line), "")
    files = {f: "\n".join(known.get(n, "") for n in range(1, max(known, default=0) + 1))
             for f, known in lines.items()}
    for error in found.chain:  # files that a message names
        for file in _files_in(error.message):
            files.setdefault(file, "")
    for file in list(files):
        folder = place_of(file).folder
        rest = file[len(folder):].strip("/\\").replace("\\", "/").split("/") if folder else []
        for depth in range(1, len(rest)):
            files.setdefault(separator.join([folder, *rest[:depth], "__init__.py"]), "")
    if origin.library:
        for name in sys.stdlib_module_names - _said_missing(found):
            files.setdefault(f"{origin.library}{separator}{name}.py", "")
    if origin.site:
        files.setdefault(separator.join([origin.site, "pip", "__init__.py"]), "")
    return files


def _python(origin: _Origin, found: Traceback) -> RunningPython:
    """Return what the text tells of the interpreter, or suggests."""
    version = origin.version if "." in origin.version else UNKNOWN_VERSION
    missing = _said_missing(found)
    return RunningPython(
        version, "cpython", "" if origin.prefix else "python", origin.prefix or "it", origin.base,
        tuple(p for p in (origin.start, origin.library, origin.site) if p), origin.start,
        platform="win32" if found.windows else "linux",
        builtin=[n for n in sys.builtin_module_names if n not in missing],
        stdlib=sys.stdlib_module_names - missing, knows_version=version != UNKNOWN_VERSION)


def _loaded(found: Traceback, machine: TextMachine,
            origin: _Origin) -> dict[str, tuple[str | None, tuple[str, ...]]]:
    """Return the modules whose files the frames show."""
    loaded: dict[str, tuple[str | None, tuple[str, ...]]] = {}
    for frame in found.frames:
        for folder in (origin.site, origin.library, origin.start):
            if folder and machine.is_within(frame.file, folder):
                rest = frame.file[len(folder):].strip("/\\").replace("\\", "/")
                parts = rest.removesuffix(".py").removesuffix("/__init__").split("/")
                loaded.setdefault(".".join(parts), (frame.file, ()))
                if len(parts) > 1:
                    top = machine.path.join(folder, parts[0])
                    loaded.setdefault(parts[0], (str(machine.path.join(top, "__init__.py")), (str(top),)))
                break
    return loaded


def _after(error: ObservedError, asking: Frame | None) -> ObservedError:
    """Return an exception with the frames after the one that made the request."""
    if asking is None or asking not in error.frames:
        return error
    place = error.frames.index(asking)
    return replace(error, frames=error.frames[place + 1:])


def _by_text(finding: Finding, text_says: Evidence) -> Finding:
    """Take back what only looking at the machine could have shown."""
    evidence = [e for e in finding.evidence if e.kind != "searched"]
    return replace(finding, evidence=(text_says, *evidence),
                   confidence="likely" if finding.confidence == "certain" else finding.confidence)
