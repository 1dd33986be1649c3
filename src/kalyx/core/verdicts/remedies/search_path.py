"""Remedies that let a folder be imported from."""

from __future__ import annotations

from kalyx.core.lean.record import replace
from kalyx.core.model import Edit, Remedy

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case

__all__ = ["reach", "run_as_module"]


def reach(case: Case, place: str, name: str) -> list[Remedy]:
    """Return how to have a folder of the person's own on the path: by a .pth file, or by hand."""
    m = case.files
    started = f" Python from {place}, where {name} lies, or add that folder to PYTHONPATH."
    by_hand = Remedy(f"Start{started}", "manual", changes="where imports are looked for")
    site = next((x.path for x in case.modules.layers if x.layer == "env"), None)
    if site is None or case.python.prefix == case.python.base_prefix or (m.platform == "win32" and not place.isascii()):
        return [by_hand]
    file = m.path.join(site, f"{m.path.basename(place)}-folder.pth")
    if m.exists(file) or not m.may_write(site):
        return [by_hand]
    says = f"Have {case.environment_name} look into {place} too, wherever Python is started from."
    change = Edit(file, None, f"{place}\n")
    return [Remedy(says, "edit", edits=(change,), changes=f"adds {file}", undoable=True),
            replace(by_hand, do=f"Or start{started}")]


def run_as_module(case: Case, folder: str, dotted: str) -> Remedy:
    """Return how to run a file of a package as what it is; `folder` holds the package."""
    return Remedy(f"Run it as a module of its package, from {folder}.", "command",
                  argv=(case.python.executable, "-m", dotted), cwd=folder, changes="nothing")
