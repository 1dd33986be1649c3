"""Permissions of files and folders: changed as ``chmod`` does, noted before, and given back."""

from __future__ import annotations

import os
import re
from stat import S_IMODE, S_ISDIR, S_ISLNK

from kalyx.core.errors import Refused

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping

    Modes = Mapping[str, int]

__all__ = ["changed_modes", "give_back", "is_mode", "new_mode", "why_not_given_back"]

_ADDED = re.compile(r"([ugoa]{0,4})\+([rwxX]{1,4})")
_SHIFTS = {"u": 6, "g": 3, "o": 0}
_BITS = {"r": 4, "w": 2, "x": 1}


def is_mode(words: str) -> bool:
    """Whether words are a mode that adds permissions, as POSIX's ``chmod`` takes them: ``u+rwX``, ``a+x``."""
    return _ADDED.fullmatch(words) is not None


def new_mode(words: str, mode: int, *, is_folder: bool) -> int:
    """Return what a mode that adds permissions makes of a file's permissions.

    Where it does not say for whom, what the process's mask keeps from new files is not added, as POSIX has it.
    """
    match = _ADDED.fullmatch(words)
    assert match is not None
    who = "ugo" if match[1] == "" or "a" in match[1] else match[1]
    bits = 0
    for letter in match[2]:
        if letter == "X":  # folders, and what somebody may execute already
            bits |= 1 if is_folder or mode & 0o111 else 0
        else:
            bits |= _BITS[letter]
    added = 0
    for one in who:
        added |= bits << _SHIFTS[one]
    return mode | (added if match[1] else added & ~_mask())


def _mask() -> int:
    """Return the mask of new files; there is no other way to ask for it than to set it."""
    mask = os.umask(0o077)
    os.umask(mask)
    return mask


def changed_modes(words: str, path: str, *, recursive: bool) -> Iterator[dict[str, tuple[int, int]]]:
    """Yield what would change, level by level, as permissions before and after; each level once the last is done.

    Links are left alone. What cannot be looked at is left out.
    """
    level = [path]
    while level:
        found: dict[str, tuple[int, int]] = {}
        folders = []
        for place in level:
            try:
                info = os.lstat(place)
            except OSError:
                continue
            if S_ISLNK(info.st_mode):
                continue
            now, is_folder = S_IMODE(info.st_mode), S_ISDIR(info.st_mode)
            wanted = new_mode(words, now, is_folder=is_folder)
            if wanted != now:
                found[place] = (now, wanted)
            if is_folder and recursive:
                folders.append(place)
        yield found
        level = [os.path.join(f, n) for f in folders for n in _names(f)]


def _names(folder: str) -> list[str]:
    try:
        return os.listdir(folder)
    except OSError:
        return []


def why_not_given_back(before: Modes, after: Modes) -> str:
    """Return which file's permissions somebody else has changed since; empty where none were."""
    for path, was in before.items():
        try:
            now = S_IMODE(os.lstat(path).st_mode)
        except FileNotFoundError:
            continue
        except OSError:
            continue  # a folder above it is closed, which is a part of this
        if now not in (was, after.get(path, was)):
            return f"the permissions of {path} were changed since"
    return ""


def give_back(before: Modes) -> None:
    """Give files the permissions that they had; what lies deepest first, as folders above are closed then.

    Raises:
        Refused: they cannot be changed.
    """
    for path in sorted(before, key=len, reverse=True):
        try:
            if S_IMODE(os.lstat(path).st_mode) != before[path]:
                os.chmod(path, before[path])
        except FileNotFoundError:
            continue
        except OSError as error:
            raise Refused(f"The permissions of {path} cannot be given back: {error.strerror}.",
                          "See to it that it is yours.") from None
