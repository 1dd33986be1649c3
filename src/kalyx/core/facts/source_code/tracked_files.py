"""Which files below a folder version control holds already, by the lists that it keeps (git's index, hg's dirstate)."""

from __future__ import annotations

import struct

from kalyx.core.errors import Unreadable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.source_code.ignore_files import Checkout

__all__ = ["tracked_below"]

LARGEST = 256 * 1024 * 1024  # bytes of such a list


def tracked_below(files: Files, checkout: Checkout, folder: str) -> list[str]:
    """Return the files below a folder that are tracked, relative to the checkout's root.

    Nothing where there are none, or the list is of a kind that is not read.
    """
    inside = files.path.relpath(folder, checkout.root).replace(files.path.sep, "/") + "/"
    read = {"git": _git_index, "hg": _dirstate}.get(checkout.program)
    if read is None:
        return []
    try:
        return [name for name in read(files, checkout.root) if name.startswith(inside)]
    except (Unreadable, struct.error, ValueError, IndexError):
        return []


def _git_folder(files: Files, root: str) -> str:
    """Return a checkout's git folder, which a work tree of its own names in a file."""
    place = str(files.path.join(root, ".git"))
    if files.is_folder(place):
        return place
    return files.located(files.read_text(place, 4096).removeprefix("gitdir:").strip(), root)


def _git_index(files: Files, root: str) -> Iterator[str]:
    """Read gitformat-index(5), versions 2 to 4."""
    data = files.read_whole(files.path.join(_git_folder(files, root), "index"), LARGEST)
    mark, version, count = struct.unpack_from(">4sII", data)
    if mark != b"DIRC" or version not in (2, 3, 4):
        raise ValueError("it is no index")
    at, before = 12, b""
    for _ in range(count):
        flags = struct.unpack_from(">H", data, at + 60)[0]
        begin = at + (64 if version > 2 and flags & 0x4000 else 62)
        if version == 4:
            cut, begin = _offset(data, begin)
            end = data.index(b"\0", begin)
            before = before[:len(before) - cut] + data[begin:end]
            at = end + 1
        else:
            end = data.index(b"\0", begin)
            before = data[begin:end]
            at += (end - at + 8) // 8 * 8
        yield before.decode("utf-8", "surrogateescape")


def _offset(data: bytes, at: int) -> tuple[int, int]:
    """Return a number as git packs it, and where it ends."""
    number = data[at] & 0x7F
    while data[at] & 0x80:
        at += 1
        number = ((number + 1) << 7) | (data[at] & 0x7F)
    return number, at + 1


def _dirstate(files: Files, root: str) -> Iterator[str]:
    """Read Mercurial's dirstate, its first version; names that were removed are left out."""
    data = files.read_whole(files.path.join(root, ".hg", "dirstate"), LARGEST)
    at = 40
    if data.startswith(b"dirstate-v2"):
        raise ValueError("it is of a kind that is not read")
    while at < len(data):
        state, _, _, _, length = struct.unpack_from(">cllll", data, at)
        name = data[at + 17:at + 17 + length].split(b"\0")[0]
        at += 17 + length
        if state != b"r":
            yield name.decode("utf-8", "surrogateescape")
