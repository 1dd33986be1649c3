"""What a machine answers with: what a file is, how a child ended, a child that was started."""

from __future__ import annotations

from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any, Protocol
else:
    Protocol = object

__all__ = ["Begun", "Ended", "FileInfo", "RunResult", "around"]


@record
class FileInfo:
    """What `stat` says: ``kind`` is file, folder, link or other."""

    kind: str
    mode: int
    owner: int
    size: int
    modified: float = 0.0
    key: tuple[int, int] = (0, 0)
    group: int = 0


@record
class RunResult:
    """How a child ended. ``status`` is negative for a signal, None when it could not start."""

    status: int | None
    out: bytes
    err: bytes
    timed_out: bool
    seconds: float
    why_not: str = ""
    folder_closed: bool = False  # it was the working folder that could not be entered

    def text(self) -> str:
        """Return what it printed to standard output, decoded with replacement."""
        return self.out.decode("utf-8", "replace")

    def complaint(self) -> str:
        """Return the line of standard error that says most: a traceback's last, else the first."""
        text = self.err.decode("utf-8", "replace")
        lines = [ln.strip() for ln in text.splitlines() if ln.strip()]
        fatal = [ln for ln in lines if ln.startswith("Fatal Python error")]
        if fatal:
            return fatal[0]
        return next(iter(reversed(lines) if "Traceback" in text else lines), "")


def around(data: Any, mark: bytes, most: int) -> list[tuple[bytes, bytes]]:
    """Return the byte before and 24 bytes after each `mark` in data, the first `most` times."""
    found: list[tuple[bytes, bytes]] = []
    place = data.find(mark)
    while place >= 0 and len(found) < most:
        end = place + len(mark)
        found.append((data[max(place - 1, 0): place], data[end: end + 24]))
        place = data.find(mark, end)
    return found


class Begun(Protocol):
    """A child that was started."""

    def ended(self) -> bool:
        """Whether it has come to its end."""

    def result(self) -> RunResult:
        """Wait for its end; return how it ended."""

    def end(self) -> None:
        """End it and all that it started, without waiting for a result."""


class Ended:
    """A child that has ended already, on a machine that knows its answers."""

    def __init__(self, result: RunResult) -> None:
        self._result = result

    def ended(self) -> bool:
        """Return True."""
        return True

    def result(self) -> RunResult:
        """Return how it ended."""
        return self._result

    def end(self) -> None:
        """Do nothing: it has ended."""
