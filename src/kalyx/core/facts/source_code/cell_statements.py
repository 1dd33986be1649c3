"""Where the statements of a notebook's cell begin and end, those that IPython alone understands told apart.

Magics and shell lines are such only where a statement begins: not within brackets, in a string or behind a backslash.
"""

from __future__ import annotations

import re

from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator

__all__ = ["CellStatement", "statements_in"]

_SIGN = re.compile(r"\#[^\n]* | '''|\"\"\" | ['\"\n()\[\]{}?] | \\\n | (?<![=!<>+\-*/%&|^@:])=(?!=)", re.VERBOSE)
_STRINGS = {quote: re.compile(rf"[^\\{quote}\n]*(?:\\[\s\S][^\\{quote}\n]*)*{quote}?") for quote in "'\""}
_LONG_STRINGS = {quote: re.compile(r"\\[\s\S]|" + quote) for quote in ("'''", '"""')}
_ESCAPES = frozenset("%!?,;/")  # what begins a statement that is none of Python's
_ASSIGNED = re.compile(r"[ \t]{0,200}(?:!|%(?=[^\W\d]))")
_ASKED = re.compile(r"(?:[\w*]|\[-?\d{1,20}\])\??\?\Z")


@record
class CellStatement:
    """The lines of a statement, from the first to before the next one's, counted from 0.

    ``magic`` is what IPython alone understands of it, without what it is assigned to; empty for one of Python's.
    """

    first: int
    after: int
    magic: str = ""


def statements_in(text: str) -> Iterator[CellStatement]:
    """Yield the statements of a cell; all of its lines are in one of them.

    A bracket or string that has no end ends with its line, and so does each one behind it.
    """
    scanner = _Scanner(text)
    at = line = 0
    while at <= len(text):
        end, magic = scanner.statement(at)
        after = line + text.count("\n", at, end) + 1
        yield CellStatement(line, after, magic)
        at, line = end + 1, after


class _Scanner:
    """Finds the end of statements in a text."""

    def __init__(self, text: str) -> None:
        self._text = text
        self._by_line = False  # once something has no end

    def statement(self, start: int) -> tuple[int, str]:
        """Return where the statement that begins here ends, at its newline, and what of it is IPython's alone."""
        text = self._text
        first = start
        while text[first:first + 1] in (" ", "\t", "\f"):
            first += 1
        if text[first:first + 1] in _ESCAPES:
            end = self._end_of_line(first)
            return end, _joined(text[first:end])
        end, assigned, asked = self._walk(first)
        if assigned >= 0:
            end = self._end_of_line(assigned)
            return end, _joined(text[assigned:end].lstrip(" \t"))
        is_help = asked >= 0 and not text[asked + 1:end].strip() and _ASKED.search(
            text, max(first, asked - 80), asked + 1)
        return end, text[first:end].strip() if is_help else ""

    def _end_of_line(self, at: int) -> int:
        """Return where a line ends that goes on behind backslashes."""
        while True:
            end = self._text.find("\n", at)
            if end < 0:
                return len(self._text)
            if self._text[end - 1] != "\\" or end - 1 < at:
                return end
            at = end + 1

    def _walk(self, start: int) -> tuple[int, int, int]:
        """Return where a statement ends, where it assigns a magic, and its last question mark; -1 for neither.

        Where it assigns a magic, the end is not looked for.
        """
        at, depth, equals, asked = start, 0, False, -1
        while True:
            sign = _SIGN.search(self._text, at)
            if sign is None:
                return (len(self._text), -1, asked) if not depth else self._unclosed(start)
            found, at = sign.group(), sign.end()
            if found == "\n":
                if not depth or self._by_line:
                    return sign.start(), -1, asked
            elif found[0] in "'\"":
                at = self._end_of_string(at, found)
                if at < 0:
                    return self._unclosed(start)
            elif found in "([{":
                depth += 1
            elif found in ")]}":
                depth = max(0, depth - 1)
            elif found == "?":
                asked = sign.start()
            elif found == "=" and not depth and not equals:
                equals = True
                if _ASSIGNED.match(self._text, at):
                    return at, at, -1

    def _end_of_string(self, at: int, quote: str) -> int:
        """Return where a string ends whose first quote ends here; -1 where it does not."""
        if len(quote) == 1:
            closed = _STRINGS[quote].match(self._text, at)
            return closed.end() if closed else at
        if self._by_line:
            return at
        for found in _LONG_STRINGS[quote].finditer(self._text, at):
            if found.group() == quote:
                return found.end()
        return -1

    def _unclosed(self, start: int) -> tuple[int, int, int]:
        """Take the lines one by one from here on."""
        self._by_line = True
        return self._walk(start)


def _joined(text: str) -> str:
    """Return a line whose parts go on behind backslashes as one."""
    return " ".join(part.rstrip().removesuffix("\\") for part in text.split("\n")).strip() if "\n" in text else text
