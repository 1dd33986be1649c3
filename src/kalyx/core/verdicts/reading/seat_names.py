"""How a seat is called in a sentence."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.model import Seat

__all__ = ["short_name"]


def short_name(seat: Seat) -> str:
    """Name a seat in a sentence."""
    return {"shell": "the shell", "editor": f"the editor ({seat.label})"}.get(
        seat.kind, seat.label if seat.is_this_kernel else f"the {seat.kind} {seat.label}")
