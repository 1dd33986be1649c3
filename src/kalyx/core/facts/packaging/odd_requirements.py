"""What a list asks for in no form that is one (PEP 508), or without a name: it is told, and the rest counts."""

from __future__ import annotations

from itertools import islice

from kalyx.core.errors import ONLY_IN_PART
from kalyx.core.facts.packaging.requirements import is_requirement

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    from kalyx.core.facts.files import Files

__all__ = ["report_odd"]

MOST_CHECKED = 2000  # of one file
MOST_NAMED = 4  # lines
LONGEST = 80    # characters of what is shown of one


def report_odd(files: Files, file: str, said: Iterable[tuple[str, int | None]], nameless: Sequence[int] = ()) -> None:
    """Report which of some requirements, each with its line, are none; `nameless` are lines that name only a place."""
    odd = [(text, line) for text, line in islice(said, MOST_CHECKED) if not is_requirement(text)]
    parts = []
    if odd:
        lines = list(dict.fromkeys(line for _, line in odd if line))
        shown = odd[0][0] if len(odd[0][0]) <= LONGEST else f"{odd[0][0][:LONGEST]} ..."
        what = "are no requirements (PEP 508), the first" if len(lines) > 1 else "is no requirement (PEP 508)"
        parts.append(f"{_listed(lines)} {what}: {shown}")
    if nameless:
        what = "name places" if len(nameless) > 1 else "names a place"
        parts.append(f"{_listed(nameless)} {what} of which it is not known which distribution lies there")
    if parts:
        files.report(file, ONLY_IN_PART + "; ".join(parts))


def _listed(lines: Sequence[int]) -> str:
    """Write ``line 3``, or ``lines 2, 3 and 5``; where no line is known, that it is there."""
    if len(lines) < 2:
        return f"line {lines[0]}" if lines else "what it asks for"
    shown, rest = lines[:MOST_NAMED - 1], lines[MOST_NAMED - 1:]
    if len(lines) <= MOST_NAMED:
        shown, rest = lines[:-1], lines[-1:]
    last = str(rest[0]) if len(rest) == 1 else f"{len(rest)} more"
    return f"lines {', '.join(map(str, shown))} and {last}"
