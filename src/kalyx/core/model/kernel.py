"""Notebook kernels as registered, and the proof that one answers."""

from __future__ import annotations

from kalyx.core.lean.record import field, record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.model.finding import Finding, TrailStep
    from kalyx.core.model.python import Environment, Interpreter

__all__ = ["Kernel", "Proof"]


@record
class Kernel:
    """A kernelspec. ``scope`` is user, env, system or path; ``trouble`` says what is wrong with it."""

    name: str
    label: str
    spec: str
    scope: str
    argv: tuple[str, ...] = ()
    env: Mapping[str, str] = field(default_factory=dict)
    language: str = ""
    interpreter: Interpreter | None = None
    environment: Environment | None = None
    findings: tuple[Finding, ...] = ()
    trail: tuple[TrailStep, ...] = ()
    trouble: str = ""
    provisioner: str = ""  # what is to start it, where that is named

    @property
    def all_findings(self) -> tuple[Finding, ...]:
        """What was found about it, and about the health of its environment."""
        return (*self.findings, *(self.environment.findings if self.environment else ()))

    @property
    def folder(self) -> str:
        """The folder of kernel.json (what ``{resource_dir}`` stands for)."""
        cut = max(self.spec.rfind("/"), self.spec.rfind("\\"))
        return self.spec[:cut]


@record
class Proof:
    """What a started kernel said of itself, over the messaging protocol."""

    asked: str
    answered: bool
    executable: str | None = None
    prefix: str | None = None
    seconds: float | None = None
    trouble: str = ""
    pip: str | None = None  # the pip that a command in a cell would run
