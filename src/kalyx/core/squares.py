"""Divides a rectangle into ones whose areas stand in the ratio of some numbers, each as near to a square as can be.

After Bruls, Huizing and van Wijk, "Squarified Treemaps" (2000): rows are filled along the shorter side for as long as
that makes the worst of their shapes better.
"""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    Rectangle = tuple[float, float, float, float]  # left, bottom, width, height

__all__ = ["divided"]


def divided(sizes: Sequence[float], within: Rectangle) -> list[Rectangle]:
    """Return a rectangle for each size (all above nought, the largest first), which together fill `within`."""
    left, bottom, width, height = within
    total = sum(sizes)
    if not sizes or total <= 0 or width <= 0 or height <= 0:
        return [(left, bottom, 0.0, 0.0) for _ in sizes]
    areas = [s * width * height / total for s in sizes]
    found: list[Rectangle] = []
    while areas:
        side = min(width, height)
        count = 1
        while count < len(areas) and _worst(areas[:count + 1], side) <= _worst(areas[:count], side):
            count += 1
        row, areas = areas[:count], areas[count:]
        thick = sum(row) / side if side else 0.0
        at = 0.0
        for area in row:
            long = area / thick if thick else 0.0
            found.append((left, bottom + at, thick, long) if width >= height else (left + at, bottom, long, thick))
            at += long
        if width >= height:
            left, width = left + thick, width - thick
        else:
            bottom, height = bottom + thick, height - thick
    return found


def _worst(row: Sequence[float], side: float) -> float:
    """Return the worst ratio of sides in a row of areas that is laid along a side."""
    total = sum(row)
    return max(max(side * side * a / (total * total), total * total / (side * side * a)) for a in row)
