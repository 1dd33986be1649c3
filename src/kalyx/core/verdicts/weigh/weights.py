"""Shares what an environment takes on the disk out among its distributions."""

from __future__ import annotations

import re

from kalyx.core.facts.packaging.record_file import Record
from kalyx.core.facts.packaging.requirements import applies
from kalyx.core.lean.record import record, replace
from kalyx.core.model import Unowned, WeighedDistribution
from kalyx.core.model.names import normal_name, requirement_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from kalyx.core.facts.files import Files
    from kalyx.core.model import DiskEntry, Distribution

__all__ = ["Owners", "Weights", "could_go", "with_dependents"]

MOST_UNOWNED = 12  # paths that are named
_EXTRA = re.compile(r"extra *== *['\"]([^'\"]{1,100})['\"]")
_TOOLS = {"pip", "conda"}  # with these the others are put there and taken out: they go by no command of their own


@record
class Weights:
    """The parts of a whole: distributions, what nobody owns, and what was counted under another owner already."""

    total: int
    distributions: tuple[WeighedDistribution, ...]
    unowned: Unowned
    shared: int


class Owners:
    """Which distribution owns which file, by what their installers wrote down."""

    def __init__(self, files: Files, distributions: Sequence[Distribution], prefix: str) -> None:
        self._files = files
        self.distributions = list(distributions)
        self.outside: list[tuple[Distribution, str]] = []  # rows that lead out of the environment
        self._by_path: dict[str, int] = {}
        self._metadata: dict[str, int] = {}
        sep, m = files.path.sep, files
        for number, one in enumerate(self.distributions):
            folder, seen = one.location, Record(files, one).names
            if one.metadata and m.is_folder(one.metadata):
                self._by_path[one.metadata] = number
                self._metadata[one.metadata] = number
            for row in seen:
                path = f"{folder}{sep}{row}" if sep == "/" else f"{folder}{sep}{row.replace('/', sep)}"
                if ".." in row or row[:1] == "/" or row[1:2] == ":":
                    path = m.path.normpath(m.path.join(folder, row))
                    if not m.is_within(path, prefix):
                        self.outside.append((one, path))
                        continue
                self._by_path.setdefault(path, number)

    def _of_source(self, path: str) -> int | None:
        """Return the owner of bytecode that no list names: that of its source."""
        folder, _, name = path.rpartition(self._files.path.sep)
        above, _, cache = folder.rpartition(self._files.path.sep)
        if cache != "__pycache__":
            return None
        return self._by_path.get(f"{above}{self._files.path.sep}{name.partition('.')[0]}.py")

    def weigh(self, entries: Iterable[DiskEntry], counted: set[tuple[int, int]]) -> Weights:
        """Share entries out; hard links that are in `counted` already count no more, and are added to it."""
        sums = [[0, 0, 0, 0] for _ in self.distributions]  # bytes, files, bytecode, apparent
        free: dict[str, int] = {}
        free_files = total = shared = 0
        folders: list[tuple[str, int]] = []
        holds: dict[str, int | None] = {}  # of a folder: the only owner of what is in it, None where there are several
        sep = self._files.path.sep
        by_path, metadata = self._by_path, self._metadata
        for path, is_folder, taken, apparent, key, _ in entries:
            if is_folder:
                folders.append((path, taken))
                total += taken
                continue
            if key is not None:
                if key in counted:
                    shared += taken
                    continue
                counted.add(key)
            total += taken
            folder = path[:path.rindex(sep)]
            owner = by_path.get(path)
            if owner is None:
                owner = metadata.get(folder)
                if owner is None and path.endswith(".pyc"):
                    owner = self._of_source(path)
            if owner is None:
                free[path] = taken
                free_files += 1
            else:
                _add(sums[owner], taken, apparent, is_bytecode=path.endswith(".pyc"))
            if holds.setdefault(folder, owner) != owner:
                holds[folder] = None
        self._share_folders(folders, holds, sums, free)
        largest = _largest(free, {f for f, owner in holds.items() if owner is not None}, sep)
        weighed = tuple(WeighedDistribution(d.name, d.version or None, row[0], row[1], row[2], row[3])
                        for d, row in zip(self.distributions, sums, strict=True))
        return Weights(total, weighed, Unowned(sum(free.values()), free_files, tuple(largest)), shared)

    def _share_folders(self, folders: Sequence[tuple[str, int]], holds: dict[str, int | None], sums: list[list[int]],
                       free: dict[str, int]) -> None:
        """Give a folder's own blocks to the only owner of what lies below it; else to nobody."""
        sep = self._files.path.sep
        for path, taken in sorted(folders, key=lambda f: -len(f[0])):  # what lies deepest first
            owner = self._by_path.get(path, holds.get(path))
            if owner is not None:
                sums[owner][0] += taken
            else:
                free[path] = free.get(path, 0) + taken
            above = path.rpartition(sep)[0]
            holds[above] = owner if holds.get(above, owner) == owner else None


def _add(row: list[int], taken: int, apparent: int, *, is_bytecode: bool) -> None:
    row[0] += taken
    row[1] += 1
    row[2] += taken if is_bytecode else 0
    row[3] += apparent


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
    return [p for p in sorted(sums, key=lambda p: -sums[p]) if sums[p] and p not in above_owned][:MOST_UNOWNED]


def with_dependents(weighed: Sequence[WeighedDistribution], distributions: Sequence[Distribution],
                    markers: Mapping[str, str]) -> list[WeighedDistribution]:
    """Return them with what would go with each, and whose need keeps it: by declared requirements."""
    needs = _needs(distributions, markers)
    needed_by: dict[str, set[str]] = {n: set() for n in needs}
    for name, wanted in needs.items():
        for other in wanted:
            needed_by[other].add(name)
    by_name = {normal_name(w.name): w for w in weighed}
    asked = {normal_name(d.name): d.requested is not False for d in distributions}
    asked |= dict.fromkeys(asked.keys() & _TOOLS, True)
    found = []
    for one in weighed:
        name = normal_name(one.name)
        gone = _goes_with(name, needs, needed_by, asked)
        found.append(replace(
            one, alone=sum(by_name[n].bytes for n in gone if n in by_name), asked_for=asked.get(name, True),
            needed_by=tuple(sorted(by_name[n].name for n in needed_by.get(name, ()) if n in by_name)),
            goes_with=tuple(sorted(by_name[n].name for n in gone - {name} if n in by_name))))
    return sorted(found, key=lambda w: (-w.bytes, normal_name(w.name)))


def _goes_with(name: str, needs: Mapping[str, set[str]], needed_by: Mapping[str, set[str]],
               asked: Mapping[str, bool]) -> set[str]:
    """Return a distribution and what would have no reason left without it; what was asked for stays."""
    gone, queue = {name}, [name]
    while queue:
        for other in needs.get(queue.pop(), ()):
            if other not in gone and not asked.get(other, True) and needed_by[other] <= gone:
                gone.add(other)
                queue.append(other)
    return gone


def _needs(distributions: Sequence[Distribution], markers: Mapping[str, str]) -> dict[str, set[str]]:
    """Return what each distribution requires of those that are there, extras that somebody asks for included."""
    from packaging.requirements import InvalidRequirement, Requirement

    there = {normal_name(d.name): d for d in distributions}
    extras: dict[str, set[str]] = {n: {""} for n in there}
    needs: dict[str, set[str]] = {n: set() for n in there}
    queue = list(there)
    while queue:
        name = queue.pop()
        for text in there[name].requires:
            other = normal_name(requirement_name(text))
            if other not in there or other == name:
                continue
            if ";" in text and not applies(text, markers, sorted(extras[name])):
                continue
            needs[name].add(other)
            if "[" not in text:  # most requirements are no more than a name and a version
                continue
            try:
                wanted = set(Requirement(text).extras)
            except InvalidRequirement:
                continue
            if not wanted <= extras[other]:
                extras[other] |= wanted
                queue.append(other)
    return needs


def could_go(weighed: Iterable[WeighedDistribution], distributions: Sequence[Distribution],
             markers: Mapping[str, str]) -> list[str]:
    """Return what nobody asked for and nobody needs.

    Installers do not note which extras they were asked for: one that is there in full may have been, and stays.
    """
    idle = {normal_name(w.name): w.name for w in weighed if not w.asked_for and not w.needed_by}
    there = {normal_name(d.name) for d in distributions}
    for one in [d for d in distributions if normal_name(d.name) not in idle] if idle else ():
        by_extra: dict[str, set[str]] = {}
        for text in one.requires:
            for extra in _EXTRA.findall(text):
                by_extra.setdefault(extra, set()).add(text)
        for extra, texts in by_extra.items():
            if not any(normal_name(requirement_name(t)) in idle for t in texts):
                continue
            names = {normal_name(requirement_name(t)) for t in texts if applies(t, markers, (extra,))}
            if names <= there:
                idle = {name: said for name, said in idle.items() if name not in names}
    return sorted(idle.values(), key=str.lower)
