"""Shares what an environment takes on the disk out among its distributions."""

from __future__ import annotations

from kalyx.core.facts.packaging.conda_packages import is_of_conda
from kalyx.core.facts.packaging.record_file import Record
from kalyx.core.facts.packaging.unlisted_files import built_from, top_modules
from kalyx.core.lean.record import record
from kalyx.core.model import Unowned, WeighedDistribution

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Collection, Iterable, Mapping, Sequence
    from typing import Any

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.packaging.conda_packages import CondaPackage
    from kalyx.core.model import DiskEntry, DiskFolder, Distribution

__all__ = ["Owners", "Weights"]

MOST_UNOWNED = 12  # paths that are named
_BYTES, _FILES, _BYTECODE, _APPARENT = range(4)  # what is summed up for each owner
_NONE: dict[str, int] = {}
_NOT_CONDA: dict[int, CondaPackage] = {}


@record
class Weights:
    """The parts of a whole: distributions, what nobody owns, and what was counted under another owner already.

    ``newest`` is when its newest bytecode was written, in seconds since 1970; None where there is none.
    """

    total: int
    distributions: tuple[WeighedDistribution, ...]
    unowned: Unowned
    shared: int
    newest: float | None = None


class Owners:
    """Which distribution owns which file, by what their installers wrote down."""

    def __init__(self, files: Files, distributions: Sequence[Distribution], prefix: str,
                 apart: Collection[str] = (), conda: Mapping[int, CondaPackage] = _NOT_CONDA) -> None:
        """Take up the distributions of a prefix; folders below it that are `apart` are weighed by themselves.

        `conda` is by number what conda says of those that it put there.
        """
        self._files = files
        self._apart = frozenset(apart)
        self.distributions = list(distributions)
        self.outside: list[tuple[Distribution, str]] = []  # rows that lead out of the environment
        self._rows: dict[str, dict[str, int]] = {}  # of a site folder: owners by paths as written
        self._elsewhere: dict[str, dict[str, int]] = {}  # of any other folder: owners by names
        self._whole: dict[str, int] = {}  # folders of which all that nobody lists is one distribution's
        self._owners_above: dict[str, int | None] = {}  # found so far
        self._unlisted: list[tuple[int, Distribution]] = []
        for number, one in reversed(list(enumerate(self.distributions))):  # whom two list, the first one has
            self._take(number, one, prefix)
        self.outside.reverse()
        for number, package in conda.items():  # what the lists of distributions do not name
            self._take_of_conda(number, package, prefix)
        self._take_unlisted()
        self._sites = sorted(self._rows, key=len, reverse=True)

    def _take(self, number: int, one: Distribution, prefix: str) -> None:
        if is_of_conda(one):
            return
        m, listed = self._files, Record(self._files, one)
        if one.location.endswith(".egg"):
            self._take_whole(one.location, number)
            return
        if one.metadata and m.is_folder(one.metadata):
            self._whole[one.metadata] = number
            if not listed.names:
                self._unlisted.append((number, one))
        elif one.metadata:  # an egg-info of one file is its own; it lists nothing else
            folder, name = m.path.split(one.metadata)
            self._elsewhere.setdefault(folder, {})[name] = number
        owned = self._rows.setdefault(one.location, {})
        apart = listed.names_apart
        owned.update(dict.fromkeys(set(listed.names).difference(apart) if apart else listed.names, number))
        for row in reversed(apart):
            path = m.path.normpath(m.path.join(one.location, row))
            if m.is_within(path, prefix):
                folder, name = m.path.split(path)
                self._elsewhere.setdefault(folder, {})[name] = number
            else:
                self.outside.append((one, path))

    def _take_of_conda(self, number: int, package: CondaPackage, prefix: str) -> None:
        """Give a package the files that its record has and that no list of a distribution names."""
        m = self._files
        sites = {site[len(prefix) + 1:].replace(m.path.sep, "/") + "/": rows for site, rows in self._rows.items()
                 if site.startswith(prefix + m.path.sep)}
        others = self._rows.setdefault(prefix, {})
        for file in (*package.files, "conda-meta/" + m.path.basename(package.path)):
            site = next((s for s in sites if file.startswith(s)), "")
            (sites[site] if site else others).setdefault(file[len(site):], number)

    def _take_whole(self, path: str, number: int) -> None:
        """Give a folder with all in it to one, or a file."""
        if self._files.is_folder(path):
            self._whole[path] = number
        else:
            folder, name = self._files.path.split(path)
            self._elsewhere.setdefault(folder, {})[name] = number

    def _take_unlisted(self) -> None:
        """Give those without a list what only they say that they bring."""
        claims: dict[str, list[int]] = {}
        for number, one in self._unlisted:
            rows, listed = self._rows[one.location], {row.partition("/")[0] for row in self._rows[one.location]}
            for name in top_modules(self._files, one):
                if name not in listed:
                    claims.setdefault(self._files.path.join(one.location, name), []).append(number)
            for row in built_from(self._files, one):
                rows.setdefault(row, number)
        for path, numbers in claims.items():
            if len(numbers) > 1:
                continue  # each may own any of it
            self._take_whole(path, numbers[0])
            folder, name = self._files.path.split(path)
            if name.endswith(".py"):  # its bytecode is with it
                self._rows[folder].setdefault(name, numbers[0])

    def part(self, folders: Iterable[DiskFolder]) -> dict[str, Any]:
        """Share out what lies in some folders; return that as plain data, which `weigh` puts together."""
        part, sep = _Part(), self._files.path.sep
        for folder, entries in folders:
            if not self._apart or not any(folder == a or folder.startswith(a + sep) for a in self._apart):
                self._share(folder, entries, part)
        return part.__dict__

    def _share(self, folder: str, entries: Sequence[DiskEntry], part: _Part) -> None:
        """Share out what lies in one folder: of an environment's time, half is spent here."""
        owned, start = self._owned_in(folder)
        named, default, path = self._elsewhere.get(folder, _NONE), self._owner_of_all_in(folder), (
            folder + self._files.path.sep)
        sources = start.removesuffix("__pycache__/") if start.endswith("__pycache__/") else None
        last: int | None = -1
        row: list[int] = []
        owners = set()
        for name, is_folder, taken, apparent, key, changed in entries:
            if is_folder:
                if path + name not in self._apart:
                    part.total += taken
                    part.folders.append((path + name, taken))
                continue
            owner = owned.get(start + name)
            if owner is None:
                owner = named.get(name)
                if owner is None and sources is not None:  # bytecode that no list names is its source's
                    owner = owned.get(f"{sources}{name.partition('.')[0]}.py")
                if owner is None:
                    owner = default
            is_bytecode = name.endswith(".pyc")
            if is_bytecode and changed > part.newest:
                part.newest = changed
            if owner != last:
                owners.add(owner)
                last, row = owner, part.row_of(owner)
            if key is not None:
                part.linked.append((folder, name, owner, taken, apparent, is_bytecode, key))
                continue
            row[_BYTES] += taken
            row[_FILES] += 1
            row[_BYTECODE] += taken if is_bytecode else 0
            row[_APPARENT] += apparent
            if owner is None:
                part.free.append((path + name, taken))
        if owners:
            part.holds[folder] = owners.pop() if len(owners) == 1 else None

    def _owner_of_all_in(self, folder: str) -> int | None:
        """Return whose all is in a folder that nobody lists: its own, or that of a folder above it."""
        while folder and folder not in self._owners_above:
            if folder in self._whole or folder in self._rows:
                self._owners_above[folder] = self._whole.get(folder)
                break
            folder = folder.rpartition(self._files.path.sep)[0]
        return self._owners_above.get(folder)

    def _owned_in(self, folder: str) -> tuple[dict[str, int], str]:
        """Return the owners by paths as written that a folder's files may be among, and how its paths begin there."""
        sep = self._files.path.sep
        for site in self._sites:
            if folder == site:
                return self._rows[site], ""
            if folder.startswith(site + sep):
                return self._rows[site], folder[len(site) + 1:].replace(sep, "/") + "/"
        return _NONE, ""

    def weigh(self, parts: Iterable[Mapping[str, Any]], counted: set[tuple[int, int]]) -> Weights:
        """Put the parts together; hard links that are in `counted` already count no more, and are added to it."""
        whole, shared, sep = _Part(), 0, self._files.path.sep
        for part in parts:
            whole.add(part)
        # a package keeps what is also linked from where nobody owns it, such as from the packages that conda keeps
        for folder, name, owner, taken, apparent, is_bytecode, key in sorted(whole.linked, key=lambda f: f[2] is None):
            if key in counted:
                shared += taken
                continue
            counted.add(key)
            row = whole.row_of(owner)
            for place, number in ((_BYTES, taken), (_FILES, 1), (_BYTECODE, taken * is_bytecode),
                                  (_APPARENT, apparent)):
                row[place] += number
            if owner is None:
                whole.free.append((folder + sep + name, taken))
        sums = [whole.row_of(number) for number in range(len(self.distributions))]
        total = whole.total + sum(row[_BYTES] for row in whole.sums.values())
        free = dict(whole.free)
        files = len(free)
        self._share_folders(whole.folders, whole.holds, sums, free)
        largest = _largest(free, {f for f, owner in whole.holds.items() if owner is not None}, sep)
        weighed = tuple(WeighedDistribution(d.name, d.version or None, row[0], row[1], row[2], row[3])
                        for d, row in zip(self.distributions, sums, strict=True))
        unowned = Unowned(sum(free.values()), files, tuple(largest))
        return Weights(total, weighed, unowned, shared, whole.newest or None)

    def _share_folders(self, folders: Sequence[tuple[str, int]], holds: dict[str, int | None], sums: list[list[int]],
                       free: dict[str, int]) -> None:
        """Give a folder's own blocks to the only owner of what lies below it; else to nobody."""
        sep = self._files.path.sep
        for path, taken in sorted(folders, key=lambda f: -len(f[0])):  # what lies deepest first
            owner = self._whole.get(path, holds.get(path))
            if owner is not None:
                sums[owner][_BYTES] += taken
            else:
                free[path] = free.get(path, 0) + taken
            above = path.rpartition(sep)[0]
            holds[above] = owner if holds.get(above, owner) == owner else None


class _Part:
    """What some folders take, shared out among owners (by number; None: nobody)."""

    def __init__(self) -> None:
        self.total = 0  # of the folders themselves
        self.newest = 0.0  # of the bytecode
        self.sums: dict[int | None, list[int]] = {}
        self.free: list[tuple[str, int]] = []  # files that nobody owns
        self.folders: list[tuple[str, int]] = []
        self.holds: dict[str, int | None] = {}  # of a folder: the only owner of what is in it, None if there are more
        self.linked: list[tuple[str, str, int | None, int, int, bool, tuple[int, int]]] = []  # not counted yet

    def row_of(self, owner: int | None) -> list[int]:
        """Return the sums of an owner, to be added to."""
        row = self.sums.get(owner)
        if row is None:
            row = self.sums[owner] = [0, 0, 0, 0]
        return row

    def add(self, other: Mapping[str, Any]) -> None:
        """Add another part."""
        self.total += other["total"]
        self.newest = max(self.newest, other["newest"])
        for owner, row in other["sums"].items():
            self.sums[owner] = [a + b for a, b in zip(row, self.row_of(owner), strict=True)]
        self.free += other["free"]
        self.folders += other["folders"]
        self.holds.update(other["holds"])
        self.linked += other["linked"]


def _largest(free: Mapping[str, int], owned: set[str], sep: str) -> list[str]:
    """Return the paths that take most of what nobody owns; a folder of which nothing is owned stands for all in it."""
    above_owned: set[str] = set()
    for folder in owned:
        while folder and folder not in above_owned:
            above_owned.add(folder)
            folder = folder.rpartition(sep)[0]
    sums: dict[str, int] = {}
    for path, taken in free.items():
        place = path
        while True:
            parent = place.rpartition(sep)[0]
            if parent in above_owned or parent not in free:
                break
            place = parent
        sums[place] = sums.get(place, 0) + taken
    return [p for p in sorted(sums, key=lambda p: (-sums[p], p)) if sums[p] and p not in above_owned][:MOST_UNOWNED]
