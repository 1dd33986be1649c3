"""What was compiled into the program of an interpreter: its version, and the place that it was built for.

A copy of a program that lies elsewhere finds its standard library by that alone (``PREFIX`` of CPython, or the
folder from which its shared library is loaded).
"""

from __future__ import annotations

import re
from itertools import islice

from kalyx.core.errors import Unreadable
from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

    from kalyx.core.facts.files import Files

__all__ = ["CompiledIn", "compiled_in"]

LARGEST = 64_000_000  # bytes of a program that are read
MOST_PLACES, MOST_VERSIONS = 400, 12
# Compiled where they are used: hardly any program is read
_PLACE = rb"\0(/[^\0\n]{1,400})(?=\0)"
_LIBRARY = rb"libpython([23]\.\d{1,2})[a-z]{0,3}\.(?:so|dylib)"
_VERSION = rb"\0([23]\.\d{1,2})(\.\d{1,2}(?:(?:a|b|rc)\d{1,2})?)\+?(?=\0)"


@record
class CompiledIn:
    """A base prefix with its standard library's folder; ``version`` is whole where the program itself has it."""

    prefix: str
    library: str
    short: str
    version: str | None = None


def compiled_in(files: Files, program: str) -> CompiledIn | None:
    """Return what a program was built for; None where nothing of that is there, or it does not say so.

    On Windows programs are not built for a place; there, what looks like one may be another machine's.
    """
    if files.platform == "win32":
        return None
    found = files.found(f"compiled in {program}", lambda m: _read(m, program))
    return CompiledIn(*found) if found else None


def _read(files: Any, program: str) -> list[str | None] | None:
    """Return prefix, library, short and whole version, as JSON has it."""
    m = files
    try:
        data = m.read_bytes(m.real_path(program), LARGEST)
    except Unreadable:
        return None
    whole = {v[1].decode(): (v[1] + v[2]).decode() for v in islice(re.finditer(_VERSION, data), MOST_PLACES)}
    loaded = [v[1].decode() for v in islice(re.finditer(_LIBRARY, data), MOST_PLACES)]
    for place in dict.fromkeys(_places(m, data)):
        for short in list(dict.fromkeys([*loaded, *whole]))[:MOST_VERSIONS]:
            library = next((p for p in (m.path.join(place, lib, f"python{short}{tag}") for lib in ("lib", "lib64")
                                        for tag in ("", "t")) if m.is_file(m.path.join(p, "os.py"))), None)
            if library is not None:
                return [place, library, short, whole.get(short)]
    return None


def _places(files: Any, data: bytes) -> list[str]:
    """Return the folders that a program names, and those above them: a shared library's folder is below its prefix."""
    found: list[str] = []
    for match in re.finditer(_PLACE, data):
        for text in match[1].decode("utf-8", "surrogateescape").split(":"):
            if text.startswith("/") and text.rstrip("/"):
                found += [text.rstrip("/"), files.path.dirname(text.rstrip("/"))]
        if len(found) > MOST_PLACES:
            break
    return [p for p in found if p != "/"]
