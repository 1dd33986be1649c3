"""Which DLL a compiled part needs and Windows does not find, as its loader looks for them.

The loader's own message names the compiled part alone. Since Python 3.8 a compiled part's DLLs are
looked for beside it, beside the program, in the system's folders, and in the folders that code adds
(``os.add_dll_directory``); PATH no longer counts.
"""

from __future__ import annotations

from kalyx.core.errors import Unreadable
from kalyx.core.facts.native.binaries import Needed

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.files import Files

__all__ = ["needed_dlls", "walk_dlls"]

LIMIT = 512 * 1024 * 1024  # bytes of one file
MOST = 200                 # files of one walk
# Sets of the system's interfaces: names that the loader knows without any file
_VIRTUAL = ("api-ms-win-", "ext-ms-")


def needed_dlls(files: Files, path: str) -> list[str]:
    """Return the DLLs that a file's import table names; none where it cannot be read."""
    return [str(name) for name in files.found(f"the DLLs of {path}", lambda real: _needed(real, path))]


def _needed(files: Files, path: str) -> list[str]:
    import pefile

    try:
        data = files.read_bytes(path, LIMIT)
        file = pefile.PE(data=data, fast_load=True)
        file.parse_data_directories([pefile.DIRECTORY_ENTRY["IMAGE_DIRECTORY_ENTRY_IMPORT"]])
    except (Unreadable, pefile.PEFormatError):
        return []
    tables = getattr(file, "DIRECTORY_ENTRY_IMPORT", ())
    return [table.dll.decode("utf-8", "replace") for table in tables if table.dll]


def walk_dlls(files: Files, path: str, folders: Sequence[str]) -> list[Needed]:
    """Return the DLLs that a compiled part needs, directly or further down, the system's own left out.

    `folders` are looked into beside its own and the system's: those of the program, and those that
    its code adds. Where the system's folder cannot be looked into, nothing is said.
    """
    m = files
    root = m.env.get("SystemRoot") or m.env.get("SYSTEMROOT") or "C:\\Windows"
    system = [m.path.join(root, "System32"), root]
    if not m.is_folder(system[0]):  # all of the system's own would seem to be missing
        return []
    beside = list(dict.fromkeys([m.path.dirname(path), *folders, *system]))
    seen: set[str] = set()
    needed: list[Needed] = []
    queue = [path]
    while queue and len(seen) < MOST:
        asker = queue.pop(0)
        for name in needed_dlls(m, asker):
            if name.lower() in seen or name.lower().startswith(_VIRTUAL):
                continue
            seen.add(name.lower())
            found = next((str(m.path.join(f, name)) for f in beside if m.is_file(m.path.join(f, name))), None)
            if found is None or m.path.dirname(found) not in system:
                needed.append(Needed(name, asker, found, tuple(beside)))
            if found is not None and m.path.dirname(found) not in system:
                queue.append(found)
    return needed
