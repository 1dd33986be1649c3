"""The cache of the loader of Linux, /etc/ld.so.cache."""

from __future__ import annotations

import struct

__all__ = ["parse_cache"]


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
