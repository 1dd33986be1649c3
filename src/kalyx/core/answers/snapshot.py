"""``snapshot``: all facts of a seat as one document, from which another machine draws the same conclusions."""

from __future__ import annotations

from kalyx.core.answers.contrast import side_of_seat
from kalyx.core.answers.here import answer_here
from kalyx.core.answers.kernels import answer_kernels
from kalyx.core.answers.make import like_of
from kalyx.core.answers.packages import answer_packages
from kalyx.core.answers.why.module import answer_why
from kalyx.core.answers.why.without_running import answer_without_run
from kalyx.core.carried.variables import deciding
from kalyx.core.errors import KalyxError
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.native.builtin_modules import read_suffixes
from kalyx.core.facts.search_path.modules import Finder
from kalyx.core.facts.seats.finder import find_seat
from kalyx.core.lean.record import field, record, replace
from kalyx.core.model import Need, Note
from kalyx.core.verdicts.fit.judge_environment import EnvironmentJudge

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence
    from typing import Any

    from kalyx.core.answers.here import HereAnswer
    from kalyx.core.answers.kernels import KernelsAnswer
    from kalyx.core.answers.packages import PackagesAnswer
    from kalyx.core.answers.why.module import WhyAnswer
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.machine.recording import RecordingMachine
    from kalyx.core.model import Seat

__all__ = ["SnapshotAnswer", "answer_snapshot"]


@record
class SnapshotAnswer:
    """The facts of a seat. ``machine`` has the answers that were recorded; ``document`` is all of it, where it was
    made, and ``path`` where it was written, if anywhere.

    ``packages`` is None where what the seat can import cannot be told, ``why`` where no import was named.
    """

    host: str
    taken: str
    folder: str
    seat: Seat
    here: HereAnswer
    kernels: KernelsAnswer
    packages: PackagesAnswer | None
    why: WhyAnswer | None
    variables: dict[str, str]
    machine: RecordingMachine
    notes: tuple[Note, ...] = ()
    path: str = ""
    bytes: int = 0
    document: Mapping[str, Any] = field(default_factory=dict)

    @property
    def status(self) -> str:
        """Whether it was taken: what is wrong at the seat is for those to say who judge it."""
        return "ok"


def answer_snapshot(make_context: Callable[[RecordingMachine], SeatContext], machine: RecordingMachine, ref: str,
                    modules: Sequence[str], limit: float, *, host: str, taken: str) -> SnapshotAnswer:
    """Ask all that the commands which read a snapshot will ask, and keep the answers.

    `make_context` returns a context on the machine that records: each question is asked as if anew.

    Raises:
        NothingToJudge: there is no such seat.
        WrongUsage: a module's name is none.
    """
    context = make_context(machine)
    notes: list[Note] = []
    seat = find_seat(context, ref).seat
    ref = find_seat(make_context(machine), seat.ref).seat.ref  # as it is asked for elsewhere
    why = answer_why(make_context(machine), modules, ref, limit) if modules else None
    here, kernels = answer_here(make_context(machine)), answer_kernels(make_context(machine))
    packages = None
    try:
        packages = answer_packages(make_context(machine), ref, conflicts=True)
        _look_at_modules(machine, packages)
        _hold_needs(make_context(machine), packages)
        side_of_seat(make_context(machine), ref)
        answer_without_run(make_context(machine), [*modules, "kalyx"], ref)
        if seat.environment is not None:
            like_of(make_context(machine), seat.environment.path)
    except KalyxError as error:
        notes.append(Note("seat-untold", error.message))
    return SnapshotAnswer(host, taken, context.folder, seat, here, kernels, packages, why, deciding(machine.env),
                          machine, (*context.notes, *notes))


def _look_at_modules(machine: RecordingMachine, packages: PackagesAnswer) -> None:
    """Look at each module that is installed, so that it can be told of any of them where it would come from."""
    library = [n for x in packages.layers if x.layer == "stdlib" for n in machine.entries(x.path)]
    interpreter = packages.seat.interpreter
    suffixes = read_suffixes(library, interpreter.implementation if interpreter else None,
                             (interpreter.version_pair if interpreter else None) or (3, 0))
    finder = Finder(machine, tuple(suffixes))
    for one in packages.distributions:
        for module in one.modules:
            finder.find_in(one.location, module)
            place = machine.path.join(one.location, module)
            machine.key(place)
            for name in machine.scan(place)[0]:
                if name.endswith((".py", *suffixes)):
                    machine.is_file(machine.path.join(place, name))


def _hold_needs(context: SeatContext, packages: PackagesAnswer) -> None:
    """Ask what `fit` asks of an environment, for every module that is installed and for one that is not."""
    environment = packages.seat.environment
    if environment is None:
        return
    environment = replace(environment, interpreter=packages.seat.interpreter)
    judge = EnvironmentJudge(context.machine, Neighbours(context.machine), environment)
    modules = {module: one.name for one in packages.distributions for module in one.modules}
    needs = [Need(module, name) for module, name in modules.items()] + [Need("kalyx_asks_for_none", None)]
    needs += [Need(module, None, is_standard=True) for module in ("tkinter", "sqlite3", "distutils")]
    judge.lacks(needs)
    judge.unmet(needs)
