"""Copies of this process, which have all that it has loaded and do a share of its work (fork(2)).

They are had for nothing where the system makes them, and no other threads are: these are not copied.
"""

from __future__ import annotations

import _signal  # all of `signal` that is needed, and loaded already
import marshal
import os
import sys

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence
    from typing import Any

__all__ = ["Copy", "can_copy_itself", "end_if_left", "shared_out"]

MOST_TURNS = 16_000  # that wait to be taken: a pipe holds as many
_asked_by = 0  # the process that a copy works for


def can_copy_itself() -> bool:
    """Whether a copy of this process would be whole, and have a processor to run on."""
    if sys.platform != "linux" or (os.cpu_count() or 1) < 2:
        return False
    try:
        return len(os.listdir("/proc/self/task")) == 1  # threads of compiled code count, too
    except OSError:
        return False


def end_if_left() -> None:
    """End this process where it is a copy, and who waits for it has been ended meanwhile: to be asked now and then."""
    if _asked_by and os.getppid() != _asked_by:
        os._exit(1)


class Copy:
    """A copy of this process that is at work; what comes of it can be written by `marshal`."""

    def __init__(self, work: Callable[[], Any]) -> None:
        self._pid = 0  # 0: there is none, as the system had no room for it
        own = os.getpid()
        try:
            self._reading, writing = os.pipe()
        except OSError:
            return
        try:
            self._pid = os.fork()
        except OSError:
            os.close(self._reading)
            os.close(writing)
            return
        if self._pid:
            os.close(writing)
            return
        try:
            global _asked_by
            _asked_by = own
            for number in (_signal.SIGHUP, _signal.SIGINT, _signal.SIGTERM):  # to tidy up is the other's part
                _signal.signal(number, _signal.SIG_DFL)
            os.close(self._reading)
            data = memoryview(marshal.dumps(work()))
            while data:
                data = data[os.write(writing, data):]
        finally:
            os._exit(0)  # whatever it was: nothing that this process does at its end is the copy's to do

    def result(self) -> Any:
        """Wait for it, and return what came of its work; None where it was ended, or there was none."""
        if not self._pid:
            return None
        with open(self._reading, "rb") as file:
            data = file.read()
        os.waitpid(self._pid, 0)
        self._pid = 0
        try:
            return marshal.loads(data)
        except (ValueError, EOFError, TypeError):
            return None


def shared_out(work: Callable[[Any], Any], parts: Sequence[Any], count: int,
               meanwhile: Callable[[], object] = bool) -> dict[int, Any]:
    """Return what `work` makes of each part, by their numbers; `count` processes take one part after the other.

    This one is among them, when it has done what there is to do `meanwhile`: whoever is sooner does more. What a copy
    that was ended had taken is not in it.
    """
    waiting, written = os.pipe()
    try:
        for number in range(min(len(parts), MOST_TURNS)):
            os.write(written, number.to_bytes(2, "big"))
    finally:
        os.close(written)

    def take() -> dict[int, Any]:
        found = {}
        while turn := os.read(waiting, 2):
            end_if_left()
            number = int.from_bytes(turn, "big")
            found[number] = work(parts[number])
        return found

    try:
        copies = [Copy(take) for _ in range(count - 1)]
        meanwhile()
        done = take()
    finally:
        os.close(waiting)
    for copy in copies:
        done.update(copy.result() or ())
    return done
