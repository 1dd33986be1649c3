"""What files take on the disk: every entry below some folders, by what the system has allocated to it.

Most of the time is the system's own, a call for each file. Where copies of this process can be had for nothing
(Linux, no other threads), they walk a share of the folders each while this one does something else.
"""

from __future__ import annotations

import os
from functools import partial
from operator import attrgetter
from stat import S_ISDIR

from kalyx.core.machine.copies import Copy, can_copy_itself

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Sequence

    from kalyx.core.model.weight import DiskEntry

__all__ = ["begin_listing"]

UNIT, taken = (512, attrgetter("st_blocks")) if hasattr(os.stat_result, "st_blocks") else (1, attrgetter("st_size"))
MOST_WALKERS = 4
ENOUGH = 48  # folders to be shared out, so that the shares are about equal


def begin_listing(folders: Sequence[str], closed: Callable[[str, str], object]) -> Callable[[], list[DiskEntry]]:
    """Begin to list some folders and everything below them; return what waits for the end, and returns it all.

    Links are not followed. Sparse files count as allocated. Where the system does not tell (Windows), what a file
    seems to have counts. `closed` is told of what cannot be listed.
    """
    if not can_copy_itself():
        return lambda: _list_all(*_first(folders, closed), closed)
    found, queue = _first(folders, closed)
    while queue and len(queue) < ENOUGH:
        _list(queue.pop(0), found, queue, closed)
    count = min(os.cpu_count() or 1, MOST_WALKERS)
    begun = [(share, Copy(partial(_list_share, share))) for share in (queue[n::count] for n in range(count)) if share]

    def result() -> list[DiskEntry]:
        for share, walker in begun:
            listed, troubles = walker.result() or (_list_all([], list(share), closed), ())
            found.extend(listed)
            for path, why in troubles:
                closed(path, why)
        return found

    return result


def _first(folders: Iterable[str], closed: Callable[[str, str], object]) -> tuple[list[DiskEntry], list[str]]:
    """Return the entries of folders themselves, and those that are there."""
    found: list[DiskEntry] = []
    for folder in folders:
        try:
            info = os.lstat(folder)
        except OSError as error:
            closed(folder, error.strerror or str(error))
            continue
        found.append((folder, True, UNIT * taken(info), info.st_size, None, info.st_mtime))
    return found, [entry[0] for entry in found]


def _list_all(found: list[DiskEntry], queue: list[str], closed: Callable[[str, str], object]) -> list[DiskEntry]:
    """Add all that is below the folders of a queue; return it."""
    while queue:
        _list(queue.pop(), found, queue, closed)
    return found


def _list(here: str, found: list[DiskEntry], queue: list[str], closed: Callable[[str, str], object]) -> None:
    """Add what lies in a folder, and the folders among that to the queue."""
    try:
        with os.scandir(here) as entries:
            for entry in entries:
                info = entry.stat(follow_symlinks=False)
                path = entry.path
                if S_ISDIR(info.st_mode):
                    found.append((path, True, UNIT * taken(info), info.st_size, None, info.st_mtime))
                    queue.append(path)
                else:
                    key = (info.st_dev, info.st_ino) if info.st_nlink > 1 else None
                    found.append((path, False, UNIT * taken(info), info.st_size, key, info.st_mtime))
    except OSError as error:
        closed(here, error.strerror or str(error))


def _list_share(folders: list[str], is_waited_for: Callable[[], bool]
                ) -> tuple[list[DiskEntry], list[tuple[str, str]]]:
    """Return the entries of folders and of all below them, and what cannot be listed."""
    found: list[DiskEntry] = []
    troubles: list[tuple[str, str]] = []
    while folders and is_waited_for():
        _list(folders.pop(), found, folders, lambda path, why: troubles.append((path, why)))
    return found, troubles
