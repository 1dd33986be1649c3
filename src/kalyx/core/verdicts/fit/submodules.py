"""Whether a package has a module inside it, by its files: only what cannot be there is said not to be."""

from __future__ import annotations

import re

from kalyx.core.errors import NotRecorded, Unreadable
from kalyx.core.facts.search_path.modules import EXTENSION

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable

    from kalyx.core.facts.files import Files

__all__ = ["cannot_have"]

LIMIT = 1024 * 1024  # bytes of a package's first file
# What a package has in its first file that may bring modules which no file shows
_BRINGS_MORE = ("__path__", "sys.modules", "meta_path", "__getattr__", "lazy", "import_module", "globals()", "exec(",
                "import_hook", "ModuleType")


def cannot_have(files: Files, sites: Iterable[str], module: str) -> bool:
    """Whether a dotted module (``a.b.c``) cannot be had from some site folders, the first of which has ``a`` decides.

    False also where that cannot be told: of a package that brings modules in its own way, or is no folder.
    """
    m = files
    top, *parts = module.split(".")
    try:
        folder = next((f for s in sites if m.is_folder(f := m.path.join(s, top))), None)
        if folder is None or not m.is_file(m.path.join(folder, "__init__.py")):
            return False
        for part in parts:
            if _may_bring(m, folder, part):
                return False
            inside = m.path.join(folder, part)
            if not m.is_folder(inside):
                return not any(n in (f"{part}.py", f"{part}.pyc") or _is_extension(n, part) for n in m.names_in(folder))
            folder = inside
    except (NotRecorded, Unreadable):
        pass
    return False


def _may_bring(files: Files, folder: str, part: str) -> bool:
    """Whether a package's first file speaks of a part, or of a way to bring parts that are no files."""
    place = files.path.join(folder, "__init__.py")
    text = files.read_text(place, LIMIT) if files.is_file(place) else ""
    return any(word in text for word in _BRINGS_MORE) or re.search(rf"\b{re.escape(part)}\b", text) is not None


def _is_extension(name: str, part: str) -> bool:
    match = EXTENSION.match(name)
    return match is not None and match["module"] == part
