"""Small Windows files: compiled parts whose import table names what they need."""

from __future__ import annotations

import struct
from collections.abc import Sequence

START, PLACE = 0x400, 0x1000  # of the one section: in the file, and in memory
X86_64, X86 = 0x8664, 0x14C


def windows_file(needs: Sequence[str] = (), machine: int = X86_64) -> bytes:
    """Return a DLL (PE32+ and PE32) that imports one ordinal from each of `needs`."""
    wide = machine != X86
    size = 8 if wide else 4
    thunks = PLACE + 20 * (len(needs) + 1)
    names = thunks + 2 * size * len(needs)
    table, thunk_bytes, name_bytes = b"", b"", b""
    for number, name in enumerate(needs):
        place = thunks + 2 * size * number
        table += struct.pack("<IIIII", place, 0, 0, names + len(name_bytes), place)
        thunk_bytes += struct.pack("<QQ" if wide else "<II", (1 << 8 * size - 1) + 1, 0)
        name_bytes += name.encode() + b"\0"
    section = table + bytes(20) + thunk_bytes + name_bytes
    folders = [(0, 0), (PLACE, len(table) + 20), *[(0, 0)] * 14]
    optional = struct.pack("<HBBIIIII", 0x20B if wide else 0x10B, 14, 0, 0, len(section), 0, 0, PLACE)
    base = [0x180000000] if wide else [0, 0x10000000]
    optional += struct.pack("<QII" if wide else "<IIII", *base, 0x1000, 0x200)
    optional += struct.pack("<HHHHHHIIIIHH", 6, 0, 0, 0, 6, 0, 0, 0x2000, START, 0, 2, 0)
    optional += struct.pack("<QQQQII" if wide else "<IIIIII", 0, 0, 0, 0, 0, 16)
    optional += b"".join(struct.pack("<II", *folder) for folder in folders)
    head = b"MZ" + bytes(58) + struct.pack("<I", 64) + b"PE\0\0"
    head += struct.pack("<HHIIIHH", machine, 1, 0, 0, 0, len(optional), 0x2022) + optional
    head += struct.pack("<8sIIIIIIHHI", b".rdata", len(section), PLACE, len(section), START, 0, 0, 0, 0,
                        0x40000040)
    return head.ljust(START, b"\0") + section
