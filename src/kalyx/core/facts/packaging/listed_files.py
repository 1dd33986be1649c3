"""Which distribution lists which file of a site folder, read from their RECORDs as far as it is asked for.

An environment has hundreds of thousands of rows, most of a distribution's below one folder: what is asked about a
folder takes no more than the rows that begin as it does.
"""

from __future__ import annotations

from kalyx.core.facts.packaging.record_file import names_of

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.facts.packaging.record_file import Record

__all__ = ["ListedFiles"]


class ListedFiles:
    """The owners, by number, of what is listed below one folder; paths have ``/``, as they are written."""

    def __init__(self) -> None:
        self._runs: dict[str, list[tuple[int, str | list[str]]]] = {}  # by the first folder of their paths
        self._added: dict[str, dict[str, int]] = {}  # in the same way
        self._read: dict[str, dict[str, int]] = {}

    def take(self, number: int, record: Record) -> None:
        """Take up what a distribution lists. What several list belongs to the one that was taken up first."""
        for first, run in record.runs:
            self._runs.setdefault(first, []).append((number, run))

    def add(self, path: str, number: int) -> None:
        """Give somebody a file that nobody lists, and that nobody was given before; a listed one stays whose it is."""
        first = _first_of(path)
        self._added.setdefault(first, {}).setdefault(path, number)
        self._read.pop(first, None)

    def names(self) -> set[str]:
        """Return what is listed in the folder itself, files and folders."""
        listed = {first[:-1] for first in (*self._runs, *self._added)}
        return listed.union(self.below("")) - {""}

    def below(self, start: str) -> Mapping[str, int]:
        """Return the owners of all below the folder with which a path starts, or more; of the files in none: ''."""
        first = _first_of(start)
        found = self._read.get(first)
        if found is None:
            found = self._read[first] = dict(self._added.get(first, ()))
            for number, run in reversed(self._runs.get(first, ())):
                found.update(dict.fromkeys(names_of(run), number))
        return found


def _first_of(path: str) -> str:
    """Return the first folder of a path, with its ``/``; empty where it has none."""
    first, slash, _ = path.partition("/")
    return first + slash if slash else ""
