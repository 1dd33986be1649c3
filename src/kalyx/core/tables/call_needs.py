"""What a call needs by the form of what it is given: paths by their ending, addresses by their scheme."""

from __future__ import annotations

from kalyx.core.tables.load import load

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping
    from typing import Any

__all__ = ["rows_of"]


def rows_of(library: str) -> list[Mapping[str, Any]]:
    """Return the rows about calls into a library, by its module's name; mostly none."""
    return [row for row in load("call_needs.json")["rows"] if row["call"].split(".")[0] == library]
