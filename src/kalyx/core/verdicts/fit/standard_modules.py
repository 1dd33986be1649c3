"""Which versions of Python have what code imports of the standard library."""

from __future__ import annotations

from functools import cache

from kalyx.core.model import version_pair
from kalyx.core.tables.standard_library import library_names, stdlib_history

__all__ = ["lacks_by_version", "pythons_with"]


@cache
def lacks_by_version(version: str, module: str) -> str:
    """Say that a version of Python came before a module of the standard library, or after it went; else empty."""
    pair = version_pair(version)
    for name in dict.fromkeys((module, module.split(".")[0])):
        row = stdlib_history()["modules"].get(name) or [None, None]
        first, gone = version_pair(row[0] or "2.0"), version_pair(row[1] or "99.0")
        if pair < first or pair >= gone:
            when = f"it came with Python {row[0]}" if pair < first else f"it went with Python {row[1]}"
            return f"Python {version} has no {name}: {when}"
    return ""


def pythons_with(module: str, name: str | None) -> str:
    """Return the versions of Python (PEP 440) whose module has a name; empty where all have it, as far as is known."""
    gone = stdlib_history()["names"].get(f"{module}.{name}")
    since = library_names()["names"].get(module, {}).get(name, "")
    if gone or since.startswith("-"):
        return f"<{gone[0] if gone else since[1:]}"
    return f">={since}" if since else ""
