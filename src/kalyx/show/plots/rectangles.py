"""What takes the disk space, as nested rectangles: areas are true, small things are gathered."""

from __future__ import annotations

import os

from kalyx.core.errors import Refused
from kalyx.core.squares import divided
from kalyx.show.parts import human_size

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

    from kalyx.core.answers.weigh import WeighAnswer

__all__ = ["draw"]

WIDE, HIGH = 12.8, 8.0  # inches; at 100 dots each
DOTS = 100
SMALL = 0.004  # of the whole: what is smaller is gathered into one
MOST = 60
# From the heaviest to the lightest; each is read with white and with dark letters by its own lightness
_COLORS = ("#1d4e68", "#2a6f7f", "#3f8f86", "#6aab84", "#a0c487", "#d6d998", "#efe3b4")
_GATHERED, _FREE, _EDGE = "#b9b4a7", "#8d8a83", "#fbfaf6"


def draw(answer: WeighAnswer, file: str) -> None:
    """Draw it to a file, as PNG, SVG or PDF by its ending.

    Raises:
        Refused: Matplotlib is not installed, or the file cannot be written.
    """
    try:
        import matplotlib as mpl
    except ModuleNotFoundError:
        raise Refused("The plot needs Matplotlib, which is not installed beside Kalyx.",
                      "Install it with: pip install 'kalyx[plot]'") from None
    mpl.use("Agg")
    from matplotlib.figure import Figure

    figure = Figure(figsize=(WIDE, HIGH), dpi=DOTS, facecolor=_EDGE)
    axes = figure.add_axes((0.015, 0.02, 0.97, 0.885))
    axes.set_axis_off()
    axes.set_xlim(0, WIDE)
    axes.set_ylim(HIGH * 0.885, 0)
    figure.text(0.017, 0.955, f"{answer.environment.name}: {human_size(answer.total)} on the disk", fontsize=17,
                color="#22303a", weight="bold", va="center")
    figure.text(0.017, 0.922, _caption(answer), fontsize=10, color="#5a626a", va="center")
    for part, place in zip(_parts(answer), _places(answer), strict=True):
        _rectangle(axes, part, place)
    try:
        figure.savefig(file, format=os.path.splitext(file)[1][1:].lower(), metadata={})
    except OSError as error:
        raise Refused(f"{file} cannot be written: {error.strerror}.",
                      "Name a file in a folder that is yours.") from None


def _caption(answer: WeighAnswer) -> str:
    count = len(answer.distributions)
    free = f", {human_size(answer.unowned.bytes)} of none of them" if answer.unowned.bytes else ""
    return f"{count} distribution{'s' if count != 1 else ''}{free}; areas are true to the bytes that are allocated"


def _parts(answer: WeighAnswer) -> list[tuple[str, int, str]]:
    """Return name, bytes and color of each rectangle, the largest first."""
    total = answer.total or 1
    large = [d for d in answer.distributions if d.bytes >= total * SMALL][:MOST]
    rest = answer.distributions[len(large):]
    parts = [(f"{d.name} {d.version or ''}".strip(), d.bytes, _COLORS[min(len(_COLORS) - 1, n * len(_COLORS) // max(
        6, len(large)))]) for n, d in enumerate(large)]
    gathered = sum(d.bytes for d in rest)
    if gathered:
        parts.append((f"{len(rest)} smaller ones", gathered, _GATHERED))
    if answer.unowned.bytes:
        parts.append(("of no distribution", answer.unowned.bytes, _FREE))
    return sorted(parts, key=lambda p: -p[1])


def _places(answer: WeighAnswer) -> list[tuple[float, float, float, float]]:
    return divided([p[1] for p in _parts(answer)], (0.0, 0.0, WIDE, HIGH * 0.885))


def _rectangle(axes: Any, part: tuple[str, int, str], place: tuple[float, float, float, float]) -> None:
    """Draw one, with its name and size where they fit: smaller, in two rows, or not at all."""
    from matplotlib.patches import Rectangle

    name, size, color = part
    left, top, width, height = place
    axes.add_patch(Rectangle((left, top), width, height, facecolor=color, edgecolor=_EDGE, linewidth=1.6))
    dark = "#1b2a33" if _is_light(color) else "#ffffff"
    for points in (15, 12, 10, 8.5, 7):
        letter, row = points * 0.0088, points / 72 * 1.35  # inches that a letter and a row of it take
        for label in _labels(name, human_size(size)):
            rows = label.split("\n")
            if max(map(len, rows)) * letter < width - 0.14 and len(rows) * row < height - 0.1:
                axes.text(left + 0.08, top + 0.06, label, fontsize=points, color=dark, va="top", ha="left",
                          linespacing=1.25)
                return


def _labels(name: str, size: str) -> list[str]:
    """Return what may be written into a rectangle: all of it first, at last the name alone."""
    plain, _, version = name.partition(" ") if name[:1].isalpha() and " " in name and name.count(" ") == 1 else (
        name, "", "")
    found = [f"{name}\n{size}", *([f"{plain}\n{version}\n{size}"] if version else []), f"{plain}\n{size}", plain]
    broken = plain.replace("-", "-\n").replace("_", "_\n")
    return [*found, *([f"{broken}\n{size}", broken] if broken != plain else [])]


def _is_light(color: str) -> bool:
    red, green, blue = (int(color[n:n + 2], 16) for n in (1, 3, 5))
    return 0.299 * red + 0.587 * green + 0.114 * blue > 140
