"""What files take on the disk: every entry below some folders, by what the system has allocated to it.

Most of the time is the system's own, a call for each file. Where copies of this process can be had for nothing, each
goes through a share of the folders, and gives back no more than what was made of it.
"""

from __future__ import annotations

import os
from operator import attrgetter
from stat import S_ISDIR

from kalyx.core.machine.copies import can_copy_itself, end_if_left, shared_out

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Sequence
    from typing import Any

    from kalyx.core.model.weight import DiskEntry, DiskFolder

__all__ = ["read_in_shares"]

UNIT, taken = (512, attrgetter("st_blocks")) if hasattr(os.stat_result, "st_blocks") else (1, attrgetter("st_size"))
MOST_COPIES = 4
ENOUGH = 64  # folders to be shared out, so that nobody waits long for the last one


def read_in_shares(folders: Sequence[str], work: Callable[[list[DiskFolder]], Any],
                   closed: Callable[[str, str], object]) -> list[Any]:
    """Go through some folders and all below them; return what `work` makes of each share, which `marshal` can write.

    Links are not followed. Sparse files count as allocated. Where the system does not tell (Windows), what a file
    seems to have counts. `closed` is told of what cannot be listed.
    """
    found, queue = _first(folders, closed)
    if not can_copy_itself():
        return [work(found + _below(queue, closed))]
    while queue and len(queue) < ENOUGH:
        found.append(_list(queue.pop(0), queue, closed))

    def part(folder: str) -> tuple[Any, list[tuple[str, str]]]:
        troubles: list[tuple[str, str]] = []
        return work(_below([folder], lambda path, why: troubles.append((path, why)))), troubles

    done = shared_out(part, queue, min(os.cpu_count() or 1, MOST_COPIES, len(queue))) if queue else {}
    results = [work(found)]
    for number, folder in enumerate(queue):
        result, troubles = done.get(number) or part(folder)
        results.append(result)
        for path, why in troubles:
            closed(path, why)
    return results


def _first(folders: Iterable[str], closed: Callable[[str, str], object]) -> tuple[list[DiskFolder], list[str]]:
    """Return the entries of folders themselves, and those that are there."""
    found: list[DiskFolder] = []
    there = []
    for folder in folders:
        try:
            info = os.lstat(folder)
        except OSError as error:
            closed(folder, error.strerror or str(error))
            continue
        above, name = os.path.split(folder)
        found.append((above, [(name, True, UNIT * taken(info), info.st_size, None, info.st_mtime)]))
        there.append(folder)
    return found, there


def _below(queue: list[str], closed: Callable[[str, str], object]) -> list[DiskFolder]:
    """Return what lies in the folders of a queue, and in all below them."""
    found = []
    while queue:
        found.append(_list(queue.pop(), queue, closed))
        end_if_left()
    return found


def _list(here: str, queue: list[str], closed: Callable[[str, str], object]) -> DiskFolder:
    """Return what lies in a folder, and add the folders among that to the queue."""
    found: list[DiskEntry] = []
    try:
        with os.scandir(here) as entries:
            for entry in entries:
                info = entry.stat(follow_symlinks=False)
                if S_ISDIR(info.st_mode):
                    found.append((entry.name, True, UNIT * taken(info), info.st_size, None, info.st_mtime))
                    queue.append(entry.path)
                else:
                    key = (info.st_dev, info.st_ino) if info.st_nlink > 1 else None
                    found.append((entry.name, False, UNIT * taken(info), info.st_size, key, info.st_mtime))
    except OSError as error:
        closed(here, error.strerror or str(error))
    return here, found
