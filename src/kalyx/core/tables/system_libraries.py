"""Which package of a system brings a shared library."""

from __future__ import annotations

from kalyx.core.tables.load import load

__all__ = ["system_packages"]


def system_packages() -> dict[str, str]:
    """Return which Debian package brings a shared library, by its file name."""
    found: dict[str, str] = load("system_libraries.json")["debian"]
    return found
