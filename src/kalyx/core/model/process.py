"""Live Python processes."""

from __future__ import annotations

from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.model.finding import Finding
    from kalyx.core.model.python import Environment, Interpreter

__all__ = ["PythonProcess", "RawProcess"]


@record
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


@record
class RawProcess:
    """What the process table says of one process; None where it may not be read.

    ``program`` is the file that runs, with `` (deleted)`` behind it where the
    system says so.
    """

    pid: int
    parent: int | None
    argv: tuple[str, ...]
    program: str | None
    folder: str | None
    env: Mapping[str, str] | None
    started: float | None
    user: str | None
    owner: int | None = None  # the number of its user, where the system numbers them
    closed: bool = False  # its command line may not be read, so nobody can say what it runs
