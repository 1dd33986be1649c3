"""What is kept of a stream that may be of any length: its beginning and its end."""

from __future__ import annotations

__all__ = ["Kept"]

LEFT_OUT = b"\n[...]\n"


class Kept:
    """The first and the last bytes of a stream, `most` together."""

    def __init__(self, most: int) -> None:
        self._half = most // 2
        self._first = bytearray()
        self._last = bytearray()
        self._lost = False

    def add(self, chunk: bytes) -> None:
        """Take the next bytes of the stream."""
        room = self._half - len(self._first)
        if room > 0:
            self._first += chunk[:room]
            chunk = chunk[room:]
        self._last += chunk
        if len(self._last) > 2 * self._half:
            del self._last[:-self._half]
            self._lost = True

    def text(self) -> bytes:
        """Return what is kept, with a mark where something was left out."""
        lost = self._lost or len(self._last) > self._half
        return bytes(self._first + (LEFT_OUT + self._last[-self._half:] if lost else self._last))
