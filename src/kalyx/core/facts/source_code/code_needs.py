"""What one file of code needs to run, as it was read."""

from __future__ import annotations

from kalyx.core.facts.source_code.control_flow import Tried
from kalyx.core.facts.source_code.imports import ImportedName
from kalyx.core.facts.source_code.python_range import Bound
from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

__all__ = ["CodeNeeds", "needs_of_data"]


@record
class CodeNeeds:
    """What one file imports, the Pythons that can run it, the TOML of its own block, and what could not be read."""

    path: str
    imports: tuple[ImportedName, ...] = ()
    bounds: tuple[Bound, ...] = ()
    folders: tuple[str, ...] = ()  # that it adds to the search path itself
    block: str = ""
    block_line: int = 0
    trouble: str = ""
    line: int | None = None
    unread: tuple[int, ...] = ()  # lines that change the search path in a way that cannot be read
    is_code: bool = True  # False where nothing of it could be parsed, and no other Python is known to do it
    runs: tuple[str, ...] = ()  # files that a notebook's magics run (``%run``), as written
    installs: tuple[tuple[str, int, int], ...] = ()  # what its cells have pip install: as written, line, cell
    is_parsed: bool = True  # False where its text shows that it says nothing that others do not


def needs_of_data(data: dict[str, Any]) -> CodeNeeds:
    """Return what a file needs as it was written as plain data.

    Raises:
        TypeError, ValueError, KeyError: it is not what was written.
    """
    imports = tuple(ImportedName(module, name, line, guard, cell, "", tuple(Tried(*row) for row in rows), "", depth,
                                 marker) for module, name, line, guard, cell, rows, depth, marker in data["imports"])
    bounds = tuple(Bound(*row) for row in data["bounds"])
    return CodeNeeds(str(data["path"]), imports, bounds, tuple(data["folders"]), data["block"], data["block_line"],
                     data["trouble"], data["line"], tuple(data["unread"]), data["is_code"], tuple(data["runs"]),
                     tuple((word, line, cell) for word, line, cell in data["installs"]))
