"""Compiled files: what they are made for, what they need, and where the loader looks for it.

ELF is read with pyelftools and walked as ld.so(8) does it; of Mach-O and PE
files the header says for which machine they are.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Mapping, Sequence

from kalyx.core.errors import Unreadable
from kalyx.core.machine import Machine
from kalyx.core.record import TYPE_CHECKING, dataclass

if TYPE_CHECKING:
    from typing import Any

__all__ = ["Binary", "Loader", "Needed", "read_binary", "read_header"]

BINARY_LIMIT = 512 * 1024 * 1024  # bytes; some compiled parts are hundreds of megabytes
MOST_LIBRARIES = 300              # of one walk
CACHE = "/etc/ld.so.cache"
_ELF_MACHINES = {3: "x86", 8: "MIPS", 20: "PowerPC", 21: "PowerPC 64", 22: "s390", 40: "ARM",
                 62: "x86-64", 183: "AArch64", 243: "RISC-V", 258: "LoongArch"}
_MACH_MACHINES = {7: "x86", 0x01000007: "x86-64", 12: "ARM", 0x0100000C: "AArch64"}
_PE_MACHINES = {0x14C: "x86", 0x8664: "x86-64", 0x1C0: "ARM", 0xAA64: "AArch64"}
_SYSTEMS = {"ELF": "Linux", "Mach-O": "macOS", "PE": "Windows"}


@dataclass(frozen=True)
class Binary:
    """A compiled file. ``form`` is ELF, Mach-O or PE; ``trouble`` says what is wrong with the file."""

    path: str
    form: str = ""
    machines: tuple[str, ...] = ()
    bits: int = 0
    needed: tuple[str, ...] = ()
    rpath: tuple[str, ...] = ()
    runpath: tuple[str, ...] = ()
    name: str = ""                                     # its own DT_SONAME
    wants: Mapping[str, tuple[str, ...]] | None = None  # symbol versions, by library
    offers: tuple[str, ...] = ()                        # symbol versions that it defines
    trouble: str = ""

    @property
    def system(self) -> str:
        """The system that such files are for."""
        return _SYSTEMS.get(self.form, "an unknown system")

    @property
    def is_musl(self) -> bool:
        """Whether it is linked against the musl C library."""
        return any("musl" in n for n in self.needed)


@dataclass(frozen=True)
class Needed:
    """A library that a binary needs: who asks for it, and where it was found (None: nowhere)."""

    name: str
    asked_by: str
    path: str | None
    searched: tuple[str, ...] = ()


# What reading a damaged file may raise
_UNREADABLE = (ValueError, KeyError, IndexError, AttributeError, struct.error, OverflowError, AssertionError,
               TypeError)


def read_header(data: bytes, path: str = "") -> Binary:
    """Read for which system and machine a compiled file is, from its first bytes."""
    if len(data) < 20:
        return Binary(path, trouble="it is empty" if not data else f"it is only {len(data)} bytes long")
    if data[:4] == b"\x7fELF":
        order = ">" if data[5] == 2 else "<"
        machine = struct.unpack_from(order + "H", data, 18)[0]
        if machine not in _ELF_MACHINES or data[4] not in (1, 2):
            return Binary(path, "ELF", trouble="its ELF header names no machine that there is")
        return Binary(path, "ELF", (_ELF_MACHINES[machine],), 64 if data[4] == 2 else 32)
    magic = data[:4]
    if magic in (b"\xcf\xfa\xed\xfe", b"\xce\xfa\xed\xfe"):
        cpu = struct.unpack_from("<I", data, 4)[0]
        return Binary(path, "Mach-O", (_MACH_MACHINES.get(cpu, f"machine {cpu}"),),
                      64 if magic[0] == 0xCF else 32)
    if magic == b"\xca\xfe\xba\xbe" and struct.unpack_from(">I", data, 4)[0] < 20:
        count = struct.unpack_from(">I", data, 4)[0]
        cpus = [struct.unpack_from(">I", data, 8 + 20 * n)[0] for n in range(count)
                if len(data) >= 12 + 20 * n]
        return Binary(path, "Mach-O", tuple(_MACH_MACHINES.get(c, f"machine {c}") for c in cpus), 64)
    if data[:2] == b"MZ" and len(data) >= 64:
        start = struct.unpack_from("<I", data, 60)[0]
        if data[start:start + 4] == b"PE\0\0" and len(data) >= start + 6:
            cpu = struct.unpack_from("<H", data, start + 4)[0]
            return Binary(path, "PE", (_PE_MACHINES.get(cpu, f"machine {cpu}"),),
                          32 if cpu == 0x14C else 64)
    return Binary(path, trouble="it has no header of a compiled file")


def read_binary(machine: Machine, path: str) -> Binary:
    """Read a compiled file; an ELF file's dynamic section too."""
    try:
        data = machine.read_bytes(path, BINARY_LIMIT)
    except Unreadable as error:
        return Binary(path, trouble=error.reason)
    head = read_header(data, path)
    if head.form != "ELF" or head.trouble:
        return head
    return _read_elf(head, data)


def _read_elf(head: Binary, data: bytes) -> Binary:
    import io

    from elftools.common.exceptions import ELFError
    from elftools.elf.elffile import ELFFile

    try:
        file = ELFFile(io.BytesIO(data))
        needed, rpath, runpath, name = _dynamic(file)
        wants, offers = _versions(file)
        end = max((s["p_offset"] + s["p_filesz"] for s in file.iter_segments()
                   if s["p_type"] == "PT_LOAD"), default=0)
    except (ELFError, *_UNREADABLE) as error:
        return Binary(head.path, head.form, head.machines, head.bits,
                      trouble=f"it cannot be read as ELF ({type(error).__name__})")
    trouble = f"it is cut off: {len(data)} bytes of at least {end}" if end > len(data) else ""
    return Binary(head.path, "ELF", head.machines, head.bits, needed, rpath, runpath, name, wants, offers,
                  trouble)


def _dynamic(file: Any) -> tuple[tuple[str, ...], tuple[str, ...], tuple[str, ...], str]:
    needed: list[str] = []
    paths: dict[str, tuple[str, ...]] = {}
    name = ""
    for segment in file.iter_segments():
        if segment["p_type"] != "PT_DYNAMIC":
            continue
        for tag in segment.iter_tags():
            if tag.entry.d_tag == "DT_NEEDED":
                needed.append(tag.needed)
            elif tag.entry.d_tag == "DT_SONAME":
                name = tag.soname
            elif tag.entry.d_tag in ("DT_RPATH", "DT_RUNPATH"):
                text = tag.rpath if tag.entry.d_tag == "DT_RPATH" else tag.runpath
                paths[tag.entry.d_tag] = tuple(p for p in text.split(":") if p)
    return tuple(needed), paths.get("DT_RPATH", ()), paths.get("DT_RUNPATH", ()), name


def _versions(file: Any) -> tuple[dict[str, tuple[str, ...]], tuple[str, ...]]:
    from elftools.elf.gnuversions import GNUVerDefSection, GNUVerNeedSection

    wants: dict[str, tuple[str, ...]] = {}
    offers: list[str] = []
    for section in file.iter_sections():
        if isinstance(section, GNUVerNeedSection):
            for library, versions in section.iter_versions():
                wants[str(library.name)] = tuple(v.name for v in versions)
        elif isinstance(section, GNUVerDefSection):
            for _, names in section.iter_versions():
                offers += [n.name for n in names][:1]
    return wants, tuple(offers)


def _defines(machine: Machine, path: str, symbol: str) -> bool:
    """Whether a library's table of dynamic symbols has one that is not only wanted."""
    import io

    from elftools.common.exceptions import ELFError
    from elftools.elf.elffile import ELFFile

    try:
        data = machine.read_bytes(path, BINARY_LIMIT)
        table: Any = ELFFile(io.BytesIO(data)).get_section_by_name(".dynsym")
        found = table.get_symbol_by_name(symbol) if table is not None and symbol.encode() in data else None
    except (Unreadable, ELFError, *_UNREADABLE):
        return False
    return any(s["st_shndx"] != "SHN_UNDEF" for s in found or ())


class Loader:
    """Looks for libraries as the system's loader does it for one process (ld.so(8))."""

    def __init__(self, machine: Machine, env: Mapping[str, str], program: Binary | None = None) -> None:
        self.machine = machine
        self.program = program
        self.library_path = [p or machine.cwd for p in re.split("[:;]", env["LD_LIBRARY_PATH"])] \
            if env.get("LD_LIBRARY_PATH") else []
        self._cache: dict[str, list[str]] | None = None
        self._read: dict[str, Binary] = {}

    def read(self, path: str) -> Binary:
        """Read a compiled file, once."""
        if path not in self._read:
            self._read[path] = read_binary(self.machine, path)
        return self._read[path]

    def without_variable(self) -> Loader:
        """Return the same loader for a process without LD_LIBRARY_PATH."""
        return Loader(self.machine, {}, self.program)

    def has(self, path: str, symbol: str) -> bool:
        """Whether a library has a symbol, or offers a symbol version of that name."""
        return symbol in self.read(path).offers or _defines(self.machine, path, symbol)

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
        m = self.machine
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
        origin = self.machine.path.dirname(self.machine.real_path(asker.path))
        library = "lib64" if asker.bits == 64 else "lib"
        return [str(self.machine.path.normpath(
            f.replace("${ORIGIN}", origin).replace("$ORIGIN", origin).replace("${LIB}", library)
            .replace("$LIB", library))) for f in folders]

    def _fits(self, place: str, asker: Binary) -> bool:
        try:
            head = read_header(self.machine.read_bytes(place, 64), place)
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
                self._cache = parse_cache(self.machine.read_bytes(CACHE))
            except Unreadable:
                self._cache = {}
        return self._cache


def parse_cache(data: bytes) -> dict[str, list[str]]:
    """Read the loader's cache file (the format ``glibc-ld.so.cache1.1``)."""
    magic = b"glibc-ld.so.cache1.1"
    start = data.find(magic)
    found: dict[str, list[str]] = {}
    if start < 0 or len(data) < start + 48:
        return found
    count = min(struct.unpack_from("<I", data, start + 20)[0], 200_000)
    for number in range(count):
        place = start + 48 + 24 * number
        if place + 24 > len(data):
            break
        _, key, value = struct.unpack_from("<iII", data, place)
        name, path = _text_at(data, start + key), _text_at(data, start + value)
        found.setdefault(name, []).append(path)
    return found


def _text_at(data: bytes, place: int) -> str:
    end = data.find(b"\0", place)
    return data[place:end if end >= 0 else len(data)].decode("utf-8", "replace")
