"""Says which of the cluster's loaded modules brings a folder of PYTHONPATH that an answer shows."""

from __future__ import annotations

from kalyx.core.facts.shells.loaded_modules import brought_by
from kalyx.core.model import Note

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable

    from kalyx.core.facts.files import Files
    from kalyx.core.model import Seat

__all__ = ["module_notes"]


def module_notes(files: Files, seat: Seat, paths: Iterable[str]) -> list[Note]:
    """Return a note for each entry of the seat's PYTHONPATH that holds one of the paths and comes from a module."""
    env, shown = seat.launch.env if seat.launch else {}, list(paths)
    if not env.get("LOADEDMODULES"):
        return []
    found = []
    for entry in dict.fromkeys(e for e in env.get("PYTHONPATH", "").split(files.path_separator) if e):
        brought = brought_by(files, env, "PYTHONPATH", entry) if any(
            files.is_within(p, files.absolute(entry)) for p in shown) else None
        if brought is not None:
            where = f" ({brought.evidence.path}, line {brought.evidence.line})" if brought.evidence.line else ""
            says = brought.evidence.says
            found.append(Note("from-loaded-module", f"{says[0].upper()}{says[1:]}{where}; module unload "
                              f"{brought.module} takes it out.", brought.evidence.path))
    return found
