"""Waiting for a child by threads, for the systems that cannot be asked for all of it at once."""

from __future__ import annotations

import os

from kalyx.core.machine.kept_output import Kept
from kalyx.core.machine.threads import begin

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable

__all__ = ["ThreadedWait"]


class ThreadedWait:
    """Waits for a child and drains its outputs in threads, where nothing can be asked of all three at once."""

    def __init__(self, out: int, err: int, wait: Callable[[], int], most: int) -> None:
        """Take the reading ends of its outputs, of which `most` bytes are kept, and what waits for its end."""
        self._out, self._err = _Drain(out, most), _Drain(err, most)
        self._waiting = begin(wait)  # the system's own wait has no limit

    def ended(self, limit: float) -> bool:
        """Wait for the end, at most `limit` seconds; return whether it came."""
        self._waiting.join(limit if limit >= 0 else None)
        return not self._waiting.is_alive()

    def outputs(self) -> tuple[bytes, bytes]:
        """Return what it printed, once it has ended."""
        return self._out.finish(), self._err.finish()

    def printed(self) -> tuple[bytes, bytes]:
        """Return what it has printed so far."""
        return self._out.kept.text(), self._err.kept.text()


class _Drain:
    """Reads a pipe to its end in a thread and keeps the beginning and the end of it."""

    def __init__(self, pipe: int, most: int) -> None:
        self._pipe = pipe
        self.kept = Kept(most)
        self._thread = begin(self._read)

    def _read(self) -> None:
        try:
            while chunk := os.read(self._pipe, 65536):
                self.kept.add(chunk)
        except (OSError, ValueError):
            pass

    def finish(self) -> bytes:
        # A grandchild outside the group may keep the pipe open: do not wait for it.
        self._thread.join(0.5)
        if not self._thread.is_alive():
            os.close(self._pipe)
        return self.kept.text()
