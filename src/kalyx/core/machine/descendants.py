"""Finds and ends all that a child has started, however far it has gone from us.

Every child gets a variable of its own, which its own children inherit. On
Linux, processes whose parent has ended become children of ours (a sub-reaper,
prctl(2)), so that those without the variable are found as well.
"""

from __future__ import annotations

import os
import sys

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Collection, Iterator
    from typing import Any

__all__ = ["OWN_MARK", "VARIABLE", "adopt_orphans", "end_all"]

VARIABLE = "KALYX_RUN"
OWN_MARK = f"{os.getpid()}-{os.urandom(6).hex()}"
ROUNDS = 200  # a process that starts others while it is ended
EMPTY_ROUNDS = 4  # one that was there when all were listed may have started another since, and ended: so it is not seen
SET_CHILD_SUBREAPER = 36
_adopting = False


def adopt_orphans() -> None:
    """Have processes whose parent has ended become ours, where the system can do that."""
    global _adopting
    if _adopting or sys.platform != "linux":
        return
    _adopting = True
    try:
        import _ctypes  # `ctypes` itself takes four times as long to load

        own_program: Any = None
        call = _ctypes.dlsym(_ctypes.dlopen(own_program, 0), "prctl")
        _ctypes.call_function(call, (SET_CHILD_SUBREAPER, 1, 0, 0, 0))
    except (ImportError, OSError, AttributeError):  # a Python without it: the variable still finds most
        pass


def end_all(pid: int, mark: str, others: Collection[int] = (), guard: int = 0, first: int = 0) -> None:
    """Kill a child of ours, its process group, and whatever else it has started.

    `others` are children of ours that go on, `guard` is the one that waits
    for our end, `first` the first child that we started: what is older is
    none of ours.
    """
    if hasattr(os, "killpg"):
        _kill_group(pid)
    else:
        _end_by_table(pid, mark)
        return
    if sys.platform != "linux":
        _end_by_table(pid, mark)
        return
    first = first or pid
    if _last_number() == pid == first:
        return  # nothing was started after it
    empty = 0
    for _ in range(ROUNDS):
        newest = _last_number()
        found = list(_started_by(pid, mark, others, guard, first))
        empty = 0 if found else empty + 1
        if not found and (newest == _last_number() or empty == EMPTY_ROUNDS):
            return
        for one in found:
            try:
                os.kill(one, 9)
                os.waitpid(one, os.WNOHANG)
            except OSError:  # it has ended, or is no child of ours
                pass


def _kill_group(pid: int) -> None:
    try:
        os.killpg(pid, 9)
    except OSError:
        pass


def _last_number() -> int:
    """Return the number of the newest process or thread; 0 where the system does not say."""
    try:
        with open("/proc/loadavg", "rb") as file:
            return int(file.read(200).split()[4])
    except (OSError, ValueError, IndexError):
        return 0


def _started_by(pid: int, mark: str, others: Collection[int], guard: int, first: int) -> Iterator[int]:
    """Yield the living processes that a child, which may have ended, has started."""
    own = os.getpid()
    sign = f"{VARIABLE}={mark}\0".encode()
    ours: set[int] = {pid}
    try:
        numbers = sorted(int(n) for n in os.listdir("/proc") if n.isdecimal())
    except OSError:
        return
    last = _last_number()
    for number in numbers:
        if number in (own, pid, guard, *others) or (last > first and number < first):
            continue
        status = _status(number)
        if status is None:
            continue
        parent, group, session = status
        alone = parent == own and not others  # an orphan that came to us, and nobody else can have left it
        if parent in ours or group == pid or session == pid or alone or sign in _variables(number):
            ours.add(number)
            yield number


def _status(number: int) -> tuple[int, int, int] | None:
    """Return parent, group and session of a living process; None for one that has ended."""
    try:
        with open(f"/proc/{number}/stat", "rb") as file:
            rest = file.read(4096).rpartition(b")")[2].split()
        return None if rest[0] in (b"Z", b"X") else (int(rest[1]), int(rest[2]), int(rest[3]))
    except (OSError, ValueError, IndexError):
        return None


def _variables(number: int) -> bytes:
    try:
        with open(f"/proc/{number}/environ", "rb") as file:
            return file.read(1 << 20) + b"\0"
    except OSError:
        return b""


def _end_by_table(pid: int, mark: str) -> None:
    """End a child and all with its variable by the system's table of processes."""
    import psutil

    children: list[Any] = []
    try:
        child = psutil.Process(pid)
        children = [*child.children(recursive=True), child]
    except psutil.Error:
        pass
    for process in psutil.process_iter():
        try:
            if process.environ().get(VARIABLE) == mark:
                children.append(process)
        except (psutil.Error, OSError):
            continue
    for process in children:
        try:
            process.kill()
        except (psutil.Error, OSError):  # it ended meanwhile
            pass
