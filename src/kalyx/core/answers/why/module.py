"""``why``: what an import does at a seat, and why it fails there."""

from __future__ import annotations

from itertools import islice

from kalyx.core.answers.module_notes import module_notes
from kalyx.core.errors import WrongUsage
from kalyx.core.facts.imports.trial import Attempt
from kalyx.core.facts.seats.finder import find_seat_to_run
from kalyx.core.lean.record import record, replace
from kalyx.core.model import Note

TYPE_CHECKING = False
if TYPE_CHECKING:

    from collections.abc import Callable, Sequence

    from kalyx.core.facts.environments.neighbours import Neighbours
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.facts.search_path.startup_code import StartEnder
    from kalyx.core.facts.seats.context import SeatContext, SeatFacts
    from kalyx.core.machine.interface import Machine
    from kalyx.core.model import Comparison, FileReport, ImportGroup, ImportReport, Interpreter, Observation, Seat

MOST_AT_ONCE = 8  # children

__all__ = ["WhyAnswer", "answer_compared", "answer_why", "as_observed", "ender_of", "explain", "observe_request",
           "parse_request", "with_newer_parser"]


@record
class WhyAnswer:
    """The answers for the modules that were asked for, and the seat that they were tried in."""

    seat: Seat
    imports: tuple[ImportReport, ...]
    notes: tuple[Note, ...] = ()
    comparisons: tuple[Comparison, ...] = ()
    files: tuple[FileReport, ...] = ()
    groups: tuple[ImportGroup, ...] = ()

    @property
    def status(self) -> str:
        """Whether all that is needed imports, something does not, or could not be tried."""
        needed = [r for r in self.imports if r.needed]
        if any(r.outcome == "fails" or any(f.is_problem for f in r.causes) for r in needed):
            return "problem"
        unread = any(f.trouble and not f.imports for f in self.files)
        return "ok" if all(r.outcome == "imports" for r in needed) and not unread else "unknown"


def parse_request(text: str) -> tuple[str, str | None]:
    """Split ``X`` or ``X:y`` into module and name.

    Raises:
        WrongUsage: it is not a dotted name.
    """
    module, colon, name = text.partition(":")
    if not module.startswith("-"):  # perhaps the name of a distribution
        module = module.replace("-", "_")
    if not all(p.isidentifier() for p in module.split(".")) or (colon and not name.isidentifier()):
        raise WrongUsage(f"{text!r} is not the name of a module.", "Write a module as in an "
                         "import: name, package.part, or package:name.")
    return module, name or None


def answer_why(context: SeatContext, requests: Sequence[str], seat_ref: str, limit: float,
               meanwhile: Callable[[], object] = bool) -> WhyAnswer:
    """Import each module at the seat, in a child of its own, and explain what happened.

    `meanwhile` is called while the children run.

    Raises:
        WrongUsage: a request is no module name.
        NothingToJudge: there is no such seat.
    """
    wanted = [parse_request(r) for r in requests]
    context = context.beside(seat_ref).but(asks_when_read=False)  # the import itself will show what it is
    facts = find_seat_to_run(context, seat_ref)

    waiting = iter(wanted)
    added = _added(context, facts)
    attempts = [begin_attempt(context, facts.seat, r, limit, added) for r in islice(waiting, MOST_AT_ONCE)]
    try:
        seat, neighbours = _prepare(context, facts)
        meanwhile()
        if attempts[0] is not None:
            neighbours.prefetch([module.split(".")[0] for module, _ in wanted], attempts[0].ended)
        observed = []
        for attempt in attempts:  # it grows: as one ends, the next begins
            observed.append(attempt.result() if attempt else None)
            attempts += [begin_attempt(context, facts.seat, r, limit, added) for r in islice(waiting, 1)]
    except BaseException:
        for attempt in attempts:
            if attempt is not None:
                attempt.end()
        raise
    facts = replace(facts, seat=seat)
    reports = [explain(context, facts, request, seen, neighbours)
               for request, seen in zip(wanted, observed, strict=True)]
    asked: list[Note] = []
    if facts.live is not None:
        from kalyx.core.answers.why.live_state import with_state

        reports = [with_state(context, facts, facts.live, report, neighbours) for report in reports]
    elif seat.kind == "process":
        from kalyx.core.answers.live_kernel import with_loaded

        reports, asked = with_loaded(context, seat.ref, reports)
    read = [_as_name(context, facts, r, limit, neighbours) for r in reports]
    notes = [Note("read-as-name", f"{old.module} is no module; it was read as {new.module}:{new.name}.")
             for old, new in zip(reports, read, strict=True) if new is not old]
    notes += module_notes(context.machine, seat, [r.origin for r in read if r.origin and r.layer == "pythonpath"])
    return WhyAnswer(seat, tuple(read), (*asked, *notes, *_notes(facts, requests, context.machine)))


def _as_name(context: SeatContext, facts: SeatFacts, report: ImportReport, limit: float,
             neighbours: Neighbours) -> ImportReport:
    """Return the report of a dotted name that is no module, read as a name in its parent: ``os.getcwd`` is os:getcwd.

    The report itself where its last part is not there as a name either, nor known to have been, or to have moved.
    """
    parent, dot, name = report.module.rpartition(".")
    first = report.causes[0].cause if report.causes else ""
    if not dot or report.name or first != "submodule-absent" or report.error is None \
            or f"'{report.module}'" not in str(report.error["message"]):
        return report
    seen = observe_request(context, facts.seat, (parent, name), limit)
    if seen is None:
        return report
    other = explain(context, facts, (parent, name), seen, neighbours)
    says = other.causes[0] if other.causes else None
    can_do = [any(r.edits or r.argv for r in f.remedies[:1]) for f in (report.causes[0], says) if f is not None]
    known = says is not None and (says.cause != "attribute-absent" or can_do == [False, True])
    return other if other.outcome == "imports" or known else report


def _prepare(context: SeatContext, facts: SeatFacts) -> tuple[Seat, Neighbours]:
    """Load the checks and judge the seat, while the imports are being tried."""
    from kalyx.core.facts.environments.neighbours import Neighbours
    from kalyx.core.verdicts.judge_import import load_checks
    from kalyx.core.verdicts.seats.judge_seat import judge_seat

    neighbours = Neighbours(context.machine, context)
    load_checks()
    return judge_seat(facts, context.machine, neighbours), neighbours


def answer_compared(context: SeatContext, requests: Sequence[str], seat_ref: str, other_ref: str,
                    limit: float) -> WhyAnswer:
    """Explain imports at a seat as `answer_why` does, and compare each with another seat.

    Raises:
        WrongUsage: a request is no module name.
        NothingToJudge: there is no such seat, or one of them cannot run.
    """
    from kalyx.core.facts.environments.neighbours import Neighbours
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.verdicts.compare_seats import compare_imports
    from kalyx.core.verdicts.judge_import import judge_import
    from kalyx.core.verdicts.seats.judge_seat import judge_seat

    wanted = [parse_request(r) for r in requests]
    context = context.but(asks_when_read=False)
    neighbours = Neighbours(context.machine, context)
    seats = [find_seat_to_run(context, ref) for ref in (seat_ref, other_ref)]
    seats = [replace(f, seat=judge_seat(f, context.machine, neighbours)) for f in seats]
    asked = [(facts, request) for request in wanted for facts in seats]
    observed = context.machine.in_parallel(
        lambda x: observe_request(context, x[0].seat, x[1], limit), asked)
    reports, comparisons = [], []
    for number, request in enumerate(wanted):
        cases = []
        for facts, seen in zip(seats, observed[2 * number: 2 * number + 2], strict=True):
            report = explain(context, facts, request, seen, neighbours)
            if facts is seats[0]:
                reports.append(report)
            if seen is not None and seen.python:
                seat = replace(facts.seat, interpreter=as_observed(facts.seat.interpreter, seen))
                case = Case(context.machine, seat, seen, neighbours)
                cases.append((case, judge_import(case)))
        if len(cases) == 2:
            (here, one), (there, two) = cases
            comparisons.append(compare_imports(here, there, one, two))
    notes = _notes(seats[0], requests, context.machine)
    if len(comparisons) < len(wanted):
        stuck = next((f.seat.ref for f in seats if f.seat.launch is None), seats[1].seat.ref)
        notes = (*notes, Note("not-compared", f"There is nothing to compare with: {stuck} cannot run."))
    return WhyAnswer(seats[0].seat, tuple(reports), notes, tuple(comparisons))


def _added(context: SeatContext, facts: SeatFacts) -> Sequence[tuple[str, bool]]:
    """Return the folders that code in a running Python has put on its path; none for other seats."""
    if facts.live is None:
        return ()
    from kalyx.core.facts.seats.live import added_folders

    return added_folders(context.machine, facts)


def begin_attempt(context: SeatContext, seat: Seat, request: tuple[str, str | None], limit: float,
                  added: Sequence[tuple[str, bool]] = ()) -> Attempt | None:
    """Begin to try one import at a seat; None when the seat has nothing that could run it.

    The folders that were `added` are put on the path first (True: at its front).
    """
    runnable = seat.interpreter is not None and seat.interpreter.may_start
    if seat.launch is None or not runnable:
        return None
    return Attempt(context.machine, seat.launch, seat.interpreter, context.examiner.probe_folder, *request, limit,
                   added)


def observe_request(context: SeatContext, seat: Seat, request: tuple[str, str | None], limit: float,
                    added: Sequence[tuple[str, bool]] = ()) -> Observation | None:
    """Try one import at a seat, as `begin_attempt` does; None when the seat has nothing that could run it."""
    attempt = begin_attempt(context, seat, request, limit, added)
    return attempt.result() if attempt else None


def explain(context: SeatContext, facts: SeatFacts, request: tuple[str, str | None],
            observed: Observation | None, neighbours: Neighbours) -> ImportReport:
    """Judge what was seen of one import."""
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.verdicts.judge_import import judge_import

    seat = facts.seat
    if observed is None or observed.outcome == "no-start" or (observed.outcome == "hang" and not observed.python):
        return _not_begun(context, facts, request, observed, neighbours)
    seat = replace(seat, interpreter=as_observed(seat.interpreter, observed))
    case = Case(context.machine, seat, observed, neighbours)
    return judge_import(with_newer_parser(context, case, neighbours))


def with_newer_parser(context: SeatContext, case: Case, neighbours: Neighbours) -> Case:
    """Return the case with what a newer Python makes of the file at which the import ended, where it cannot be parsed.

    An interpreter is run for that, for no longer than any that is asked who it is.
    """
    error = case.obs.error
    if error is None or not error.is_syntax:
        return case
    from kalyx.core.facts.imports.newer_parser import newer_parser

    found = newer_parser(case, lambda: neighbours.environments, context.run_isolated, context.examiner.limit)
    return case.but(replace(case.obs, parsed_by=found)) if found else case


def _not_begun(context: SeatContext, facts: SeatFacts, request: tuple[str, str | None],
               observed: Observation | None, neighbours: Neighbours) -> ImportReport:
    """Report an import that could not even be tried."""
    from kalyx.core.verdicts.seats.interpreter import interpreter_broken, report_without_run

    stopping = tuple(f for f in facts.seat.findings if f.severity == "error")
    broken = interpreter_broken(facts, context.machine, observed, ender_of(context, facts, observed),
                                lambda: neighbours.bases) \
        if observed is not None else None
    return report_without_run(context.machine, facts, *request, (broken,) if broken else stopping, neighbours)


def ender_of(context: SeatContext, facts: SeatFacts, observed: Observation) -> StartEnder | None:
    """Look for what ends an interpreter at its start, in no more time than the import itself took or had."""
    seat = facts.seat
    if observed.outcome not in ("no-start", "hang") or seat.launch is None or seat.interpreter is None:
        return None
    from kalyx.core.facts.search_path.startup_code import find_ender

    return find_ender(context.machine, seat.launch, seat.interpreter, observed, context.examiner.limit)


def as_observed(interpreter: Interpreter | None, observed: Observation) -> Interpreter | None:
    """Correct what was read of an interpreter by what it said of itself when it ran."""
    said = observed.python
    if interpreter is None or said is None:
        return interpreter
    return replace(interpreter, version=said.version, implementation=said.implementation,
                   prefix=said.prefix, base_prefix=said.base_prefix, known_by="asked")


def _notes(facts: SeatFacts, requests: Sequence[str], machine: Machine) -> tuple[Note, ...]:
    notes = [Note("distribution-name", f"{r!r} cannot stand in an import; it was taken as "
                  f"{parse_request(r)[0]}.") for r in requests if "-" in r]
    for folder in (machine.absolute(r) for r in requests if r.isidentifier()):
        if machine.is_folder(folder) and not machine.is_file(machine.path.join(folder, "__init__.py")):
            notes.append(Note("folder-of-that-name", f"{folder} is a folder here, too: all that the code in it "
                              f"imports is explained by kalyx why {machine.path.basename(folder)}/", folder))
    if facts.notebook is not None and not facts.notebook.trouble and facts.notebook.name is None:
        notes.append(Note("notebook-names-no-kernel", f"{facts.notebook.path} names no kernel, so "
                          "what would run it depends on the server.", facts.notebook.path))
    if facts.kernel is not None and facts.seat.launch is None and not facts.kernel.trouble \
            and facts.kernel.language.lower() not in ("", "python"):
        notes.append(Note("other-language", f"The kernel {facts.kernel.name} is of the language "
                          f"{facts.kernel.language}.", facts.kernel.spec))
    interpreter = facts.seat.interpreter
    if interpreter is not None and interpreter.known_by == "other":
        notes.append(Note("not-a-python", f"{interpreter.path} was not run: {interpreter.trouble}.", interpreter.path))
    if facts.seat.kind == "shell" and facts.seat.interpreter is None:
        notes.append(Note("no-python", "PATH has neither python nor python3.", None))
    return tuple(notes)
