"""The files that a live process has mapped into its memory, as Linux lists them (proc(5))."""

from __future__ import annotations

from kalyx.core.errors import Unreadable
from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files

__all__ = ["MappedFile", "mapped_files"]

MOST_READ = 8 * 1024 * 1024  # bytes of the list
GONE = " (deleted)"


@record
class MappedFile:
    """A file in a process's memory; ``is_replaced`` where the name leads to another file now, or to none."""

    path: str
    is_replaced: bool


def mapped_files(files: Files, pid: int) -> list[MappedFile]:
    """Return the compiled files that a process has mapped, each once; none where that may not be read."""
    if files.platform != "linux":
        return []
    try:
        text = files.read_text(f"/proc/{pid}/maps", MOST_READ)
    except Unreadable:
        return []
    found: dict[str, MappedFile] = {}
    for line in text.split("\n"):
        parts = line.split(None, 5)
        if len(parts) == 6 and parts[5].startswith("/") and ".so" in parts[5]:
            path = parts[5].removesuffix(GONE)
            info = files.stat(path)
            other = info is None or (info.key != (0, 0) and str(info.key[1]) != parts[4])
            found[path] = MappedFile(path, parts[5].endswith(GONE) or other)
    return list(found.values())
