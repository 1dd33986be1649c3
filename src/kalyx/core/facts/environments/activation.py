"""Which environment an activation script names."""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.interpreters.environment import prefix_of, program_folder
from kalyx.core.facts.interpreters.path_lookup import parse_shebang, read_head
from kalyx.core.model import Evidence

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files

__all__ = ["place_named"]

_ACTIVATE = re.compile(r"""^[ \t]*(?:export[ \t]+)?VIRTUAL_ENV=["']?([^"'\n$]+)["']?\s*$""", re.MULTILINE)


def place_named(m: Files, prefix: str) -> tuple[str, Evidence] | None:
    """Return the prefix that activation or the pip script names, and where it does."""
    folder = program_folder(m, prefix)
    activate = m.path.join(folder, "activate")
    try:
        match = _ACTIVATE.search(m.read_text(activate, 65536))
    except Unreadable:
        match = None
    if match and m.path.isabs(match.group(1)):
        line = match.string.count("\n", 0, match.start(1)) + 1
        return match.group(1), Evidence(f"activation sets VIRTUAL_ENV to {match.group(1)}",
                                        activate, line)
    script = m.path.join(folder, "pip")
    shebang = parse_shebang(read_head(m, script))
    if shebang is None or shebang.form == "env" or "python" not in shebang.program:
        return None
    return prefix_of(m, shebang.program), Evidence(
        f"its pip script names {shebang.program}", script, shebang.line)
