"""The options with which an interpreter is started: the words before what it is to run."""

from __future__ import annotations

import re

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

__all__ = ["VALUED", "flags_of", "has_flag", "letters_of", "parted"]

VALUED = ("-W", "-X", "--check-hash-based-pycs")  # options that take a value
_LETTERS = re.compile(r"-([A-Za-z?]+)")
_WITH_VALUE = re.compile(r"[cmWX]")  # all behind it is its value


def parted(words: Sequence[str]) -> list[str]:
    """Return the words behind an interpreter with what it is to run apart: ``-I -m pip`` of ``-Im pip``."""
    for number, word in enumerate(words):
        is_value = bool(number) and words[number - 1] in VALUED
        if not is_value and (not word.startswith("-") or word in ("-", "--")):
            break
        match = _LETTERS.match(word) if not is_value and not word.startswith("--") else None
        at = _WITH_VALUE.search(match[1]) if match is not None else None
        if at is not None and at[0] in "cm":
            before, value = word[:at.start() + 1], word[at.end() + 1:]
            apart = [*([before] if before != "-" else []), f"-{at[0]}", *([value] if value else [])]
            return [*words[:number], *apart, *words[number + 1:]]
    return list(words)


def flags_of(words: Sequence[str]) -> tuple[str, ...]:
    """Return the interpreter's options at the start of its arguments, with their values."""
    flags: list[str] = []
    for word in parted(words):
        is_value = bool(flags) and flags[-1] in VALUED
        if not is_value and (not word.startswith("-") or word in ("-", "--", "-m", "-c", "-f")):
            break
        flags.append(word)
    return tuple(flags)


def letters_of(flags: Sequence[str]) -> Iterator[str]:
    """Yield the letters of the options that are letters alone: ``E`` and ``s`` of ``-Es -X dev``."""
    for number, flag in enumerate(flags):
        match = _LETTERS.match(flag) if not number or flags[number - 1] not in VALUED else None
        if match is not None:
            yield from _WITH_VALUE.split(match[1], maxsplit=1)[0]


def has_flag(flags: Sequence[str], letters: str) -> bool:
    """Whether one of some letters is among the options."""
    return not set(letters).isdisjoint(letters_of(flags))
