"""What the state of a running Python adds to what an import does in a new process."""

from __future__ import annotations

from kalyx.core.facts.imports.case import Case
from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.lean.record import replace
from kalyx.core.model import Observation
from kalyx.core.verdicts.seats.live import imports_anew, replaced_modules

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.environments.neighbours import Neighbours
    from kalyx.core.facts.seats.context import SeatContext, SeatFacts
    from kalyx.core.model import ImportReport, LivePython

__all__ = ["with_state"]


def with_state(context: SeatContext, facts: SeatFacts, live: LivePython, report: ImportReport,
               neighbours: Neighbours) -> ImportReport:
    """Return a report with what stands in the way in the process itself, before all else."""
    top = top_level(report.module)
    brought = report.distribution
    now = f"; {brought.name} {brought.version} is there now" if brought is not None else ""
    found = replaced_modules(live.changed_of({top}), live, now)
    if found is None and report.outcome == "imports" and report.origin and top not in live.loaded:
        observed = Observation(report.module, report.name, "imports", live.python, origin=report.origin)
        case = Case(context.machine, facts.seat, observed, neighbours)
        if report.origin != "built-in" and not case.modules.candidates(top) and case.modules.hooked(top) is None:
            found = imports_anew(case, live, observed, {top})
    return report if found is None else replace(report, causes=(found, *report.causes))
