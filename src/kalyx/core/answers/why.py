"""``why``: what an import does at a seat, and why it fails there."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace

from kalyx.core.answers.seats import judge_seat
from kalyx.core.errors import WrongUsage
from kalyx.core.facts.cases import Case, Neighbours
from kalyx.core.facts.observations import observe_import
from kalyx.core.facts.seats import SeatFacts, SeatFinder
from kalyx.core.model import ImportReport, Note, Seat
from kalyx.core.verdicts.imports import judge_import, report_without_run
from kalyx.core.verdicts.interpreter import interpreter_broken

__all__ = ["WhyAnswer", "answer_why", "parse_request"]


@dataclass(frozen=True)
class WhyAnswer:
    """The answers for the modules that were asked for, and the seat that they were tried in."""

    seat: Seat
    imports: tuple[ImportReport, ...]
    notes: tuple[Note, ...] = ()

    @property
    def status(self) -> str:
        """Whether all import, one does not, or none could be tried."""
        if any(r.outcome == "fails" or any(f.is_problem for f in r.causes) for r in self.imports):
            return "problem"
        return "ok" if all(r.outcome == "imports" for r in self.imports) else "unknown"


def parse_request(text: str) -> tuple[str, str | None]:
    """Split ``X`` or ``X:y`` into module and name.

    Raises:
        WrongUsage: it is not a dotted name.
    """
    module, colon, name = text.partition(":")
    if not re.fullmatch(r"[^\W\d]\w*(\.[^\W\d]\w*)*", module) or (
            colon and not re.fullmatch(r"[^\W\d]\w*", name)):
        hint = "Write a module as in an import: name, package.part, or package:name."
        if re.fullmatch(r"[\w.-]+", text) and "-" in text:
            hint = ("That looks like the name of a distribution; write the module as in an "
                    f"import, perhaps {text.replace('-', '_')}.")
        raise WrongUsage(f"{text!r} is not the name of a module.", hint)
    return module, name or None


def answer_why(finder: SeatFinder, requests: Sequence[str], seat_ref: str,
               limit: float) -> WhyAnswer:
    """Import each module at the seat, in a child of its own, and explain what happened.

    Raises:
        WrongUsage: a request is no module name.
        NothingToJudge: there is no such seat.
    """
    wanted = [parse_request(r) for r in requests]
    facts = finder.resolve(seat_ref)
    neighbours = Neighbours(finder.machine, finder.environments)
    seat = judge_seat(facts, finder, neighbours)
    facts = replace(facts, seat=seat)

    def explain(request: tuple[str, str | None]) -> ImportReport:
        return explain_import(finder, facts, request, neighbours, limit)

    reports = finder.machine.in_parallel(explain, wanted)
    return WhyAnswer(seat, tuple(reports), _notes(facts))


def explain_import(finder: SeatFinder, facts: SeatFacts, request: tuple[str, str | None],
                   neighbours: Neighbours, limit: float) -> ImportReport:
    """Try one import at a seat and judge what was seen."""
    module, name = request
    seat = facts.seat
    stopping = tuple(f for f in seat.findings if f.severity == "error")
    runnable = seat.interpreter is not None and seat.interpreter.known_by not in ("gone", "broken")
    if seat.launch is None or not runnable:
        return report_without_run(seat, module, name, stopping, facts)
    observed = observe_import(finder.machine, seat.launch, finder.examiner.probe_folder, module,
                              name, limit)
    if observed.outcome == "no-start" or (observed.outcome == "hang" and not observed.who):
        broken = interpreter_broken(facts, finder.machine, observed)
        return report_without_run(seat, module, name, (broken,) if broken else stopping, facts)
    return judge_import(Case(finder.machine, seat, observed, neighbours))


def _notes(facts: SeatFacts) -> tuple[Note, ...]:
    notes = []
    if facts.notebook is not None and not facts.notebook.trouble and facts.notebook.name is None:
        notes.append(Note("notebook-names-no-kernel", f"{facts.notebook.path} names no kernel, so "
                          "what would run it depends on the server.", facts.notebook.path))
    if facts.kernel is not None and facts.seat.launch is None and not facts.kernel.trouble \
            and facts.kernel.language.lower() not in ("", "python"):
        notes.append(Note("other-language", f"The kernel {facts.kernel.name} is of the language "
                          f"{facts.kernel.language}.", facts.kernel.spec))
    if facts.seat.kind == "shell" and facts.seat.interpreter is None:
        notes.append(Note("no-python", "PATH has neither python nor python3.", None))
    return tuple(notes)
