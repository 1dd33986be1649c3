"""Ends the contexts of sockets (ZeroMQ), which wait for every socket that was made in them."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

__all__ = ["end_context", "is_interrupt"]

_left: list[Any] = []  # what is thrown away is ended by its library, which may wait for ever


def is_interrupt(kind: type[BaseException] | None) -> bool:
    """Whether an error came from outside, at any moment: a socket may be half made then."""
    return kind is not None and not issubclass(kind, Exception)


def end_context(context: Any, *, interrupted: bool) -> None:
    """End a context whose sockets are closed. Where it was `interrupted` it is left, to end with this process."""
    if interrupted:
        _left.append(context)
    else:
        context.term()
