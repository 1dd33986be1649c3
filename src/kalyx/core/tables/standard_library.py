"""Which modules and names the standard library has had, and when."""

from __future__ import annotations

from kalyx.core.tables.load import load

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

__all__ = ["library_names", "stdlib_history"]


def stdlib_history() -> dict[str, Any]:
    """Return the table of standard library modules that came or went, and its companions."""
    return load("stdlib_history.json")


def library_names() -> dict[str, Any]:
    """Return the table of what came to the standard library and went, by version."""
    return load("library_names.json")
