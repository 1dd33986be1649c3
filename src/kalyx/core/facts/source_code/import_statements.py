"""The import statements that a text may have, found without a tree of it.

All that Python would import by a statement are among them. There may be more: a line of a docstring that looks like
one counts too. So a text without anything new here has nothing new in its tree.
"""

from __future__ import annotations

import re
from bisect import bisect_right

from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator

__all__ = ["Statement", "statements_of"]

_NAME = r"[A-Za-z_]\w*"
_DOTTED = rf"{_NAME}(?:\.{_NAME})*"
_MODULES = re.compile(rf"[ \t\f]+({_DOTTED}(?:[ \t\f]+as[ \t\f]+{_NAME})?"
                      rf"(?:[ \t\f]*,[ \t\f]*{_DOTTED}(?:[ \t\f]+as[ \t\f]+{_NAME})?)*)[ \t\f]*(?=[\n;#]|\Z)", re.ASCII)
_FROM = re.compile(rf"[ \t\f]*(\.*(?:{_DOTTED})?)[ \t\f]*\bimport(?:[ \t\f]+(?=[A-Za-z_])|[ \t\f]*(?=[(*]))", re.ASCII)
_NAMES = re.compile(rf"({_NAME}(?:[ \t\f]+as[ \t\f]+{_NAME})?"
                    rf"(?:[ \t\f]*,[ \t\f]*{_NAME}(?:[ \t\f]+as[ \t\f]+{_NAME})?)*|\*)[ \t\f]*(?=[\n;#]|\Z)", re.ASCII)
_IN_BRACKETS = re.compile(r"\(([^()]{0,20000})\)")
_COMMENT = re.compile(r"#[^\n]*")
_ONE = re.compile(rf"({_NAME})(?:\s+as\s+({_NAME}))?", re.ASCII)
_TRIED = re.compile(
    r"try:[ \t]*(?:#[^\n]*)?\n(?P<body>(?:[ \t]+(?:import|from)[ \t][^\n]*\n|[ \t]*(?:#[^\n]*)?\n)+)"
    r"(?P<blanks>[ \t]*)except\b(?P<caught>[^\n:]*):(?P<same_line>[^\n]*)\n")
_WORD = re.compile(r"\w+")
_CATCHES = re.compile(r"\b(?:ImportError|ModuleNotFoundError|Exception|BaseException)\b")
_SPACED = re.compile(r"\w[ \t\f]{1,9}\.|\.[ \t\f]{1,9}[\w.]")  # dots of a name, with blanks beside them
_BEHIND = (" ", "\t", "\f", ".", "\\")  # what may stand behind the first word of such a statement
_NO_GOING_ON = ("raise", "exit", "quit", "abort", '"""', "'''", "\\")  # of what may be an ``except`` that goes on
LONGEST = 1000  # characters of a line, or of an ``except``, that are looked at


@record
class Statement:
    """What may be imported: a module as it is written, a name of it or None (for a star too), and how it is called.

    ``alias`` is there for ``import x as alias`` alone. ``is_tried``: the code does without it.
    """

    module: str
    name: str | None
    alias: str = ""
    is_tried: bool = False


def statements_of(text: str) -> list[Statement] | None:
    """Return what statements may import, those that do without it marked so.

    None where only Python's own parser can tell what is meant: names that are not ASCII, lines that go on behind a
    backslash.
    """
    found: list[Statement] = []
    tried = _tried(text)
    starts, ends = [first for first, _ in tried], [last for _, last in tried]
    for word, read in (("import", _modules_from), ("from", _names_from)):
        at = text.find(word)
        while at >= 0:
            end = at + len(word)
            before = _before(text, at).rstrip(" \t\f")
            if text[end:end + 1] in _BEHIND and (not before or before[-1] in ";:"):
                names = read(text, end)
                if names is None:
                    return None
                is_tried = bisect_right(starts, at) > bisect_right(ends, at)
                found += [Statement(*name, is_tried) for name in names]
            at = text.find(word, end)
    return found


def _before(text: str, at: int) -> str:
    """Return what a line has before a place; of a very long one its last part."""
    first = max(0, at - LONGEST)
    return text[max(text.rfind("\n", first, at) + 1, first):at]


def _tried(text: str) -> list[tuple[int, int]]:
    """Return from where to where imports go of which an ``except`` catches the failure of each and goes on.

    Only those count that stand in lines of their own, with nothing else in the ``try``.
    """
    found = []
    at = text.find("try:")
    while at >= 0:
        blanks = _before(text, at)
        tried = _TRIED.match(text, at) if not blanks.strip(" \t") else None
        if tried is not None and tried["blanks"] == blanks and all(
                _is_inside(line, blanks) for line in tried["body"].splitlines()) and _goes_on(text, tried, blanks):
            found.append(tried.span("body"))
        at = text.find("try:", at + 1)
    return found


def _is_inside(line: str, blanks: str) -> bool:
    return not line.strip() or (line.startswith(blanks) and line[len(blanks)] in " \t")


def _goes_on(text: str, tried: re.Match[str], blanks: str) -> bool:
    """Whether an ``except`` catches a failing import, and neither raises anything itself nor ends the program.

    It has to have something else for the names that are imported.
    """
    caught = tried["caught"].strip()
    if caught and not _CATCHES.search(caught):
        return False
    lines = [tried["same_line"], *text[tried.end():tried.end() + LONGEST].split("\n")]
    end = next((n for n, line in enumerate(lines) if n and not _is_inside(line, blanks)), None)
    handler = " ".join(lines[:end])
    return end is not None and not any(word in handler for word in _NO_GOING_ON) and set(
        _bound_by(tried["body"])) <= set(_WORD.findall(handler))


def _bound_by(body: str) -> Iterator[str]:
    """Yield the names that lines of imports bind: an ``except`` that goes on has to bind them to something else."""
    for line in body.splitlines():
        words = line.partition("#")[0]
        for part in words.rpartition("import ")[2].split(","):
            names = _WORD.findall(part)
            if names:
                yield names[0 if "from" not in words and "as" not in names else -1]


def _modules_from(text: str, at: int) -> list[tuple[str, str | None, str]] | None:
    """Return what a statement imports whose ``import`` ends here: nothing where it is none; None as above."""
    modules = _MODULES.match(text, at)
    if modules is None:
        return None if _may_be_read_otherwise(text, at) else []
    parts = [part.split() for part in modules[1].split(",")]
    return [(words[0], None, words[2] if len(words) > 1 else "") for words in parts]


def _names_from(text: str, at: int) -> list[tuple[str, str | None, str]] | None:
    """Return what a statement imports whose ``from`` ends here: nothing where it is none; None as above."""
    head = _FROM.match(text, at)
    if head is None or not head[1]:
        return None if _may_be_read_otherwise(text, at) else []
    module = head[1]
    names = _NAMES.match(text, head.end())
    if names is not None:
        parts = names[1].split(",")
        return [(module, None if (name := part.split()[0]) == "*" else name, "") for part in parts]
    bracket = _IN_BRACKETS.match(text, head.end())
    if bracket is None:
        return None if text.startswith("(", head.end()) or _may_be_read_otherwise(text, head.end()) else []
    inside = [part.strip() for part in _COMMENT.sub("", bracket[1]).split(",")]
    ones = [_ONE.fullmatch(part) for part in inside if part]
    return [(module, one[1], "") for one in ones if one is not None] if all(ones) else None


def _may_be_read_otherwise(text: str, at: int) -> bool:
    """Whether a line that is no import as they are mostly written may be one nevertheless."""
    end = text.find("\n", at)
    line = text[at:end if end >= 0 else len(text)]
    if len(line) > LONGEST or line.endswith("\\"):
        return True
    return not line.isascii() or _SPACED.search(line) is not None
