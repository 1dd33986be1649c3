"""The system's loader: which libraries a compiled file needs, and where they are found."""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.native.binaries import BINARY_LIMIT, PARSE_ERRORS, Needed, read_binary, read_header
from kalyx.core.facts.native.ld_cache import parse_cache

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence
    from typing import Any

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.native.binaries import Binary

__all__ = ["Loader", "defines_symbol"]

MOST_LIBRARIES = 300              # of one walk
CACHE = "/etc/ld.so.cache"


def defines_symbol(files: Files, path: str, symbol: str) -> bool:
    """Whether a library's table of dynamic symbols has one that is not only wanted."""
    return bool(files.found(f"{symbol} in {path}", lambda real: _defines(real, path, symbol)))


def _defines(files: Files, path: str, symbol: str) -> bool:
    import io

    from elftools.common.exceptions import ELFError
    from elftools.elf.elffile import ELFFile

    try:
        data = files.read_bytes(path, BINARY_LIMIT)
        table: Any = ELFFile(io.BytesIO(data)).get_section_by_name(".dynsym")
        found = table.get_symbol_by_name(symbol) if table is not None and symbol.encode() in data else None
    except (Unreadable, ELFError, *PARSE_ERRORS):
        return False
    return any(s["st_shndx"] != "SHN_UNDEF" for s in found or ())


class Loader:
    """Looks for libraries as the system's loader does it for one process (ld.so(8))."""

    def __init__(self, files: Files, env: Mapping[str, str], program: Binary | None = None) -> None:
        self.files = files
        self.program = program
        self.library_path = [p or files.cwd for p in re.split("[:;]", env["LD_LIBRARY_PATH"])] \
            if env.get("LD_LIBRARY_PATH") else []
        self._cache: dict[str, list[str]] | None = None
        self._read: dict[str, Binary] = {}

    def read(self, path: str) -> Binary:
        """Read a compiled file, once."""
        if path not in self._read:
            self._read[path] = read_binary(self.files, path)
        return self._read[path]

    def without_variable(self) -> Loader:
        """Return the same loader for a process without LD_LIBRARY_PATH."""
        return Loader(self.files, {}, self.program)

    def has(self, path: str, symbol: str) -> bool:
        """Whether a library has a symbol, or offers a symbol version of that name."""
        return symbol in self.read(path).offers or defines_symbol(self.files, path, symbol)

    def walk(self, path: str) -> list[Needed]:
        """Return every library that a compiled file needs, directly or further down, in load order."""
        first = self.read(path)
        queue: list[tuple[Binary, tuple[str, ...]]] = [(first, first.rpath)]
        seen: set[str] = set()
        found: list[Needed] = []
        while queue and len(found) < MOST_LIBRARIES:
            binary, inherited = queue.pop(0)
            for name in binary.needed:
                if name in seen:
                    continue
                seen.add(name)
                place, searched = self.find(name, binary, inherited)
                found.append(Needed(name, binary.path, place, tuple(searched)))
                if place is not None:
                    inner = self.read(place)
                    queue.append((inner, (*inner.rpath, *self._here(inherited, binary))))
        return found

    def find(self, name: str, asker: Binary, inherited: Sequence[str] = ()) -> tuple[str | None, list[str]]:
        """Return where a library is found, and the folders that were looked into."""
        m = self.files
        if "/" in name:
            return (name if m.is_file(name) else None), [m.path.dirname(name)]
        folders: list[str] = []
        if not asker.runpath:  # DT_RPATH, its own and that of what loaded it, counts without DT_RUNPATH
            folders += self._here((*asker.rpath, *inherited), asker)
            if self.program is not None and not self.program.runpath:
                folders += self._here(self.program.rpath, self.program)
        folders += self.library_path
        folders += self._here(asker.runpath, asker)
        for folder in folders:
            place = m.path.join(folder, name)
            if m.is_file(place) and self._fits(place, asker):
                return place, folders
        for place in self.cache().get(name, ()):
            if m.is_file(place) and self._fits(place, asker):
                return place, [*folders, CACHE]
        defaults = self.default_folders(asker)
        for folder in defaults:
            place = m.path.join(folder, name)
            if m.is_file(place) and self._fits(place, asker):
                return place, [*folders, CACHE, *defaults]
        return None, [*folders, CACHE, *defaults]

    def _here(self, folders: Sequence[str], asker: Binary) -> list[str]:
        """Return folders with $ORIGIN, $LIB and $PLATFORM written out for one file."""
        origin = self.files.path.dirname(self.files.real_path(asker.path))
        library = "lib64" if asker.bits == 64 else "lib"
        return [str(self.files.path.normpath(
            f.replace("${ORIGIN}", origin).replace("$ORIGIN", origin).replace("${LIB}", library)
            .replace("$LIB", library))) for f in folders]

    def _fits(self, place: str, asker: Binary) -> bool:
        try:
            head = read_header(self.files.read_bytes(place, 64), place)
        except Unreadable:
            return False
        return head.form == asker.form and head.bits == asker.bits and head.machines == asker.machines

    def default_folders(self, asker: Binary) -> list[str]:
        """Return the folders that the loader looks into when nothing else has it."""
        return ["/lib64", "/usr/lib64", "/lib", "/usr/lib"] if asker.bits == 64 else ["/lib", "/usr/lib"]

    def cache(self) -> dict[str, list[str]]:
        """Return the loader's cache of libraries by name; empty where there is none."""
        if self._cache is None:
            try:
                self._cache = parse_cache(self.files.read_bytes(CACHE))
            except Unreadable:
                self._cache = {}
        return self._cache
