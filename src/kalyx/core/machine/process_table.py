"""The live processes, as psutil reads them from the system."""

from __future__ import annotations

import os

import psutil

from kalyx.core.model.process import RawProcess

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

__all__ = ["read_process", "read_processes"]


def read_processes() -> list[RawProcess]:
    """Read every live process that has a command line, and those that are closed to us."""
    read = (_read(p) for p in psutil.process_iter())
    return [p for p in read if p is not None and (p.argv or p.closed)]


def read_process(pid: int) -> RawProcess | None:
    """Read one live process; None when there is none of that number."""
    try:
        return _read(psutil.Process(pid))
    except psutil.Error:
        return None


def _read(process: Any) -> RawProcess | None:
    def get(name: str) -> Any:
        try:
            return getattr(process, name)()
        except (psutil.Error, OSError):
            return None

    try:
        argv = process.cmdline()
    except psutil.AccessDenied:
        return RawProcess(process.pid, None, (), None, None, None, None, get("username"), closed=True)
    except (psutil.Error, OSError):  # it ended meanwhile
        return None
    try:
        program = os.readlink(f"/proc/{process.pid}/exe")  # with its " (deleted)", where it is so
    except OSError:
        program = get("exe")
    return RawProcess(process.pid, get("ppid"), tuple(argv), program or None, get("cwd"),
                      get("environ"), get("create_time"), get("username"), _owner(process))


def _owner(process: Any) -> int | None:
    try:
        return int(process.uids().real)
    except (psutil.Error, OSError, AttributeError):
        return None
