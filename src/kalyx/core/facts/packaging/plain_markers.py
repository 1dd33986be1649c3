"""Environment markers (PEP 508) of the plain forms, which are by far the most: without loading what reads all forms.

Plain are comparisons of the commonest variables with what stands in quotes, and what ``and`` and ``or`` make of them.
"""

from __future__ import annotations

import re
from functools import cache

from kalyx.core.model.names import normal_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

__all__ = ["are_plain_versions", "extras_plainly", "holds_plainly", "is_plain"]

_TOKEN = (r"""\s*(?:(?P<sign>[()]|and\b|or\b)|(?P<name>[a-z_]{1,40})\s{0,9}(?P<op>[=!]=|[<>]=?)\s{0,9}"""
          r"""(?:"(?P<one>[^"'\n]{0,99})"|'(?P<two>[^"'\n]{0,99})')|(?P<else>[^\s()"']+|"[^"]*"|'[^']*'))\s*""")
_WORD = r"[A-Za-z0-9](?:[A-Za-z0-9._-]{0,98}[A-Za-z0-9])?"
_SPACE = r"[ \t]{0,9}"
_NUMBER = r"[0-9]{1,20}"
_RELEASED = rf"{_NUMBER}(?:\.{_NUMBER}){{0,20}}(?:\.?(?:a|b|rc|post|dev)\.?[0-9]{{1,9}})?"
_VERSION = rf"(?:[=!<>]=|[<>]){_SPACE}{_RELEASED}|[=!]={_SPACE}{_NUMBER}(?:\.{_NUMBER}){{0,20}}\.\*|" \
           rf"~={_SPACE}{_NUMBER}(?:\.{_NUMBER}){{1,20}}"
_NAMED = rf"{_SPACE}{_WORD}{_SPACE}(?:\[{_SPACE}({_WORD}{_SPACE}(?:,{_SPACE}{_WORD}{_SPACE}){{0,50}})?\]{_SPACE})?"
_expression = cache(re.compile)  # each takes a millisecond, and most commands ask about no marker
_RELEASE = r"[0-9]+(?:\.[0-9]+)*"
_VERSIONS = ("python_version", "python_full_version", "implementation_version")
_WORDS = ("sys_platform", "platform_system", "os_name", "platform_python_implementation", "implementation_name")


def holds_plainly(marker: str, values: Mapping[str, str], extra: str) -> bool | None:
    """Whether a marker holds where its variables have these values; None where it is none of the plain forms.

    A bracket that is not plain tells nothing; what is joined to it by ``and`` may.
    """
    brackets: list[_Terms] = [_Terms()]  # the whole, and each that is open
    position = 0
    while position < len(marker):
        token = _expression(_TOKEN).match(marker, position)
        if token is None:
            return None
        position, here = token.end(), brackets[-1]
        if token["sign"] == "(":
            brackets.append(_Terms())
        elif token["sign"] == ")":
            if len(brackets) == 1:
                return None
            brackets.pop()
            brackets[-1].add(here.said())
        elif token["sign"]:
            here.go_on(token["sign"])
        elif token["name"]:
            here.add(_compare(token, values, extra))
        else:
            here.is_plain = False
    whole = brackets[0]
    if len(brackets) == 1 and whole.is_refused():
        return False
    return whole.said() if len(brackets) == 1 else None


class _Terms:
    """What stands in one bracket: terms joined by ``and``, and such joined by ``or``."""

    def __init__(self) -> None:
        self.is_plain = True
        self._values: list[list[bool | None]] = [[]]
        self._awaits = True  # a term

    def add(self, value: bool | None) -> None:
        """Take up a term."""
        self.is_plain = self.is_plain and self._awaits
        self._values[-1].append(value)
        self._awaits = False

    def go_on(self, word: str) -> None:
        """Take up what joins two terms."""
        self.is_plain = self.is_plain and not self._awaits
        self._awaits = True
        if word == "or":
            self._values.append([])

    def said(self) -> bool | None:
        """Whether they hold; None where that of any of them is not known."""
        if not self.is_plain or self._awaits or None in [value for terms in self._values for value in terms]:
            return None
        return any(False not in terms for terms in self._values)

    def is_refused(self) -> bool:
        """Whether one of them does not hold, and all would have to: whatever those are that are not known."""
        return self.is_plain and not self._awaits and len(self._values) == 1 and False in self._values[0]


def _compare(token: re.Match[str], values: Mapping[str, str], extra: str) -> bool | None:
    """Return what a comparison gives; None where it is not plain what it gives."""
    name, op, said = token["name"], token["op"], token["one"] if token["one"] is not None else token["two"]
    if name == "extra" and op == "==":
        return normal_name(said) == normal_name(extra)
    value = values.get(name)
    if value is None:
        return None
    if name in _WORDS and op in ("==", "!=") and said[:1].isalpha() and not said.startswith("v"):
        return (value == said) == (op == "==")
    if name in _VERSIONS and _expression(_RELEASE).fullmatch(value) \
            and _expression(_RELEASE).fullmatch(said):
        order = _release(value), _release(said)
        return {"==": order[0] == order[1], "!=": order[0] != order[1], "<": order[0] < order[1],
                ">": order[0] > order[1], "<=": order[0] <= order[1], ">=": order[0] >= order[1]}[op]
    return None


def _release(version: str) -> list[int]:
    """Return the numbers of a release without the zeros at its end: 3.10 is 3.10.0."""
    numbers = [int(part) for part in version.split(".")]
    while numbers and not numbers[-1]:
        numbers.pop()
    return numbers


def extras_plainly(requirement: str) -> set[str] | None:
    """Return the extras that a requirement asks for; None where that is not plain."""
    head = requirement.partition(";")[0]
    if "[" not in head:
        return set()
    match = _expression(_NAMED).match(head)
    if match is None or not are_plain_versions(head[match.end():]):
        return None
    return {name.strip() for name in match[1].split(",")} if match[1] else set()


def is_plain(requirement: str) -> bool:
    """Whether what stands before a requirement's marker is a name, extras and versions of the plain forms."""
    head = requirement.partition(";")[0]
    match = _expression(_NAMED).match(head)
    return match is not None and are_plain_versions(head[match.end():])


def are_plain_versions(text: str) -> bool:
    """Whether a text is empty, or is specifiers of versions (PEP 440) of the plain forms."""
    said = text.strip(" \t")
    if said.startswith("(") and said.endswith(")"):
        said = said[1:-1].strip(" \t")
    version = _expression(_VERSION)
    return not said or all(version.fullmatch(one.strip(" \t")) for one in said.split(","))
