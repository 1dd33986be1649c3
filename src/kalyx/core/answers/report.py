"""``report``: all that is known of a folder's seats, for one page. Everything is read; nothing of the folder is run."""

from __future__ import annotations

from kalyx.core.answers.envs import answer_envs
from kalyx.core.answers.here import answer_here
from kalyx.core.answers.kernels import answer_kernels
from kalyx.core.answers.packages import answer_packages
from kalyx.core.answers.weigh import answer_weigh
from kalyx.core.answers.why.files import answer_files
from kalyx.core.errors import KalyxError, NothingToJudge
from kalyx.core.lean.record import record
from kalyx.core.model import Note

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable

    from kalyx.core.answers.envs import EnvsAnswer
    from kalyx.core.answers.here import HereAnswer
    from kalyx.core.answers.kernels import KernelsAnswer
    from kalyx.core.answers.packages import PackagesAnswer
    from kalyx.core.answers.weigh import WeighAnswer
    from kalyx.core.answers.why.module import WhyAnswer
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.model import Finding

__all__ = ["Gathered", "ReportAnswer", "gather"]

MOST_SEATS = 40  # of which packages are listed, and environments weighed


@record
class Gathered:
    """What a report is made of. ``code`` is None where the folder has no code; one of ``packages`` an environment."""

    folder: str
    here: HereAnswer
    kernels: KernelsAnswer
    envs: EnvsAnswer
    packages: tuple[PackagesAnswer, ...]
    weights: tuple[WeighAnswer, ...]
    code: WhyAnswer | None
    notes: tuple[Note, ...] = ()

    @property
    def findings(self) -> tuple[Finding, ...]:
        """All that is wrong, each once: what the seats disagree on first, then seats, code, kernels, environments."""
        found = [*self.here.findings, *[f for s in self.here.seats for f in s.all_findings]]
        found += [f for r in self.code.imports for f in r.causes[:1]] if self.code is not None else []
        found += [f for k in self.kernels.kernels for f in k.kernel.all_findings]
        found += [f for e in self.envs.environments for f in e.environment.findings]
        found += [f for p in self.packages for f in p.findings]
        return tuple({f.because: f for f in found if f.is_problem}.values())


@record
class ReportAnswer:
    """A report that was written: where, how many bytes, and how much is wrong."""

    path: str
    bytes: int
    findings: tuple[Finding, ...]
    notes: tuple[Note, ...] = ()

    @property
    def status(self) -> str:
        """Whether something is wrong."""
        return "problem" if self.findings else "ok"


def gather(context: SeatContext, progress: Callable[[str], object] = bool) -> Gathered:
    """Read all that a report of the context's folder shows; what cannot be found out is a note.

    Raises:
        NothingToJudge: the folder is not there.
    """
    notes: list[Note] = []
    progress("the seats …")
    here = answer_here(context)
    progress("the code …")
    code: WhyAnswer | None = None
    try:
        code = answer_files(context, [context.folder], None, 60.0, run=False)
    except NothingToJudge:  # there is none
        pass
    progress("kernels and environments …")
    kernels, envs = answer_kernels(context), answer_envs(context)
    packages: dict[str, PackagesAnswer] = {}
    weights: list[WeighAnswer] = []
    for seat in here.seats[:MOST_SEATS]:
        environment = seat.environment
        if environment is None or environment.path in packages:
            continue
        progress(f"{environment.path} …")
        try:
            packages[environment.path] = answer_packages(context, seat.ref, conflicts=True)
            weights.append(answer_weigh(context, seat.ref))
        except KalyxError as error:
            notes.append(Note("not-reported", f"{seat.ref}: {error.message}", environment.path))
    return Gathered(context.folder, here, kernels, envs, tuple(packages.values()), tuple(weights), code,
                    (*here.notes, *(code.notes if code else ()), *notes))
