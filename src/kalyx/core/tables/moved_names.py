"""Parts of packages that were dropped, moved or renamed, and in which version."""

from __future__ import annotations

from kalyx.core.tables.load import load

__all__ = ["moved_part"]


def moved_part(part: str) -> tuple[str, str] | None:
    """Return which versions have a part (``module`` or ``module:name``), and its name now, if known."""
    found = load("moved_names.json")["moved"].get(part)
    return (str(found[0]), str(found[1])) if found else None
