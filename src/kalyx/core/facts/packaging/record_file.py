"""RECORD: which files a distribution consists of, and what they must hold (PEP 376, 427)."""

from __future__ import annotations

import re
from functools import cached_property

from kalyx.core.errors import Unreadable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator

    from kalyx.core.facts.files import Files
    from kalyx.core.model import Distribution

__all__ = ["Record", "names_of"]

RECORD_LIMIT = 64 * 1024 * 1024  # bytes
MOST_CHECKED = 4000              # files that are compared with their hashes
_RUN = re.compile(r"^([^/,\n]*/).*(?:\n\1.*)*|^[^/,\n]+", re.MULTILINE)


class Record:
    """A distribution's RECORD. ``rows`` maps paths as written to (hash, size)."""

    def __init__(self, files: Files, distribution: Distribution) -> None:
        self.files = files
        self.folder = distribution.location
        self.path = str(files.path.join(distribution.metadata, "RECORD"))
        self._differences: dict[str, str] = {}  # a compiled part can be large, and is asked about again and again
        self._text = self._read(self.path)
        if not self._text:
            listed = str(files.path.join(distribution.metadata, "installed-files.txt"))  # of setuptools before wheels
            self._text = _as_record(self._read(listed))
            self.path = listed if self._text else self.path

    def _read(self, path: str) -> str:
        try:
            return self.files.read_text(path, RECORD_LIMIT)
        except Unreadable:
            return ""

    @cached_property
    def rows(self) -> dict[str, tuple[str, int | None]]:
        """What is listed: the path as written -> (hash, size)."""
        return dict(_parse(self._text.splitlines()))

    @property
    def names(self) -> list[str]:
        """The paths as written, read quickly: where a file is large, and only its names are asked for."""
        return [name for _, run in self.runs for name in names_of(run)]

    @cached_property
    def runs(self) -> list[tuple[str, str | list[str]]]:
        """The rows that start with the same ``folder/`` and follow each other; `names_of` takes them apart.

        The folder is empty for files in none.
        """
        if '"' in self._text:
            return [(name[:name.find("/") + 1], [name]) for name in self.rows]
        text = self._text.replace("\r\n", "\n") if "\r" in self._text else self._text
        return [(run[1] or "", run[0]) for run in _RUN.finditer(text)]

    @property
    def names_apart(self) -> list[str]:
        """Those that are not plainly below the folder: they lead up, or are absolute."""
        return [name for _, run in self.runs if isinstance(run, list) or ".." in run or run[0] == "/" or run[1:2] == ":"
                for name in names_of(run) if ".." in name or name[0] == "/" or name[1:2] == ":"]

    @property
    def code(self) -> list[str]:
        """The files of code and the compiled ones, as written."""
        return [p for p in self.rows if p.endswith((".py", ".pyd", ".dll", ".dylib"))
                or ".so" in p.rsplit("/", 1)[-1]]

    def absolute(self, row: str) -> str:
        """Return where the file of a row is."""
        return str(self.files.path.normpath(self.files.path.join(self.folder, row)))

    def row_of(self, file: str) -> str | None:
        """Return the row of a file, None when RECORD does not list it."""
        m = self.files
        row = m.path.relpath(file, self.folder).replace("\\", "/") if file else ""
        if not row or row not in self._text:  # most distributions do not: their rows are not taken apart for that
            return None
        return row if row in self.rows else None

    def part_of(self, module: str, name: str | None = None) -> int:
        """Return how many parts of a dotted module, and of the module `name` in it, lead to a file that it lists.

        0 where none does. Where a name is shared by several distributions (PEP 420), the most tell whose it is.
        """
        parts = [*module.split("."), *([name] if name else [])]
        text = "\n" + self._text.replace("\\", "/").replace('\n"', "\n")
        for count in range(len(parts), 0, -1):
            path = "/".join(parts[:count])
            if f"\n{path}" in text and re.search(
                    rf"\n{re.escape(path)}(?:/__init__)?\.(?:[\w-]+\.)?(?:py|pyc|so|pyd)\b", text):
                return count
        return 0

    def lists(self, start: str) -> bool:
        """Whether a row begins with `start`."""
        return start in self._text and any(row.startswith(start) for row in self.rows)

    def missing(self) -> list[str]:
        """Return the rows of code whose files are not there; a folder or a pipe in the place of one is none."""
        return [p for p in self.code if not self.files.is_file(self.absolute(p))]

    def difference(self, row: str) -> str:
        """Say how a file differs from what was installed; empty when it does not, or is not there."""
        if row not in self._differences:
            self._differences[row] = self._compare(row)
        return self._differences[row]

    def _compare(self, row: str) -> str:
        digest, size = self.rows[row]
        path = self.absolute(row)
        info = self.files.stat(path)
        if info is None or info.kind != "file":
            return ""
        if size is not None and info.size != size:
            return f"RECORD says {size} bytes, and it has {info.size}"
        kind, _, wanted = digest.partition("=")
        if not wanted:
            return ""
        found = self.files.digest(path, kind)
        return "" if found in (wanted, "") else f"its {kind} is not the one in RECORD"

    def emptied(self) -> list[str]:
        """Return the rows of code whose files have nothing in them any more; only their sizes are looked at."""
        rows = [p for p in self.code[:MOST_CHECKED] if self.rows[p][1]]
        return [p for p in rows if (info := self.files.stat(self.absolute(p))) is not None
                and info.kind == "file" and info.size == 0]

    def changed(self) -> list[tuple[str, str]]:
        """Return the files of code that differ, each with how."""
        found = ((self.absolute(p), self.difference(p)) for p in self.code[:MOST_CHECKED])
        return [(path, how) for path, how in found if how]


def names_of(run: str | list[str]) -> list[str]:
    """Return the paths of a run of rows, as written."""
    return run if isinstance(run, list) else [line.partition(",")[0] for line in run.split("\n")]


def _parse(lines: list[str]) -> Iterator[tuple[str, tuple[str, int | None]]]:
    """Yield the rows; those before a broken one count."""
    import csv

    try:
        for row in csv.reader(lines):
            if row and row[0]:
                size = row[2] if len(row) > 2 else ""
                number = int(size) if size.isdecimal() and len(size) < 19 else None
                yield row[0], (row[1] if len(row) > 1 else "", number)
    except csv.Error:
        return


def _as_record(listed: str) -> str:
    """Write the paths of an installed-files.txt, which start at the metadata folder, as those of a RECORD."""
    paths = re.findall(r"^\.\./(\S.*)$", listed.replace("\\", "/"), re.MULTILINE)
    return "".join(f'"{path}",,\n' for path in paths)
