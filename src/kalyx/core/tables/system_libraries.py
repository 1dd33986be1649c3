"""Which package of a system brings a shared library, or what a build needs."""

from __future__ import annotations

from kalyx.core.tables.load import load

__all__ = ["build_packages", "system_packages"]


def system_packages() -> dict[str, str]:
    """Return which Debian package brings a shared library, by its file name."""
    found: dict[str, str] = load("system_libraries.json")["debian"]
    return found


def build_packages() -> dict[str, str]:
    """Return which Debian package brings a header, a library or a tool that a build needs, by its name."""
    found: dict[str, str] = load("system_libraries.json")["debian_build"]
    return found
