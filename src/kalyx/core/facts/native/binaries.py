"""Compiled files: what they are made for, what they need, and where the loader looks for it.

ELF is read with pyelftools and walked as ld.so(8) does it; of Mach-O and PE
files the header says for which machine they are.
"""

from __future__ import annotations

import struct

from kalyx.core.errors import Unreadable
from kalyx.core.lean.record import names_of, record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping
    from typing import Any

    from kalyx.core.facts.files import Files

__all__ = ["BINARY_LIMIT", "PARSE_ERRORS", "Binary", "Needed", "read_binary", "read_header"]

BINARY_LIMIT = 512 * 1024 * 1024  # bytes; some compiled parts are hundreds of megabytes
_ELF_MACHINES = {3: "x86", 8: "MIPS", 20: "PowerPC", 21: "PowerPC 64", 22: "s390", 40: "ARM",
                 62: "x86-64", 183: "AArch64", 243: "RISC-V", 258: "LoongArch"}
_MACH_MACHINES = {7: "x86", 0x01000007: "x86-64", 12: "ARM", 0x0100000C: "AArch64"}
_PE_MACHINES = {0x14C: "x86", 0x8664: "x86-64", 0x1C0: "ARM", 0xAA64: "AArch64"}
_SYSTEMS = {"ELF": "Linux", "Mach-O": "macOS", "PE": "Windows"}


@record
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


@record
class Needed:
    """A library that a binary needs: who asks for it, and where it was found (None: nowhere)."""

    name: str
    asked_by: str
    path: str | None
    searched: tuple[str, ...] = ()


# What reading a damaged file may raise
PARSE_ERRORS = (ValueError, KeyError, IndexError, AttributeError, struct.error, OverflowError, AssertionError,
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


def read_binary(files: Files, path: str) -> Binary:
    """Read a compiled file; an ELF file's dynamic section too."""
    made: list[Binary] = []

    def read(real: Files) -> dict[str, Any]:
        made.append(_read(real, path))
        return {name: getattr(made[0], name) for name in names_of(made[0])}

    found = files.found(f"the compiled file {path}", read)
    return made[0] if made else _of_data(path, found)


def _of_data(path: str, data: Mapping[str, Any]) -> Binary:
    """Return a compiled file of what was recorded of it; what is not as it should be is as if it were not known."""
    like = Binary(path)
    given = {n: data[n] for n in names_of(like) if isinstance(data.get(n), type(getattr(like, n)) | list)}
    lists = {n: tuple(str(x) for x in v) for n, v in given.items() if isinstance(getattr(like, n), tuple)}
    wants = data.get("wants")
    return Binary(**{**given, **lists, "wants": {str(k): tuple(map(str, v)) for k, v in wants.items()
                                                 if isinstance(v, list)} if isinstance(wants, dict) else None})


def _read(files: Files, path: str) -> Binary:
    try:
        data = files.read_bytes(path, BINARY_LIMIT)
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
    except (ELFError, *PARSE_ERRORS) as error:
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
