"""A source text in pieces: only what is asked for is parsed, as libraries have files of ten thousand lines."""

from __future__ import annotations

import ast
import re

from kalyx.core.facts.source_code.syntax import parse

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

__all__ = ["Pieces"]

WHOLE = 24_000  # characters of a class that are parsed in one go
_DEFINES = re.compile(r"^[ \t]{0,80}(?:async[ \t]{1,9})?(?:def|class)[ \t]{1,9}(\w+)")
_GOES_ON = re.compile(r"^[ \t]{0,80}(?:else|elif|except|finally|case)\b")


class Pieces:
    """The statements of a module or of a class, its functions and classes apart from the rest."""

    def __init__(self, text: str) -> None:
        self._lines = text.split("\n")
        self._places, self._rest = _split(self._lines, 0, len(self._lines), "")
        self._parsed: dict[str, ast.stmt | None] = {}
        self._methods: dict[str, dict[str, tuple[int, int]]] = {}

    @property
    def names(self) -> set[str]:
        """The functions and classes at the top."""
        return set(self._places)

    def plain(self) -> list[ast.stmt]:
        """Return the statements that are no definitions; none where they cannot be parsed."""
        kept = "\n".join("" if not hold else line for line, hold in zip(self._lines, self._rest, strict=True))
        found = _parsed(kept)
        if not found and kept.strip():  # a line was taken for a definition that is none
            found = [s for s in _parsed("\n".join(self._lines)) if getattr(s, "name", None) not in self._places]
        return found

    def definition(self, name: str) -> ast.stmt | None:
        """Return the last function or class of that name, of a large class its frame; None where there is none."""
        if name not in self._parsed:
            place = self._places.get(name)
            self._parsed[name] = self._parse(*place) if place else None
        return self._parsed[name]

    def method(self, cls: ast.ClassDef, name: str) -> ast.stmt | None:
        """Return what a class of these pieces binds a name to in its own body; None where it does not."""
        key = f"{cls.name}.{name}"
        if key not in self._parsed:
            found = [s for s in cls.body if getattr(s, "name", None) == name]
            place = self._inside(cls).get(name) if cls.name in self._places and not found else None
            self._parsed[key] = found[-1] if found else self._parse(*place) if place else None
        return self._parsed[key]

    def _inside(self, cls: ast.ClassDef) -> dict[str, tuple[int, int]]:
        if cls.name not in self._methods:
            first, last = self._places[cls.name]
            self._methods[cls.name] = _split(self._lines, first, last, self._indent(first, last))[0]
        return self._methods[cls.name]

    def _indent(self, first: int, last: int) -> str:
        """Return the indent of a class's body."""
        heads = (n for n in range(first, last) if _DEFINES.match(self._lines[n]))
        for line in self._lines[next(heads, first) + 1:last]:
            if line.strip() and not line.lstrip().startswith(("#", ")")):
                return line[: len(line) - len(line.lstrip())]
        return "    "

    def _parse(self, first: int, last: int) -> ast.stmt | None:
        """Parse some lines where they stand; of a large class what is no method."""
        lines = whole = self._lines[first:last]
        indent = lines[0][: len(lines[0]) - len(lines[0].lstrip())]
        if sum(map(len, lines)) > WHOLE and next(
                (x for x in lines if _DEFINES.match(x)), "").lstrip().startswith("class"):
            _, kept = _split(self._lines, first, last, self._indent(first, last))
            lines = [line if hold else "" for line, hold in zip(lines, kept[first:last], strict=True)]
            lines.append(f"{self._indent(first, last)}pass")
        head = ["if 1:"] if indent else []
        start = "\n" * (first - len(head))
        found = _parsed(start + "\n".join([*head, *lines])) or _parsed(start + "\n".join([*head, *whole]))
        inner = found[0].body if head and found and isinstance(found[0], ast.If) else found
        return next((s for s in reversed(inner) if hasattr(s, "name")), None)


def _split(lines: Sequence[str], first: int, last: int, indent: str) -> tuple[dict[str, tuple[int, int]], list[bool]]:
    """Return where each definition of that indent stands, and which lines are of none."""
    places: dict[str, tuple[int, int]] = {}
    rest = [True] * len(lines)
    width, start, name, decorated, in_text = len(indent), first, "", False, False
    for n in range(first, last):
        line = lines[n]
        head = line[width:width + 1]
        was_in_text = in_text
        if '"""' in line or "'''" in line:
            in_text = in_text != bool((line.count('"""') + line.count("'''")) % 2)
        if was_in_text or not (head.isidentifier() or head == "@") or not line.startswith(indent) \
                or _GOES_ON.match(line):
            continue
        defines = _DEFINES.match(line)
        if not (decorated and defines):
            if name:
                places[name] = (start, n)
                rest[start:n] = [False] * (n - start)
            start = n
        decorated = head == "@"
        name = defines.group(1) if defines else ""
    if name:
        places[name] = (start, last)
        rest[start:last] = [False] * (last - start)
    return places, rest


def _parsed(text: str) -> list[ast.stmt]:
    try:
        return parse(text).body
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return []
