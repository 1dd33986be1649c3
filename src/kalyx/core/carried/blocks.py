"""The blocks of text that beacons print: found in whatever they were pasted into, checked line by line, and unpacked.

A line is ``TAG.NUMBER.DATA.CHECK``: the tag of its block, its number, up to 55 signs of base85, and two signs
that are computed from the line. No sign of the data is one that mail, a page or a chat changes; so quotes, tags,
colours, blanks and line ends can be taken away wherever they came in, and lines of several blocks may be mixed.
"""

from __future__ import annotations

import email
import html
import json
import quopri
import re
import urllib.parse
import zlib

from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator
    from typing import Any

__all__ = ["SIGNS", "Block", "find_blocks"]

SIGNS = "".join(chr(n) for n in range(33, 127) if chr(n) not in "&<>\"'\\`*.")
FORM = 1
MOST_UNPACKED = 16 * 1024 * 1024  # bytes
MOST_TEXT = 64 * 1024 * 1024      # characters of a text that is looked through
_VALUES = {sign: value for value, sign in enumerate(SIGNS)}
_DATA = re.escape(SIGNS)
_ROW = re.compile(rf"(?=(k[0-9a-f]{{5}})\.([0-9]{{4}})\.([{_DATA}]{{1,55}})\.([{_DATA}]{{2}}))")
_HEAD = re.compile(r"\[kalyxbeacon([0-9]{1,4}):(k[0-9a-f]{5})begins,([0-9]{1,5})lines,([0-9]{1,9})bytes\]")
_COLOUR = re.compile("\x1b(?:\\[[0-9;?]{0,40}[@-~]|\\][^\x07\x1b]{0,400}(?:\x07|\x1b\\\\))")
_QUOTE = re.compile(r"(?m)^[ \t]{0,8}(?:[>|:#%][ \t]{1,4}){1,20}")
_TAG = re.compile(r"</?[A-Za-z][^<>\n]{0,400}>")
_GONE = re.compile("[\\s\u200b\u200c\u200d\u2060\ufeff\u00ad<>\"'`*\\\\]+")


@record
class Block:
    """What was printed by one beacon: its facts, or what is wrong with it and where; ``tag`` tells it from others."""

    tag: str
    facts: Any = None
    damage: str = ""


def find_blocks(text: str) -> list[Block]:
    """Return the blocks in a text, in the order in which they begin; none where it has none."""
    best: list[Block] = []
    for reading in _readings(text[:MOST_TEXT]):
        blocks = _blocks_of(reading)
        if sum(not block.damage for block in blocks) > sum(not block.damage for block in best) or not best:
            best = blocks
        if best and not any(block.damage for block in best):
            break
    return best


def _readings(text: str) -> Iterator[str]:
    """Yield a text as it is, then as what it stands for in a mail that was saved (RFC 2045) or in an address."""
    yield text
    if "=3D" in text or re.search(r"=\r?\n", text):
        yield quopri.decodestring(text.encode("utf-8", "replace")).decode("utf-8", "replace")
    if re.search(r"(?im)^content-transfer-encoding:[ \t]*base64", text):
        yield "\n".join(_parts_of_mail(text))
    if "%5Bkalyx" in text:
        yield urllib.parse.unquote(text)


def _parts_of_mail(text: str) -> Iterator[str]:
    for part in email.message_from_string(text).walk():
        content = part.get_payload(decode=True)
        if isinstance(content, bytes):
            yield content.decode("utf-8", "replace")


def _blocks_of(text: str) -> list[Block]:
    squeezed = _squeezed(text)
    rows: dict[str, dict[int, str]] = {}
    twice: dict[str, int] = {}
    for match in _ROW.finditer(squeezed):
        tag, number, data, check = match[1], int(match[2]), match[3], match[4]
        is_whole = _check(f"{tag}.{match[2]}.{data}") == check
        if is_whole and rows.setdefault(tag, {}).setdefault(number, data) != data:
            twice.setdefault(tag, number)
    heads = {m[2]: (int(m[1]), int(m[3]), int(m[4])) for m in _HEAD.finditer(squeezed)}
    order = sorted({*heads, *rows}, key=squeezed.find)
    return [_block(tag, heads.get(tag), rows.get(tag, {}), twice.get(tag)) for tag in order]


def _squeezed(text: str) -> str:
    """Return a text without all that may have come in between: escapes, colours, quotes, tags, blanks."""
    if "\\n" in text or "\\u" in text or "\\r" in text:  # strings of JSON, and of Python
        text = re.sub(r"\\[nrt]", "\n", re.sub(r"\\(?:u001b|x1b|033)", "\x1b", text))
    text = _TAG.sub("", _COLOUR.sub("", text))
    if "&" in text:
        text = html.unescape(text)
    return _GONE.sub("", _QUOTE.sub("", text))


def _check(line: str) -> str:
    total = sum(n * ord(char) for n, char in enumerate(line, 1)) % (85 * 85)
    return SIGNS[total // 85] + SIGNS[total % 85]


def _block(tag: str, head: tuple[int, int, int] | None, rows: dict[int, str], twice: int | None) -> Block:
    if head is None:
        return Block(tag, damage="its first line is missing")
    form, count, size = head
    if form > FORM:
        return Block(tag, damage=f"it is of a newer form ({form}; this Kalyx reads {FORM})")
    missing = [n for n in range(count) if n not in rows]
    if missing:
        more = f", and {len(missing) - 1} more" if len(missing) > 1 else ""
        what = "is missing or changed" if not more else "are missing or changed"
        return Block(tag, damage=f"line {missing[0] + 1} of {count}{more} {what}")
    if twice is not None:
        return Block(tag, damage=f"its line {twice + 1} is there twice, and says two things")
    try:
        return Block(tag, _unpacked("".join(rows[n] for n in range(count)), size))
    except (ValueError, zlib.error, RecursionError) as error:
        return Block(tag, damage=f"it cannot be unpacked: {str(error) or 'it is nested too deeply'}")


def _unpacked(text: str, size: int) -> Any:
    """Return the facts.

    Raises:
        ValueError, zlib.error, RecursionError: they are none.
    """
    data = b"".join(_bytes(text))
    if not 0 <= len(data) - size < 4:
        raise ValueError(f"it has {len(data)} bytes, and says {size}")
    unpacker = zlib.decompressobj()
    found = unpacker.decompress(data[:size], MOST_UNPACKED)
    if unpacker.unconsumed_tail or not unpacker.eof:
        raise ValueError("it is cut off, or larger than is unpacked")
    return json.loads(found)


def _bytes(text: str) -> Iterator[bytes]:
    """Yield what each five signs stand for."""
    for at in range(0, len(text) // 5 * 5, 5):
        value = 0
        for sign in text[at:at + 5]:
            value = value * 85 + _VALUES[sign]
        if value >= 1 << 32:
            raise ValueError("five signs stand for no four bytes")
        yield value.to_bytes(4, "big")
