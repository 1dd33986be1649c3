"""The lines of .pth files."""

from __future__ import annotations

from kalyx.core.errors import Unreadable
from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable

    from kalyx.core.facts.files import Files

__all__ = ["LinkLine", "link_lines"]


@record
class LinkLine:
    """A line of a .pth file: the folder that it adds, or the code that it runs."""

    file: str
    line: int
    text: str
    target: str | None


def link_lines(files: Files, folder: str, names: Iterable[str] | None = None) -> list[LinkLine]:
    """Read the .pth files of a site folder, as the site module does; `names` are those in it, if known."""
    m = files
    found = []
    listed = m.entries(folder) if names is None else names
    for name in sorted(n for n in listed if n.endswith(".pth")):
        file = m.path.join(folder, name)
        try:
            text = m.read_text(file, 1_048_576)
        except Unreadable:
            continue
        for number, raw in enumerate(text.splitlines(), 1):
            line = raw.rstrip()
            if not line or line.startswith("#"):
                continue
            runs = line.startswith(("import ", "import\t"))
            found.append(LinkLine(file, number, line,
                                  None if runs else m.located(line, folder)))
    return found
