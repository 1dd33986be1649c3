"""What belongs to a distribution that came without a list of its files.

Eggs are folders of their own. What a system's packages and old installers left says only which modules it brings
(``top_level.txt``), and from which sources it was built (``SOURCES.txt``).
"""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files
    from kalyx.core.model import Distribution

__all__ = ["built_from", "top_modules"]

SOURCES_LIMIT = 8 * 1024 * 1024  # bytes
_SOURCE = re.compile(r"^(?:src/|lib/)?([^/\n][^\n]{0,400}\.py)$", re.MULTILINE)


def top_modules(files: Files, distribution: Distribution) -> list[str]:
    """Return what belongs to it alone of a site folder: packages, and files of modules; by their names there.

    Nothing of packages that it shares with others by its own word (``namespace_packages.txt``).
    """
    named = _lines(files, distribution, "top_level.txt") - _lines(files, distribution, "namespace_packages.txt")
    found = []
    for name in sorted(files.names_in(distribution.location)) if named else ():
        stem, dot, ending = name.partition(".")
        if stem in named and (not dot or ending.endswith(("py", "so", "pyd"))):
            found.append(name)
    return found


def built_from(files: Files, distribution: Distribution) -> list[str]:
    """Return the sources that it was built from and that are there, as paths below its site folder."""
    rows = _SOURCE.findall(_text(files, distribution, "SOURCES.txt").replace("\r\n", "\n"))
    return [row for row in rows if "/" in row and ".." not in row
            and files.is_file(files.path.join(distribution.location, *row.split("/")))]


def _lines(files: Files, distribution: Distribution, name: str) -> set[str]:
    """Return the top-level names in a file of its metadata."""
    return {line.strip() for line in _text(files, distribution, name).splitlines() if line.strip().isidentifier()}


def _text(files: Files, distribution: Distribution, name: str) -> str:
    try:
        return files.read_text(files.path.join(distribution.metadata, name), SOURCES_LIMIT)
    except Unreadable:
        return ""
