"""Temporary folders: private, each removed when its work is done, and all of them at our own end."""

from __future__ import annotations

import os

from kalyx.core.errors import Unreadable
from kalyx.core.machine import guard

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

__all__ = ["make_folder", "remove_all", "remove_folder", "usual_places"]

_made: list[str] = []


def usual_places(env: Mapping[str, str]) -> list[str]:
    """Return where the system keeps what is temporary, by its variables first."""
    named = [env[n] for n in ("TMPDIR", "TEMP", "TMP") if env.get(n)]
    return [*named, *(["/tmp"] if os.name == "posix" else [])]


def make_folder(places: Iterable[str]) -> str:
    """Make a folder that only the user may enter, in the first of `places` that takes one.

    Not by `tempfile`, whose import takes as long as starting an interpreter.

    Raises:
        Unreadable: none can be made anywhere.
    """
    for place in places:
        folder = os.path.join(place, f"kalyx-{os.urandom(8).hex()}")
        try:
            os.mkdir(folder, 0o700)
        except (OSError, ValueError):
            continue
        _made.append(folder)
        guard.mention(folder)
        return folder
    raise Unreadable("/tmp", "no folder for temporary files can be made")


def remove_folder(folder: str) -> None:
    """Remove a folder that `make_folder` made, with all in it."""
    if folder in _made:
        _made.remove(folder)
    try:
        for name in os.listdir(folder):
            os.unlink(os.path.join(folder, name))
        os.rmdir(folder)
    except OSError:  # a child has made folders in it
        import shutil

        shutil.rmtree(folder, ignore_errors=True)


def remove_all() -> None:
    """Remove whatever is left."""
    for folder in list(_made):
        remove_folder(folder)
