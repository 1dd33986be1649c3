"""Edits of one place in a file: as much around it is taken in as makes its text the only one there."""

from __future__ import annotations

from kalyx.core.errors import Unreadable
from kalyx.core.model import Edit, Remedy

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files

__all__ = ["edit_between", "edit_line", "edit_span", "switch_off"]

MOST_TAKEN_IN = 4_000  # characters
SHORT_LINES = 400      # characters of lines that are replaced as a whole


def edit_span(path: str, text: str, start: int, end: int, after: str) -> Edit | None:
    """Return the edit that writes `after` in place of ``text[start:end]``, where `text` is all of the file.

    Whole lines around are taken in while what is replaced stands more than once. None where a file is no text in
    UTF-8, or too much would be taken in.
    """
    if "\ufffd" in text or start == end:
        return None
    first, last = start, end
    while text.count(text[first:last]) != 1:
        if (first == 0 and last == len(text)) or last - first > MOST_TAKEN_IN:
            return None
        first = text.rfind("\n", 0, max(0, first - 1)) + 1
        last = text.find("\n", last + 1)
        last = len(text) if last < 0 else last
    return Edit(path, text[first:last], text[first:start] + after + text[end:last])


def edit_between(path: str, before: str, after: str) -> Edit | None:
    """Return the edit that turns one text of a file into another: from the first character that differs to the last.

    None where they are the same, and as `edit_span` says.
    """
    start = _alike(before, after)
    most = min(len(before), len(after)) - start
    end = len(before) - _alike(before[len(before) - most:][::-1], after[len(after) - most:][::-1])
    first, last = before.rfind("\n", 0, start) + 1, before.find("\n", end)
    last = len(before) if last < 0 else last
    if start == end or last - first < SHORT_LINES:  # whole lines are easier to read, and there is something to replace
        if start == end == len(before):  # the line before it is replaced
            first = before.rfind("\n", 0, max(0, start - 1)) + 1
        start, end = first, last
    return edit_span(path, before, start, end, after[start:len(after) - (len(before) - end)])


def _alike(one: str, other: str) -> int:
    """Return how many characters two texts have in common at the beginning."""
    low, high = 0, min(len(one), len(other))
    while low < high:
        middle = (low + high + 1) // 2
        low, high = (middle, high) if one[low:middle] == other[low:middle] else (low, middle - 1)
    return low


def edit_line(files: Files, path: str, number: int | None, before: str, after: str | None) -> Edit | None:
    """Return the edit that writes `after` in place of `before` in a line of a file, counted from one.

    Where that line has not got it, in the only one that has; without `after`, the line is taken out. None where the
    file cannot be read, or the line does not hold it once.
    """
    try:
        text = files.read_text(path)
    except Unreadable:
        return None
    lines = text.split("\n")
    if not number or number > len(lines) or before not in lines[number - 1]:
        holding = [n for n, line in enumerate(lines, 1) if before in line]
        number = holding[0] if len(holding) == 1 else None
    if not before or not number or lines[number - 1].count(before) != 1:
        return None
    begin = sum(len(line) + 1 for line in lines[:number - 1])
    if after is None:
        return edit_span(path, text, begin, min(len(text), begin + len(lines[number - 1]) + 1), "")
    start = begin + lines[number - 1].index(before)
    return edit_span(path, text, start, start + len(before), after)


def switch_off(files: Files, path: str, number: int | None, line: str, does: str) -> Remedy:
    """Return the edit that makes a line a comment; by hand, where it is not found there."""
    edit = edit_line(files, path, number, line, f"# {line}")
    return Remedy(does, "edit", edits=(edit,), changes=path, undoable=True) if edit else Remedy(
        does, "manual", changes=path)
