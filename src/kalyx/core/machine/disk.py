"""What files take on the disk: every entry below a folder, by what the system has allocated to it."""

from __future__ import annotations

import os
from operator import attrgetter
from stat import S_ISDIR

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable

    from kalyx.core.model.weight import DiskEntry

__all__ = ["list_entries"]


def list_entries(folder: str, closed: Callable[[str, str], object]) -> list[DiskEntry]:
    """Return everything below a folder, the folder itself first; links are not followed.

    Sparse files count as allocated. Where the system does not tell (Windows), what a file seems to have counts.
    `closed` is told of what cannot be listed.
    """
    try:
        info = os.lstat(folder)
    except OSError as error:
        closed(folder, error.strerror or str(error))
        return []
    unit, known = (512, "st_blocks") if hasattr(info, "st_blocks") else (1, "st_size")
    taken = attrgetter(known)
    found: list[DiskEntry] = [(folder, True, unit * taken(info), info.st_size, None, info.st_mtime)]
    queue = [folder]
    while queue:
        here = queue.pop()
        try:
            with os.scandir(here) as entries:
                for entry in entries:
                    info = entry.stat(follow_symlinks=False)
                    path = entry.path
                    if S_ISDIR(info.st_mode):
                        found.append((path, True, unit * taken(info), info.st_size, None, info.st_mtime))
                        queue.append(path)
                    else:
                        key = (info.st_dev, info.st_ino) if info.st_nlink > 1 else None
                        found.append((path, False, unit * taken(info), info.st_size, key, info.st_mtime))
        except OSError as error:
            closed(here, error.strerror or str(error))
    return found
