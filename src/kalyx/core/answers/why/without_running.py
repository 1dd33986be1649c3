"""``why --no-run``: what an import would find, by reading alone."""

from __future__ import annotations

from kalyx.core.answers.why.module import WhyAnswer, parse_request
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.imports.case import Case
from kalyx.core.facts.interpreters.flags import letters_of
from kalyx.core.facts.native.builtin_modules import CompiledIn, read_suffixes
from kalyx.core.facts.search_path.archives import archive_names
from kalyx.core.facts.search_path.modules import Candidate, top_level
from kalyx.core.facts.search_path.predicted import read_search_path
from kalyx.core.facts.seats.finder import find_seat
from kalyx.core.facts.source_code.imports import read_source
from kalyx.core.lean.record import record, replace
from kalyx.core.model import (
    Frame,
    ImportReport,
    Note,
    Observation,
    ObservedError,
    RunningPython,
)
from kalyx.core.verdicts.known import as_known
from kalyx.core.verdicts.seats.judge_seat import judge_seat

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.search_path.predicted import SearchPath
    from kalyx.core.facts.seats.context import SeatContext, SeatFacts
    from kalyx.core.machine.interface import Machine
    from kalyx.core.model import (
        Finding,
        Interpreter,
        Launch,
    )

__all__ = ["NOT_RUN", "answer_without_run", "read_case", "read_requests"]

NOT_RUN = Note("not-run", "Nothing was imported (--no-run): this is what reading the files says. Code that "
               "runs at Python's start, or in the module, may change it.")
MOST_FILES = 300  # that are followed from one module
_ALONE = "attempted relative import with no known parent package"
_ABOVE = "attempted relative import beyond top-level package"


@record
class _Missing:
    """An import that would find nothing, and the line that asks (None: the request itself)."""

    module: str
    asker: Frame | None
    relative: str = ""  # what Python would say of a relative import that leads nowhere

    def error(self) -> ObservedError:
        """Return the exception that the import would end with."""
        frames = (self.asker,) if self.asker else ()
        if self.relative:
            return ObservedError("ImportError", self.relative, frames=frames)
        return ObservedError("ModuleNotFoundError", f"No module named '{self.module}'", self.module,
                             frames=frames)


def answer_without_run(context: SeatContext, requests: Sequence[str], seat_ref: str) -> WhyAnswer:
    """Say where modules would come from, or what would be missing. Nothing of the seat is run.

    Raises:
        WrongUsage: a request is no module name.
        NothingToJudge: there is no such seat.
    """
    wanted = [parse_request(r) for r in requests]
    facts = find_seat(context, seat_ref)
    neighbours = Neighbours(context.machine, context)
    seat = judge_seat(facts, context.machine, neighbours)
    facts = replace(facts, seat=seat)
    return WhyAnswer(seat, read_requests(context, facts, seat.launch, wanted, neighbours), (NOT_RUN,))


def read_requests(context: SeatContext, facts: SeatFacts, launch: Launch | None,
                  wanted: Sequence[tuple[str, str | None]], neighbours: Neighbours,
                  folders: Sequence[tuple[str, bool]] = ()) -> tuple[ImportReport, ...]:
    """Return what reading the files says of each request; `folders` are put on the path (True: at its front)."""
    seat, case = facts.seat, read_case(context, facts, launch, neighbours, folders)
    if case is None:
        stopping = tuple(f for f in seat.findings if f.is_problem)
        return tuple(ImportReport(m, n, seat.ref, seat.interpreter, "unknown", causes=stopping) for m, n in wanted)
    return tuple(_read(case, request) for request in wanted)


def read_case(context: SeatContext, facts: SeatFacts, launch: Launch | None, neighbours: Neighbours,
              folders: Sequence[tuple[str, bool]] = ()) -> Case | None:
    """Return a case in which nothing was tried, of what the files say; None where the seat cannot start."""
    seat, examined = facts.seat, facts.examined
    interpreter = seat.interpreter
    if interpreter is None or launch is None or examined is None or not interpreter.works \
            or interpreter.prefix is None:
        return None
    if facts.ran is not None:
        python = facts.ran
    else:
        inner = examined.launched(launch)
        path = read_search_path(context.machine, interpreter, examined.stdlib, examined.config, inner.env,
                                start=inner.start or inner.cwd, cwd=inner.cwd, flags=inner.argv[1:],
                                start_behind=inner.start_behind)
        python = _python(context, interpreter, inner, path)
    python = replace(python, front=tuple(f for f, front in folders if front),
                     back=tuple(f for f, front in folders if not front))
    return Case(context.machine, replace(seat, launch=launch), Observation("", None, "fails", python), neighbours)


def _python(context: SeatContext, interpreter: Interpreter, launch: Launch, path: SearchPath) -> RunningPython:
    """Return what the interpreter would say of itself, as far as files tell."""
    version = interpreter.version or "3"
    flags = set(letters_of(launch.argv[1:]))
    return RunningPython(
        version if "." in version else version + ".0", interpreter.implementation or "cpython",
        interpreter.path, interpreter.prefix or "", interpreter.base_prefix or "",
        tuple((launch.start or "") if x.layer == "start" else x.path for x in path.layers), launch.cwd,
        platform=context.machine.platform,
        suffixes=tuple(_suffixes(context.machine, interpreter, path)),
        builtin=CompiledIn(context.machine, interpreter, launch.env), user_site=path.user_site,
        flags={"isolated": int("I" in flags), "ignore_environment": int("E" in flags or "I" in flags),
               "no_site": int("S" in flags), "no_user_site": int("s" in flags), "safe_path": int("P" in flags)})


def _suffixes(machine: Machine, interpreter: Interpreter, path: SearchPath) -> list[str]:
    """Return the endings of compiled modules that such an interpreter loads."""
    names = [n for x in path.layers if x.layer == "stdlib" for n in machine.entries(x.path)]
    return read_suffixes(names, interpreter.implementation, interpreter.version_pair or (3, 0))


def _read(case: Case, request: tuple[str, str | None]) -> ImportReport:
    """Look a module up as the import would; follow what it imports itself."""
    from kalyx.core.verdicts.judge_import import judge_import

    module, name = request
    blank = case.but(replace(case.obs, module=module, name=name))
    found, missing = _look_up(blank, module, None)
    if missing is None and found is not None and blank.modules.layer_of_file(found.path) != "stdlib":
        missing = as_known(blank.files, lambda: _follow(blank, found, module), None)
    if missing is None:
        return _would_import(blank, request, found)
    report = judge_import(blank.but(replace(blank.obs, chain=(missing.error(),))))
    return replace(report, outcome="unknown", error=None, causes=tuple(_read_only(f) for f in report.causes))


def _read_only(finding: Finding) -> Finding:
    return replace(finding, confidence="likely" if finding.confidence == "certain" else finding.confidence)


def _look_up(case: Case, module: str, asker: Frame | None) -> tuple[Candidate | None, _Missing | None]:
    """Return what each part of a dotted name would find, the last one's file; or the part that is missing."""
    if case.modules.is_builtin(module):
        return None, None
    found: Candidate | None = None
    parts = module.split(".")
    for count in range(1, len(parts) + 1):
        dotted = ".".join(parts[:count])
        if case.modules.is_builtin(dotted) or dotted == "os.path":
            found = None
            continue
        head = dotted.rpartition(".")[0]
        folders = case.modules.search_folders(head) if head else case.modules.folders
        if found is not None and found.kind == "linked":
            folders = [case.files.path.dirname(found.path)]
        offers = case.modules.finder.find_all(folders, parts[count - 1])
        real = [c for c in offers if c.kind != "namespace"] or offers or _in_no_folder(case, dotted)
        if not real:
            if found is not None and found.kind == "package" and _makes_parts(case, found):
                return None, None
            return None, _Missing(dotted, asker)
        found = real[0]
    return found, None


def _in_no_folder(case: Case, module: str) -> list[Candidate]:
    """Return what a zip file on the path, or the import hook of an editable install, has for a module."""
    m, part = case.files, module.replace(".", "/")
    for layer in case.modules.layers:
        if m.is_file(layer.path):
            inside = archive_names(m, layer.path)
            found = [f for f in (f"{part}/__init__.py", f"{part}.py") if f in inside]
            if found:
                return [Candidate(layer.path, f"{layer.path}/{found[0]}", "zipped")]
    hooked = case.modules.hooked(module) if "." not in module else None
    return [hooked] if hooked is not None else []


def _makes_parts(case: Case, package: Candidate) -> bool:
    """Whether a package may bring parts that are no files: it touches sys.modules or its own path."""
    try:
        text = case.files.read_text(package.path, 262_144)
    except Exception:  # unreadable: nothing can be said
        return True
    return "sys.modules" in text or "__path__" in text or "__getattr__" in text


def _follow(case: Case, first: Candidate, module: str) -> _Missing | None:
    """Return the first import that is missing in the module's own package, as it would be executed.

    Only what runs at import counts: no functions, no guards. Other packages are
    looked up, and followed no further than the requirement to be there.
    """
    queue = [first.path]
    seen: set[str] = set()
    top = top_level(module)
    while queue and len(seen) < MOST_FILES:
        path = queue.pop(0)
        if path in seen or not path.endswith(".py"):
            continue
        seen.add(path)
        source = read_source(case.files, path, first.entry)
        if source.trouble or source.paths or source.unread:
            continue
        alone = source.relative and path == first.path and first.kind == "module" and "." not in module
        for item in source.imports:
            if item.guard or item.only_where or item.marker:
                continue
            if item.text.startswith("from .") and (alone or item.module.startswith(".")):
                return _Missing(item.module, Frame(path, item.line, "<module>"), _ALONE if alone else _ABOVE)
            if case.modules.is_stdlib(top_level(item.module)):
                continue
            found, missing = _look_up(case, item.module, Frame(path, item.line, "<module>"))
            if missing is not None and not _is_attribute(case, item.module):
                return missing
            if found is not None and top_level(item.module) == top:
                queue.append(found.path)
                part = case.modules.finder.find_in(case.files.path.dirname(found.path), item.name or "")
                if item.name and found.kind == "package" and part is not None and part.kind != "namespace":
                    queue.append(part.path)
    return None


def _is_attribute(case: Case, module: str) -> bool:
    """Whether the last part may be made by its parent's code: then nothing is said."""
    head = module.rpartition(".")[0]
    if not head:
        return False
    found, missing = _look_up(case, head, None)
    return missing is None and found is not None and (found.kind != "package" or _makes_parts(case, found))


def _would_import(case: Case, request: tuple[str, str | None], found: Candidate | None) -> ImportReport:
    from kalyx.core.verdicts.judge_import import judge_import

    origin = found.path if found is not None else "built-in"
    report = judge_import(case.but(replace(case.obs, outcome="imports", origin=origin)))
    builtin = found is None
    return replace(report, outcome="unknown", error=None, origin=origin,
                   layer="stdlib" if builtin else case.modules.layer_of_file(origin),
                   distribution=None if builtin else report.distribution,
                   causes=tuple(_read_only(f) for f in report.causes))
