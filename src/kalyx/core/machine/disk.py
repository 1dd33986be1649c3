"""What files take on the disk: every entry below a folder, by what the system has allocated to it."""

from __future__ import annotations

import os
from stat import S_ISDIR, S_ISLNK

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
    found: list[DiskEntry] = [(folder, "d", _allocated(info), info.st_size, None, info.st_mtime)]
    queue = [folder]
    while queue:
        here = queue.pop()
        try:
            with os.scandir(here) as entries:
                for entry in entries:
                    info = entry.stat(follow_symlinks=False)
                    mode = info.st_mode
                    if S_ISDIR(mode):
                        found.append((entry.path, "d", _allocated(info), info.st_size, None, info.st_mtime))
                        queue.append(entry.path)
                    else:
                        key = (info.st_dev, info.st_ino) if info.st_nlink > 1 else None
                        kind = "l" if S_ISLNK(mode) else "f"
                        found.append((entry.path, kind, _allocated(info), info.st_size, key, info.st_mtime))
        except OSError as error:
            closed(here, error.strerror or str(error))
    return found


def _allocated(info: os.stat_result) -> int:
    blocks = getattr(info, "st_blocks", None)
    return blocks * 512 if blocks is not None else info.st_size
