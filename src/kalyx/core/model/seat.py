"""Seats: the places that Python is run from."""

from __future__ import annotations

from kalyx.core.lean.record import record
from kalyx.core.model.live import THIS_KERNEL

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.model.finding import Finding, TrailStep
    from kalyx.core.model.kinds import SeatKind
    from kalyx.core.model.python import Environment, Interpreter

__all__ = ["Agreement", "Launch", "Script", "Seat"]


@record
class Launch:
    """How the seat starts Python: program and flags, variables, folder.

    ``start`` is what the first entry of sys.path will be: a folder, or ``""``
    for the working folder as with ``-c``. ``main`` is the script's own file. ``start_behind``: the start folder stands
    behind the standard library, before the site folders, as notebook kernels put it.
    """

    argv: tuple[str, ...]
    env: Mapping[str, str]
    cwd: str
    start: str = ""
    main: str | None = None
    start_behind: bool = False


@record
class Script:
    """A command that belongs to some interpreter, such as ``pip``.

    ``module`` is what it has that interpreter run, where it is a wrapper; ``trouble`` says why no interpreter is
    named, and ``cannot_start`` whether that is because there is none.
    """

    name: str
    path: str
    interpreter: Interpreter | None
    trail: tuple[TrailStep, ...] = ()
    trouble: str = ""
    module: str | None = None
    cannot_start: bool = False


@record
class Seat:
    """A place that Python is run from, and what was found out about it."""

    ref: str
    kind: SeatKind
    label: str
    interpreter: Interpreter | None = None
    environment: Environment | None = None
    trail: tuple[TrailStep, ...] = ()
    findings: tuple[Finding, ...] = ()
    scripts: tuple[Script, ...] = ()
    launch: Launch | None = None

    @property
    def is_this_kernel(self) -> bool:
        """Whether it is the running Python in which Kalyx was asked."""
        return self.label == THIS_KERNEL

    @property
    def all_findings(self) -> tuple[Finding, ...]:
        """What was found about it, and about the health of its environment."""
        return (*self.findings, *(self.environment.findings if self.environment else ()))

    @property
    def cannot_run(self) -> bool:
        """Whether it is there, and was found not to run; a path that was named and is not there is no seat."""
        named = self.kind == "python" and self.interpreter is not None and self.interpreter.known_by == "gone" \
            and len(self.trail) == 0
        return not named and any(f.is_problem for f in self.findings)


@record
class Agreement:
    """Which seats share an environment. ``agree`` is None when too little is known."""

    agree: bool | None
    groups: tuple[tuple[str, ...], ...] = ()
    findings: tuple[Finding, ...] = ()
