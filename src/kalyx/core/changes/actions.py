"""The single things that Kalyx changes, each as it stands in the journal: how it is done, checked and taken back.

An action is written down before it is done, so that after a kill it may have been done or not: all that is here takes
either.
"""

from __future__ import annotations

import errno
import os
import shutil

from kalyx.core.changes.files import read_regular, remove_temporary, write_file
from kalyx.core.changes.modes import give_back, why_not_given_back
from kalyx.core.changes.watched import Watched
from kalyx.core.errors import Refused
from kalyx.core.facts.configuration.own_files import RETIRED

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping
    from typing import Any

    Action = Mapping[str, Any]

__all__ = ["Action", "free_place", "identity", "is_action", "kept_bytes", "move", "remove_if_empty", "take_back",
           "text_of", "why_not"]

_KEYS = {"file": ("path",), "rename": ("path", "to"), "aside": ("path", "kept"), "made": ("path", "kept"),
         "installed": ("prefix", "store"), "modes": ("path",)}


def is_action(action: object) -> bool:
    """Whether something read from a journal is an action, with all that it must have."""
    if not isinstance(action, dict) or action.get("do") not in _KEYS:
        return False
    texts = all(isinstance(action.get(k), str) and os.path.isabs(action[k]) for k in _KEYS[action["do"]])
    if action["do"] == "modes":
        return texts and all(isinstance(action.get(k), dict) and all(type(m) is int for m in action[k].values())
                             for k in ("before", "after"))
    lists = [action.get(k, []) for k in ("folders", "folders_made", "alone")]
    named = all(isinstance(names, list) and all(isinstance(f, str) for f in names) for names in lists)
    return texts and named and isinstance(action.get("mode"), (int, type(None))) and all(
        isinstance(action.get(k), (str, type(None))) for k in ("before", "after", "temporary"))


def identity(path: str) -> list[int] | None:
    """Return what tells a file or folder from another of its name: device and number; None where there is none."""
    try:
        info = os.lstat(path)
    except OSError:
        return None
    return [info.st_dev, info.st_ino]


def text_of(path: str) -> str | None:
    """Return a file's text; None when it is not there, an impossible text when it is no text."""
    try:
        return read_regular(path).decode("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        return None if getattr(error, "errno", 0) == errno.ENOENT else "\0unreadable"


def why_not(action: Action, state: str) -> str:
    """Return why an action cannot be taken back; empty where it can, or is so already."""
    cut_short, kind, path = state in ("begun", "undoing"), action["do"], str(action.get("path", ""))
    if kind == "file":
        now = text_of(path)
        if now == action["before"] and cut_short:
            return ""
        if now != action["after"]:
            return f"{path} {'was taken away' if now is None else 'was changed'} since, and is left as it is"
        return ""
    if kind == "installed":
        return _watched(action).why_not(undoing=state == "undoing")
    if kind == "modes":
        return why_not_given_back(action["before"], action["after"])
    if kind == "made":
        return _why_not_made(action, path, cut_short)
    there = str(action["kept"] if kind == "aside" else action["to"])
    if os.path.lexists(there) and os.path.lexists(path):
        return f"{path} is there again, and would be written over; what is kept lies in {there}"
    if not os.path.lexists(there) and not (os.path.lexists(path) and cut_short):
        return f"what was moved to {there} is gone"
    if not cut_short and action.get("ident") not in (None, identity(there)):
        return f"{there} is another thing now than what was moved there"
    return ""


def _watched(action: Action) -> Watched:
    return Watched(action["folders"], action["store"], action.get("alone", []))


def _why_not_made(action: Action, path: str, cut_short: bool) -> str:
    if not os.path.lexists(path):
        return "" if cut_short else f"{path} is gone already"
    if action.get("ident") not in (None, identity(path)):
        return f"{path} is another thing now than what was made"
    return ""


def take_back(action: Action) -> None:
    """Take one action back; nothing is done where that is so already.

    Raises:
        Refused: a file or folder cannot be written.
    """
    kind, path = action["do"], str(action.get("path", ""))
    if kind == "file":
        _restore(action, path)
    elif kind == "installed":
        _watched(action).take_back()
    elif kind == "modes":
        give_back(action["before"])
    elif kind == "made":
        if os.path.lexists(path):
            move(path, free_place(str(action["kept"])))
    elif kind == "aside":
        if os.path.lexists(action["kept"]):
            move(str(action["kept"]), path)
        if os.path.basename(os.path.dirname(action["kept"])) == RETIRED:  # it is Kalyx's own
            remove_if_empty(os.path.dirname(str(action["kept"])))
    elif kind == "rename":
        if os.path.lexists(action["to"]):
            move(str(action["to"]), path)
        for folder in reversed(action.get("folders_made", [])):
            remove_if_empty(str(folder))


def _restore(action: Action, path: str) -> None:
    temporary = str(action.get("temporary", ""))
    if temporary:
        remove_temporary(temporary)
    if action["before"] is not None:
        if text_of(path) != action["before"]:
            write_file(path, str(action["before"]).encode("utf-8"), mode=action.get("mode"), temporary=temporary)
        return
    if os.path.lexists(path):
        os.unlink(path)
    made = action.get("folders_made", [os.path.dirname(path)] if action.get("folder_made") else [])
    for folder in reversed(made):
        remove_if_empty(str(folder))


def kept_bytes(action: Action) -> int:
    """Return how many bytes an action keeps for its undo, those that have another name too left out."""
    place = str(action.get("store") or action.get("kept") or "")
    total = 0
    for folder, _, names in os.walk(place):
        for name in names:
            try:
                info = os.lstat(os.path.join(folder, name))
            except OSError:
                continue
            total += info.st_blocks * 512 if info.st_nlink == 1 and hasattr(info, "st_blocks") else 0
    return total


def move(source: str, target: str) -> None:
    """Move a file or folder, to another device too.

    Raises:
        Refused: it cannot be moved.
    """
    try:
        os.makedirs(os.path.dirname(target), exist_ok=True)
        try:
            os.rename(source, target)
        except OSError as error:
            if error.errno != errno.EXDEV:
                raise
            shutil.move(source, target)
    except OSError as error:
        raise Refused(f"{source} cannot be moved to {target}: {error.strerror}.",
                      f"It lies in {source}.") from None


def free_place(path: str) -> str:
    """Return a path at which nothing is: the one that is given, or with a number behind it."""
    number, place = 2, path
    while os.path.lexists(place):
        place, number = f"{path}-{number}", number + 1
    return place


def remove_if_empty(folder: str) -> None:
    """Remove a folder that Kalyx made, where nothing lies in it."""
    try:
        os.rmdir(folder)
    except OSError:  # something else lies in it
        pass
