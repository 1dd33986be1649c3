"""Ends a command that only looks where its own work has no end in sight."""

from __future__ import annotations

import _signal as signal  # `signal` itself loads what takes as long as the rest of a start
import sys

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

__all__ = ["Bound", "Overdue"]

LOOKING = ("here", "why", "envs", "packages", "running", "kernels", "ask", "fit", "contrast", "weigh", "report",
           "snapshot")
OWN_SECONDS = 30.0  # for Kalyx's own work, beside five times what a child may take
CHILD_SECONDS = 60.0


class Overdue(KeyboardInterrupt):
    """Kalyx's own work has no end in sight: it ends as by Ctrl-C, and says so."""

    def __init__(self, seconds: float) -> None:
        super().__init__(f"{seconds} s")
        self.seconds = seconds
        self.number = signal.SIGALRM


class Bound:
    """A context that a command which looks may spend so much time in as a whole; one that changes things, any time.

    Raises:
        Overdue: the time is up.
    """

    def __init__(self, options: Any) -> None:
        self._seconds = 0.0
        if options.command in LOOKING and not getattr(options, "prove", False) and hasattr(signal, "setitimer"):
            self._seconds = OWN_SECONDS + 5 * (options.timeout or CHILD_SECONDS)
        self._is_set = False
        self._before: Any = None  # stays so where what was there was not set by Python

    def __enter__(self) -> None:
        if not self._seconds:
            return
        try:
            self._before = signal.signal(signal.SIGALRM, self._end)
        except ValueError:  # not in the main thread
            return
        self._is_set = True
        signal.setitimer(signal.ITIMER_REAL, self._seconds)

    def __exit__(self, *_: object) -> None:
        if self._is_set:
            signal.setitimer(signal.ITIMER_REAL, 0)
            signal.signal(signal.SIGALRM, signal.SIG_DFL if self._before is None else self._before)

    def _end(self, *_: object) -> None:
        children = sys.modules.get("kalyx.core.machine.children")
        if children is None or not children.holds_back(signal.SIGALRM):
            raise Overdue(self._seconds)
