"""Shares what an environment takes on the disk out among its distributions."""

from __future__ import annotations

from kalyx.core.facts.packaging.conda_packages import is_of_conda
from kalyx.core.facts.packaging.listed_files import ListedFiles
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
    from kalyx.core.model import DiskFolder, Distribution

__all__ = ["Owners", "Weights"]

MOST_UNOWNED = 12  # paths that are named
_NONE: dict[str, int] = {}
_NOTHING = ListedFiles()
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
        self._listed: dict[str, ListedFiles] = {}  # by site folders
        self._elsewhere: dict[str, dict[str, int]] = {}  # of any other folder: owners by names
        self._whole: dict[str, int] = {}  # folders of which all that nobody lists is one distribution's
        self._owners_above: dict[str, int | None] = {}  # found so far
        self._unlisted: list[tuple[int, Distribution]] = []
        for number, one in enumerate(self.distributions):
            self._take(number, one, prefix)
        for number, package in conda.items():  # what the lists of distributions do not name
            self._take_of_conda(number, package, prefix)
        self._take_unlisted()
        self._sites = [(site, site + files.path.sep, self._listed[site])
                       for site in sorted(self._listed, key=len, reverse=True)]

    def _take(self, number: int, one: Distribution, prefix: str) -> None:
        if is_of_conda(one):
            return
        m, record = self._files, Record(self._files, one)
        if one.location.endswith(".egg"):
            self._take_whole(one.location, number)
            return
        if one.metadata and m.is_folder(one.metadata):
            self._whole[one.metadata] = number
            if not record.runs:
                self._unlisted.append((number, one))
        elif one.metadata:  # an egg-info of one file is its own; it lists nothing else
            self._take_file(one.metadata, number)
        self._listed.setdefault(one.location, ListedFiles()).take(number, record)
        for row in record.names_apart:
            path = m.path.normpath(m.path.join(one.location, row))
            if m.is_within(path, prefix):
                self._take_file(path, number)
            else:
                self.outside.append((one, path))

    def _take_file(self, path: str, number: int) -> None:
        """Give a file to one; what several name, the first one has."""
        folder, name = self._files.path.split(path)
        self._elsewhere.setdefault(folder, {}).setdefault(name, number)

    def _take_of_conda(self, number: int, package: CondaPackage, prefix: str) -> None:
        """Give a package the files that its record has and that no list of a distribution names."""
        m = self._files
        sites = {site[len(prefix) + 1:].replace(m.path.sep, "/") + "/": listed for site, listed in self._listed.items()
                 if site.startswith(prefix + m.path.sep)}
        others = self._listed.setdefault(prefix, ListedFiles())
        for file in (*package.files, "conda-meta/" + m.path.basename(package.path)):
            site = next((s for s in sites if file.startswith(s)), "")
            (sites[site] if site else others).add(file[len(site):], number)

    def _take_whole(self, path: str, number: int) -> None:
        """Give a folder with all in it to one, or a file."""
        if self._files.is_folder(path):
            self._whole[path] = number
        else:
            self._take_file(path, number)

    def _take_unlisted(self) -> None:
        """Give those without a list what only they say that they bring."""
        claims: dict[str, list[int]] = {}
        for number, one in self._unlisted:
            listed = self._listed[one.location]
            names = listed.names()
            for name in top_modules(self._files, one):
                if name not in names:
                    claims.setdefault(self._files.path.join(one.location, name), []).append(number)
            for row in built_from(self._files, one):
                listed.add(row, number)
        for path, numbers in claims.items():
            if len(numbers) > 1:
                continue  # each may own any of it
            self._take_whole(path, numbers[0])
            folder, name = self._files.path.split(path)
            if name.endswith(".py"):  # its bytecode is with it
                self._listed[folder].add(name, numbers[0])

    def part(self, folders: Sequence[DiskFolder]) -> dict[str, Any]:
        """Share out what lies in some folders; return that as plain data, which `weigh` puts together."""
        part, sep = _Part(), self._files.path.sep
        for folder in folders:
            if not self._apart or not any(folder.path == a or folder.path.startswith(a + sep) for a in self._apart):
                self._share(folder, part)
        if not {path for path, _ in part.folders}.difference([folder.path for folder in folders]):
            self._close(part)
        return part.__dict__

    def _close(self, part: _Part) -> None:
        """Share out the folders of a part that has all that is in them, and leave out what is not asked any more."""
        self._share_folders(part)
        part.folders = []
        if not part.free and not part.free_folders and not part.linked and part.holds:
            top = min(part.holds, key=len)
            if part.holds[top] is not None:
                part.holds = {top: part.holds[top]}

    def _share(self, folder: DiskFolder, part: _Part) -> None:
        """Share out what lies in one folder."""
        start = folder.path + self._files.path.sep
        for name, taken in folder.folders:
            if start + name not in self._apart:
                part.folders.append((start + name, taken))
        if not folder.names:
            return
        owners = self._owners_of(folder)
        bytecode, newest = _bytecode(folder)
        part.newest = max(part.newest, newest)
        one = owners[0]
        if not folder.links and owners.count(one) == len(owners):  # nearly always
            part.holds[folder.path] = one
            part.add_to(one, sum(folder.taken), len(owners), bytecode, sum(folder.apparent))
            if one is None:
                part.free += zip([start + name for name in folder.names], folder.taken, strict=True)
            return
        part.holds[folder.path] = one if len(set(owners)) == 1 else None
        for number, owner in enumerate(owners):
            name, taken, apparent = folder.names[number], folder.taken[number], folder.apparent[number]
            is_bytecode = name.endswith(".pyc")
            if number in folder.links:
                part.linked.append((folder.path, name, owner, taken, apparent, is_bytecode, folder.links[number]))
                continue
            part.add_to(owner, taken, 1, taken if is_bytecode else 0, apparent)
            if owner is None:
                part.free.append((start + name, taken))

    def _owners_of(self, folder: DiskFolder) -> list[int | None]:
        """Return who owns each file of a folder."""
        listed, start = self._listed_in(folder.path)
        rows = listed.below(start)
        owners = [rows.get(start + name) for name in folder.names]
        if None not in owners:
            return owners
        named, default = self._elsewhere.get(folder.path, _NONE), self._owner_of_all_in(folder.path)
        above, is_cache = start.removesuffix("__pycache__/"), start.endswith("__pycache__/")
        sources = listed.below(above) if is_cache else _NONE  # bytecode that no list names is its source's
        if default is None and not named and not sources:
            return owners
        for number, name in enumerate(folder.names):
            if owners[number] is None:
                owner = named.get(name)
                if owner is None:
                    owner = sources.get(f"{above}{name.partition('.')[0]}.py", default)
                owners[number] = owner
        return owners

    def _owner_of_all_in(self, folder: str) -> int | None:
        """Return whose all is in a folder that nobody lists: its own, or that of a folder above it."""
        while folder and folder not in self._owners_above:
            if folder in self._whole or folder in self._listed:
                self._owners_above[folder] = self._whole.get(folder)
                break
            folder = folder.rpartition(self._files.path.sep)[0]
        return self._owners_above.get(folder)

    def _listed_in(self, folder: str) -> tuple[ListedFiles, str]:
        """Return what is listed that a folder's files may be among, and how its paths begin there."""
        for site, start, listed in self._sites:
            if folder.startswith(start):
                below = folder[len(start):]
                return listed, (below if start[-1] == "/" else below.replace(start[-1], "/")) + "/"
            if folder == site:
                return listed, ""
        return _NOTHING, ""

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
            whole.add_to(owner, taken, 1, taken if is_bytecode else 0, apparent)
            if owner is None:
                whole.free.append((folder + sep + name, taken))
        self._share_folders(whole)
        sums = [whole.row_of(number) for number in range(len(self.distributions))]
        free = {**dict(whole.free), **whole.free_folders}
        total = sum(row[0] for row in whole.sums.values()) + sum(whole.free_folders.values())
        files = len(whole.free)
        largest = _largest(free, {f for f, owner in whole.holds.items() if owner is not None}, sep)
        weighed = tuple(WeighedDistribution(d.name, d.version or None, row[0], row[1], row[2], row[3])
                        for d, row in zip(self.distributions, sums, strict=True))
        unowned = Unowned(sum(free.values()), files, tuple(largest))
        return Weights(total, weighed, unowned, shared, whole.newest or None)

    def _share_folders(self, part: _Part) -> None:
        """Give a folder's own blocks to the only owner of what lies below it; else to nobody."""
        sep, holds = self._files.path.sep, part.holds
        for path, taken in reversed(part.folders):  # what lies deepest first
            owner = self._whole.get(path, holds.get(path))
            if owner is not None:
                part.row_of(owner)[0] += taken
            else:
                part.free_folders[path] = part.free_folders.get(path, 0) + taken
            above = path.rpartition(sep)[0]
            holds[above] = owner if holds.get(above, owner) == owner else None


def _bytecode(folder: DiskFolder) -> tuple[int, float]:
    """Return what the bytecode in a folder takes, and when its newest was written."""
    count = f"{'/'.join(folder.names)}/".count(".pyc/")  # quickly: most folders have none, or nothing else
    if count == len(folder.names):
        return sum(folder.taken), max(folder.changed)
    numbers = [number for number, name in enumerate(folder.names) if name.endswith(".pyc")] if count else []
    return sum([folder.taken[n] for n in numbers]), max([folder.changed[n] for n in numbers], default=0.0)


class _Part:
    """What some folders take, shared out among owners (by number; None: nobody)."""

    def __init__(self) -> None:
        self.newest = 0.0  # of the bytecode
        self.sums: dict[int | None, list[int]] = {}  # bytes, files, bytes of bytecode, apparent bytes
        self.free: list[tuple[str, int]] = []  # files that nobody owns
        self.free_folders: dict[str, int] = {}
        self.folders: list[tuple[str, int]] = []  # that are not shared out yet
        self.holds: dict[str, int | None] = {}  # of a folder: the only owner of what is in it, None if there are more
        self.linked: list[tuple[str, str, int | None, int, int, bool, tuple[int, int]]] = []  # not counted yet

    def row_of(self, owner: int | None) -> list[int]:
        """Return the sums of an owner, to be added to."""
        row = self.sums.get(owner)
        if row is None:
            row = self.sums[owner] = [0, 0, 0, 0]
        return row

    def add_to(self, owner: int | None, taken: int, files: int, bytecode: int, apparent: int) -> None:
        """Add to the sums of an owner."""
        row = self.row_of(owner)
        row[0] += taken
        row[1] += files
        row[2] += bytecode
        row[3] += apparent

    def add(self, other: Mapping[str, Any]) -> None:
        """Add another part."""
        self.newest = max(self.newest, other["newest"])
        for owner, row in other["sums"].items():
            self.sums[owner] = [a + b for a, b in zip(row, self.row_of(owner), strict=True)]
        self.free += other["free"]
        self.free_folders.update(other["free_folders"])
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
