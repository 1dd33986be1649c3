"""Which environment an activation script names."""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.interpreters.command_words import follow_script
from kalyx.core.facts.interpreters.environment import prefix_of, program_folder
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
    started = follow_script(m, script, (), {}, folder)
    if started is None or started.trouble or not started.words[0].startswith("/") or "python" not in started.words[0]:
        return None
    return prefix_of(m, started.words[0]), Evidence(f"its pip script names {started.words[0]}", script, started.line)
