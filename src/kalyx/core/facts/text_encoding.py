"""Text files of any encoding that people's shells and editors write."""

from __future__ import annotations

__all__ = ["decode_text"]


def decode_text(data: bytes) -> str:
    """Decode a text file: UTF-16 where its first bytes or its many zeros say so, else UTF-8.

    What a Windows shell redirects to a file may be UTF-16.
    """
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return data.decode("utf-16", "replace")
    if data[1:200:2].count(0) > len(data[1:200:2]) // 2:
        return data.decode("utf-16-le", "replace")
    return data.decode("utf-8-sig", "replace")
