"""Conditions of a shell: ``[``, ``test`` and ``[[``, and whether a command is there."""

from __future__ import annotations

from kalyx.core.facts.interpreters.path_lookup import find_on_path
from kalyx.core.facts.interpreters.shell_words import MARKED, UNSET

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence
    from typing import Any

    from kalyx.core.facts.files import Files

__all__ = ["holds"]

_ENDS = {"[": "]", "[[": "]]", "test": ""}
_SAME = {"=": True, "==": True, "!=": False}
_SEEKERS = (("command", "-v"), ("which",), ("type",), ("hash",), ("type", "-p"))


def holds(files: Files, words: Sequence[str], path: str, folder: str) -> Any:
    """Return whether a condition holds: None where that is not known, NotImplemented where it is no condition."""
    if words[0] == "false":
        return False
    if words[0] in _ENDS:
        end = _ENDS[words[0]]
        inner = list(words[1:])
        return None if end and inner[-1:] != [end] else _test(files, inner[:-1] if end else inner, folder)
    if tuple(words[:-1]) in _SEEKERS and len(words) > 1:
        return None if MARKED in words[-1] else bool(find_on_path(files, words[-1], path, first_only=True))
    return NotImplemented


def _test(files: Files, words: list[str], folder: str) -> bool | None:
    m = files
    if words[:1] == ["!"]:
        told = _test(m, words[1:], folder)
        return None if told is None else not told
    if any(MARKED in w for w in words) or "$@" in words:
        return None
    words = [w.replace(UNSET, "") for w in words]
    if len(words) == 1:
        return bool(words[0])
    if len(words) == 2:
        place = m.located(words[1], folder) if words[1] else ""
        return {"-n": bool(words[1]), "-z": not words[1], "-e": bool(place) and m.exists(place),
                "-f": bool(place) and m.is_file(place), "-d": bool(place) and m.is_folder(place),
                "-x": bool(place) and (m.is_executable(place) or m.is_folder(place)),
                "-r": (bool(place) and m.exists(place)) or None}.get(words[0])
    if len(words) == 3 and words[1] in _SAME:
        return (words[0] == words[2]) == _SAME[words[1]]
    return None
