"""``why --traceback``: what a pasted traceback says, tried again where its interpreter is on this machine."""

from __future__ import annotations

import re
import sys

from kalyx.core.answers.why.clashing_tests import clashing_tests
from kalyx.core.answers.why.module import WhyAnswer, explain, observe_request
from kalyx.core.answers.why.requested import asked_later, frames_after, missing_name
from kalyx.core.answers.why.text_seat import Origin, choose, files_in, origin_of
from kalyx.core.errors import NothingToJudge, Unreadable
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.imports.case import THE_TEXT, Case
from kalyx.core.facts.interpreters.environment import python_in
from kalyx.core.facts.seats.finder import find_seat_to_run
from kalyx.core.facts.text_encoding import decode_text
from kalyx.core.facts.tracebacks.parser import (
    TEXT_LIMIT,
    parse_clash,
    parse_fatal,
    parse_refusal,
    parse_traceback,
    place_of,
)
from kalyx.core.facts.tracebacks.pasted_text import text_of_notebook, without_prefixes
from kalyx.core.lean.record import replace
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
    Remedy,
    RunningPython,
    Seat,
)
from kalyx.core.verdicts.remedies.shell_lines import command_line

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.facts.tracebacks.parser import (
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
    clash = parse_clash(text)
    if clash is not None:
        return clashing_tests(context.machine, *clash)
    found = parse_traceback(text) or parse_refusal(text)
    if found is None:
        raise NothingToJudge("There is no traceback in that text.", "Copy all of it, from the line "
                             "'Traceback (most recent call last)' to the one that names the error.")
    m = context.machine
    origin = _here(m, origin_of(found))
    request = found.request()
    module, name = request[:2] if request else (missing_name(found) or "__main__", None)
    choice = choose(context, found, origin)
    program, why = choice.program, choice.says
    seat_ref = at or (f"python:{program}" if program else None)
    if seat_ref is not None:
        answer = _again(context, found, seat_ref, (module, name), origin, limit)
        if choice.program and choice.says and not at:
            tried = Note("tried-at", f"The text names no interpreter; it was tried with {program}, {choice.says}. "
                         "Say --at SEAT for another.")
            answer = replace(answer, notes=(tried, *answer.notes))
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


def _here(machine: Machine, origin: Origin) -> Origin:
    """Return where a text comes from, with a script that it names relative to the working folder found there."""
    m = machine
    if not origin.script or m.path.isabs(origin.script) or not m.is_file(m.absolute(origin.script)):
        return origin
    script = m.absolute(origin.script)
    return replace(origin, script=script, start=m.path.dirname(script))


def _again(context: SeatContext, found: Traceback, seat_ref: str, request: tuple[str, str | None],
           origin: Origin, limit: float) -> WhyAnswer:
    """Try the same import in the traceback's interpreter, from the folder of its script."""
    from kalyx.core.verdicts.seats.judge_seat import judge_seat

    m = context.machine
    context = context.but(asks_when_read=False)
    facts = find_seat_to_run(context, seat_ref)
    neighbours = Neighbours(m, context)
    seat = judge_seat(facts, context.machine, neighbours)
    if seat.launch is not None and m.is_folder(origin.start) \
            and not context.examiner.trust.why_not_read(origin.start):
        seat = replace(seat, launch=replace(seat.launch, start=origin.start, main=origin.script or None))
    facts = replace(facts, seat=seat)
    tried = request if request[0] != "__main__" else _attribute(found) or ("builtins", None)
    observed = observe_request(context, seat, tried, limit)
    if tried[1] and request[0] == "__main__" and observed is not None and observed.outcome == "imports":
        request = tried  # the module has that name now
    asker = asked_later(found, request[0])
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


def _attribute(found: Traceback) -> tuple[str, str] | None:
    """Return the module and the name that it has not, where that is what a text says."""
    match = re.search(r"^module '([\w.]+)' has no attribute '(\w+)'", found.chain[0].message)
    return (match[1], match[2]) if match and found.chain[0].type == "AttributeError" else None


def _while_importing(found: Traceback) -> bool:
    """Whether every frame of the last exception is the body of a module: each was being imported."""
    frames = [f for f in found.chain[0].frames if not f.file.startswith("<frozen")]
    return bool(frames) and all(f.function == "<module>" for f in frames)


def _fails_as_told(observed: Observation, found: Traceback) -> bool:
    """Whether an import that was tried again fails with an exception of the text."""
    error = observed.error
    return error is not None and any((e.type, e.message) == (error.type, error.message) for e in found.chain)


def _short(error: ObservedError) -> str:
    return f"{error.type}: {error.message.split(chr(10))[0]}".rstrip(": ")


def _died(said: str, found: Traceback) -> WhyAnswer:
    """Explain the last words of an interpreter: it could not start, or died while it ran; nothing is tried."""
    from kalyx.core.verdicts.judge_import import judge_last_words

    finding = judge_last_words(said, found.chain[0].frames)
    module = asked_later(found, "__main__") or "the script"
    report = ImportReport(module, None, "text", None, "fails", {"type": "Crash", "message": said},
                          causes=(finding,))
    note = Note("from-text", "This is concluded from the text alone: an interpreter that died is not tried "
                "again. Ask for the import itself: kalyx why MODULE --at SEAT.")
    return WhyAnswer(Seat("text", "python", "the text"), (report,), (note,))


# -- from the text alone -----------------------------------------------------------------------------
def _from_text(found: Traceback, origin: Origin, request: tuple[str, str | None],
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
    chain = tuple(frames_after(e, asking) for e in found.chain)
    module, name = request
    if module == "__main__":
        module = asked_later(found, module) or module
    observed = Observation(module, name, "fails", _python(origin, found), chain,
                           loaded=_loaded(found, machine, origin),
                           later=asking is None or place_of(asking.file).kind in ("site", "user"))
    case = Case(machine, seat, observed, Neighbours(machine), text_of=known_as)
    report = judge_import(case)
    text_says = Evidence(f"the text says {_short(chain[0])}")
    shown = {machine.path.normcase(f) for f in (*(x.file for x in found.frames),
                                                *(f for e in found.chain for f in files_in(e.message)))}
    return replace(report, causes=tuple(_by_text(machine, f, text_says, shown) for f in report.causes),
                   interpreter=interpreter if origin.version else None)


def _filled(origin: Origin, found: Traceback) -> Origin:
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


def _files(found: Traceback, origin: Origin) -> dict[str, str]:
    """Return the files that the text shows, each with the lines that are known of it."""
    separator = "\\" if found.windows else "/"
    lines: dict[str, dict[int, str]] = {}
    for frame in found.frames:
        if not frame.file.startswith("<"):
            lines.setdefault(frame.file, {})[frame.line] = found.code.get((frame.file, frame.line), "")
    files = {f: "\n".join(known.get(n, "") for n in range(1, max(known, default=0) + 1))
             for f, known in lines.items()}
    for error in found.chain:  # files that a message names
        for file in files_in(error.message):
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


def _python(origin: Origin, found: Traceback) -> RunningPython:
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
            origin: Origin) -> dict[str, tuple[str | None, tuple[str, ...]]]:
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


def _by_text(machine: Machine, finding: Finding, text_says: Evidence, shown: set[str]) -> Finding:
    """Take back what only looking at the machine could have shown, and what only there can be done.

    Evidence is what the text shows of a file, or a table; a remedy is a line to be typed where the text comes from.
    """
    evidence = [e for e in finding.evidence if e.kind != "searched"
                and (e.path is None or machine.path.normcase(e.path) in shown)]
    return replace(finding, evidence=(text_says, *evidence),
                   remedies=tuple(_to_type(machine, r) for r in finding.remedies),
                   confidence="likely" if finding.confidence == "certain" else finding.confidence)


def _to_type(machine: Machine, remedy: Remedy) -> Remedy:
    """Return a remedy as what a person does on the other machine."""
    typed = remedy.typed or (command_line(machine, remedy.argv) if remedy.argv else "")
    folder = f" In {remedy.cwd}:" if remedy.cwd and remedy.argv else ""
    return replace(remedy, kind="manual", argv=(), cwd=None, edits=(), typed=typed, undoable=False,
                   do=f"{remedy.do}{folder}")
