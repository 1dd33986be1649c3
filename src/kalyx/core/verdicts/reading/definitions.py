"""What a module will have once it has run, by its source."""

from __future__ import annotations

import re

from kalyx.core.errors import NotRecorded, Unreadable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case

__all__ = ["installed_as", "will_have"]


def installed_as(case: Case, file: str) -> str:
    """Return the top-level name under which a file lies in a site folder."""
    folder = max((x.path for x in case.modules.layers if case.files.is_within(file, x.path)), key=len)
    rest = case.files.path.relpath(file, folder)
    return str(rest.replace("\\", "/").split("/")[0].removesuffix(".py"))


def will_have(case: Case, module: str, name: str) -> bool:
    """Whether a module that is not yet run to its end would have a name then: else no ring is to blame."""
    from kalyx.core.facts.source_code.definitions import binds

    file = case.modules.file_of(module)
    if not file or not file.endswith(".py"):
        return True
    try:
        text = case.files.read_text(file)
    except (Unreadable, NotRecorded):
        return True
    if case.elsewhere.part([f"{module.replace('.', '/')}/{name}"]):
        return False  # a file of its own, which is lost here
    if "import *" in text and not name.startswith("_"):  # a star brings no private names
        return True
    if re.search(r"__getattr__|globals\(\)|\bexec\(|setattr\(", text) or binds(text, name):
        return True
    parts = [n for folder in case.modules.search_folders(module) for n in case.modules.finder.names(folder)]
    return any(n.split(".")[0] == name for n in parts)
