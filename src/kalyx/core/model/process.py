"""Live Python processes."""

from __future__ import annotations

from kalyx.core.lean.record import dataclass
from kalyx.core.model.finding import Finding
from kalyx.core.model.python import Environment, Interpreter

__all__ = ["PythonProcess"]


@dataclass(frozen=True)
class PythonProcess:
    """A process that runs Python.

    ``kind`` is kernel, server, language-server, script, module, command or
    shell (an interactive one); ``what`` names the script, module or notebook;
    ``program`` is the path that it was started by; ``folder`` where it started.
    """

    pid: int
    kind: str
    what: str
    argv: tuple[str, ...]
    folder: str | None
    interpreter: Interpreter | None
    environment: Environment | None
    connection_file: str | None = None
    notebook: str | None = None
    server: int | None = None
    started: float | None = None
    user: str | None = None
    findings: tuple[Finding, ...] = ()
    trouble: str = ""
