"""What files take on the disk: every entry below some folders, by what the system has allocated to it.

Most of the time is the system's own, a call for each file. Where copies of this process can be had for nothing, each
goes through a share of the folders, and gives back no more than what was made of it.
"""

from __future__ import annotations

import os
from stat import S_ISDIR

from kalyx.core.machine.copies import can_copy_itself, end_if_left, shared_out
from kalyx.core.model.weight import DiskFolder

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Sequence
    from typing import Any


__all__ = ["read_in_shares"]

TOLD = hasattr(os.stat_result, "st_blocks")  # whether the system tells what it has allocated, in blocks of 512 bytes
LINKS_TOLD = os.name != "nt"  # there a listing does not tell of hard links, which conda makes there as well
JUNCTION = 0xA0000003  # IO_REPARSE_TAG_MOUNT_POINT: a link of Windows to a folder, which says that it is one
BY_OPENED = os.scandir in os.supports_fd
AS_FOLDER = os.O_RDONLY | getattr(os, "O_DIRECTORY", 0)
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
        found.append(DiskFolder(above))
        found[-1].folders.append((name, _taken(info)))
        there.append(folder)
    return found, there


def _below(queue: list[str], closed: Callable[[str, str], object]) -> list[DiskFolder]:
    """Return what lies in the folders of a queue, and in all below them."""
    found = []
    while queue:
        found.append(_list(queue.pop(), queue, closed))
        end_if_left()
    return found


def _taken(info: os.stat_result) -> int:
    return info.st_blocks * 512 if TOLD else info.st_size


def _list(here: str, queue: list[str], closed: Callable[[str, str], object]) -> DiskFolder:
    """Return what lies in a folder, and add the folders among that to the queue."""
    found = DiskFolder(here)
    try:
        if BY_OPENED:  # each file is found from there, and not along the whole path
            opened = os.open(here, AS_FOLDER)
            try:
                _read(opened, found)
            finally:
                os.close(opened)
        else:
            _read(here, found)
    except OSError as error:
        closed(here, error.strerror or str(error))
    if found.folders:
        start = here if here.endswith(os.sep) else here + os.sep
        queue += [start + name for name, _ in found.folders]
    return found


def _read(place: str | int, found: DiskFolder) -> None:
    """Write down what the system says of each entry: this is nearly all of the time."""
    names, blocks, apparent, changed = found.names, found.taken, found.apparent, found.changed
    with os.scandir(place) as entries:
        for entry in entries:
            try:
                info = entry.stat(follow_symlinks=False) if LINKS_TOLD else os.lstat(entry.path)
            except FileNotFoundError:
                continue  # it was there when the folder was listed
            if S_ISDIR(info.st_mode) and getattr(info, "st_reparse_tag", 0) != JUNCTION:
                found.folders.append((entry.name, _taken(info)))
                continue
            if info.st_nlink > 1:
                found.links[len(names)] = (info.st_dev, info.st_ino)
            names.append(entry.name)
            blocks.append(info.st_blocks * 512 if TOLD else info.st_size)
            apparent.append(info.st_size)
            changed.append(info.st_mtime)
