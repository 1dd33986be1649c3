"""The options with which an interpreter is started: the words before what it is to run."""

from __future__ import annotations

import re

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

__all__ = ["VALUED", "flags_of", "has_flag", "letters_of"]

VALUED = ("-W", "-X", "--check-hash-based-pycs")  # options that take a value
_LETTERS = re.compile(r"-([A-Za-z?]+)")
_WITH_VALUE = re.compile(r"[cmWX]")  # all behind it is its value


def flags_of(words: Sequence[str]) -> tuple[str, ...]:
    """Return the interpreter's options at the start of its arguments, with their values."""
    flags: list[str] = []
    for word in words:
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
