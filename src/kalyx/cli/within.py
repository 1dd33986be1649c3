"""Kalyx asked from within a running Python: whose seat is meant where none is named, and where pages go."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.model import LivePython
    from kalyx.show.page import Page

__all__ = ["Within", "asked_within", "begin_within", "default_seat"]


class Within:
    """The process that asks, as it told of itself, and the pages that it gets."""

    def __init__(self, live: LivePython) -> None:
        self.live = live
        self.pages: list[Page] = []

    def context(self, context: SeatContext) -> SeatContext:
        """Return what finding seats needs, with the seat of this process."""
        from kalyx.core.facts.seats.live import within

        return within(context, self.live)


_within: list[Within] = []


def begin_within(live: LivePython) -> Within:
    """Have commands answer for a running Python from now on; return what collects their pages."""
    _within[:] = [Within(live)]
    return _within[0]


def asked_within() -> Within | None:
    """Return the process that asks; None where Kalyx was started as a command."""
    return _within[0] if _within else None


def default_seat() -> str:
    """Return the seat that is meant where none is named: the process that asks, else the shell."""
    if not _within:
        return "shell"
    from kalyx.core.facts.seats.live import live_ref

    return live_ref(_within[0].live)
