"""Says that Kalyx is still at work, where somebody is watching and a command takes its time."""

from __future__ import annotations

import sys
import time

from kalyx.cli.options import print_error

TYPE_CHECKING = False
if TYPE_CHECKING:
    import threading

__all__ = ["Patience", "asking"]

_asked: list[bool] = []  # somebody is asked a question: then it is they who are waited for


class asking:  # noqa: N801 - it reads as what is done inside
    """A block in which a person is asked something."""

    def __enter__(self) -> None:
        _asked.append(True)

    def __exit__(self, *_: object) -> None:
        _asked.pop()


FIRST, NEXT = 3.0, 10.0  # seconds after which it is said, and between two times


class Patience:
    """A context in which a line is printed on standard error from time to time; nothing where that is no terminal."""

    def __init__(self, command: str) -> None:
        self._command = command
        self._began = time.monotonic()
        self._timer: threading.Timer | None = None

    def __enter__(self) -> Patience:
        if sys.stderr is not None and sys.stderr.isatty():
            self._wait(FIRST)
        return self

    def __exit__(self, *_: object) -> None:
        timer, self._timer = self._timer, None
        if timer is not None:
            timer.cancel()

    def _wait(self, seconds: float) -> None:
        from threading import Timer

        self._timer = Timer(seconds, self._say)
        self._timer.daemon = True
        self._timer.start()

    def _say(self) -> None:
        if self._timer is not None:
            passed = time.monotonic() - self._began
            if not _asked:
                print_error(f"{self._command}: still at work after {passed:.0f} s; Ctrl-C ends it …")
            self._wait(NEXT)
