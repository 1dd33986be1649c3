"""``fit --prove``: all that code imports, imported for real in the environments that have it."""

from __future__ import annotations

from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.seats.environment import env_seat
from kalyx.core.lean.record import replace

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator, Sequence

    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.facts.source_code.code_needs import CodeNeeds
    from kalyx.core.model import FitOfEnvironment, Interpreter, Launch, Observation, Seat
    from kalyx.core.verdicts.fit.own_modules import OwnModules

__all__ = ["proven", "requests_of"]

MOST_PROVEN = 8  # environments in which all is imported
MOST_AT_ONCE = 200  # imports that one child is asked for: a line of Windows has room for them


def requests_of(code: Iterable[CodeNeeds], own: OwnModules) -> list[str]:
    """Return the modules, and the names of modules, that code asks for wherever it runs; none of its own.

    Each module comes before its names.
    """
    modules: dict[str, None] = {}
    names: dict[str, None] = {}
    for file in code:
        is_own = own.beside(file)
        for item in file.imports:
            is_sure = item.guard not in ("try", "typing") and not item.only_where and not item.marker
            if not is_sure or item.module.startswith(".") or is_own(item.module, item.name, lambda name: True):
                continue
            modules[item.module] = None
            names[item.request] = None
    return list(dict.fromkeys((*modules, *names)))


def proven(context: SeatContext, found: Sequence[FitOfEnvironment], requests: Sequence[str], folder: str, limit: float,
           progress: Callable[[str], object]) -> list[FitOfEnvironment]:
    """Import everything in each environment that fits, several at once; in the first of them, where there are many.

    `folder` is where the code runs; `limit` is in seconds, for one environment.
    """
    fitting = [f for f in found if f.fits][:MOST_PROVEN]
    progress(f"importing everything in {len(fitting)} environment{'s' if len(fitting) != 1 else ''} …")
    done = context.machine.in_parallel(lambda one: _prove(context, one, requests, folder, limit), fitting)
    by_path = {p.environment.path: p for p in done}
    return [by_path.get(f.environment.path, f) for f in found]


def _prove(context: SeatContext, one: FitOfEnvironment, requests: Sequence[str], folder: str, limit: float
           ) -> FitOfEnvironment:
    facts = env_seat(context, one.environment.path)
    interpreter: Interpreter | None = facts.seat.interpreter
    if interpreter is None or not interpreter.may_start or facts.seat.launch is None:
        return one
    launch = replace(facts.seat.launch, cwd=folder, start=folder)
    seat = replace(facts.seat, launch=launch)
    asked = [n.module for n in one.needs if n.module and not n.optional and n.module not in one.spared]
    wanted = list(dict.fromkeys(("sys", *asked, *requests)))  # with nothing else asked for, it starts at all
    seen = _observed(context, launch, interpreter, wanted, limit)
    failed: set[str] = set()
    breaks = []
    for request, observed in seen.items():
        module, _, name = request.partition(":")
        if observed.outcome == "imports" or any(module == f or module.startswith(f + ".") for f in failed):
            continue
        failed |= {module} if not name else set()
        breaks.append(f"{f'{name} of {module}' if name else module} does not import: {_why(context, seat, observed)}")
    return replace(one, proven=not breaks and len(seen) == len(wanted), breaks=tuple(breaks))


def _observed(context: SeatContext, launch: Launch, interpreter: Interpreter, wanted: Sequence[str], limit: float
              ) -> dict[str, Observation]:
    from kalyx.core.facts.imports.trial import observe_imports

    seen: dict[str, Observation] = {}
    for part in _parts(wanted):
        seen.update(observe_imports(context.machine, launch, interpreter, context.examiner.probe_folder, part, limit))
    return seen


def _parts(wanted: Sequence[str]) -> Iterator[Sequence[str]]:
    for first in range(0, len(wanted), MOST_AT_ONCE):
        yield wanted[first:first + MOST_AT_ONCE]


def _why(context: SeatContext, seat: Seat, observed: Observation) -> str:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.verdicts.judge_import import judge_import

    case = Case(context.machine, seat, observed, Neighbours(context.machine, context))
    causes = [f for f in judge_import(case).causes if f.is_problem]
    return causes[0].because if causes else observed.outcome
