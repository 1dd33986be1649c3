"""What would go with a distribution, and what nobody asked for and nobody needs: by declared requirements."""

from __future__ import annotations

import re

from kalyx.core.facts.packaging.conda_packages import is_of_conda
from kalyx.core.facts.packaging.requirements import applies, extras_of
from kalyx.core.lean.record import replace
from kalyx.core.model.names import normal_name, requirement_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from kalyx.core.facts.packaging.conda_packages import CondaPackage
    from kalyx.core.model import Distribution, WeighedDistribution

__all__ = ["could_go", "with_dependents"]

_EXTRA = re.compile(r"extra *== *['\"]([^'\"]{1,100})['\"]")
_OF_CONDA = "conda/"  # before the names of conda's packages: a distribution may have the same
_NOT_CONDA: dict[int, CondaPackage] = {}
_TOOLS = {"pip", "conda"}  # with these the others are put there and taken out: they go by no command of their own


def with_dependents(weighed: Sequence[WeighedDistribution], distributions: Sequence[Distribution],
                    markers: Mapping[str, str], conda: Mapping[int, CondaPackage] = _NOT_CONDA
                    ) -> list[WeighedDistribution]:
    """Return them with what would go with each, and whose need keeps it: by declared requirements.

    `conda` is by number what conda says of those that it put there: what they need by its names counts as well.
    """
    keys = [_OF_CONDA + one.name if is_of_conda(one) else normal_name(one.name) for one in distributions]
    needs = _needs([one for one in distributions if not is_of_conda(one)], markers)
    by_conda = {package.name: keys[number] for number, package in conda.items()}
    for number, package in conda.items():
        wanted = {by_conda[name] for line in package.depends if (name := line.partition(" ")[0]) in by_conda}
        needs[keys[number]] = (needs.get(keys[number], set()) | wanted) - {keys[number]}
    needed_by: dict[str, set[str]] = {n: set() for n in needs}
    for name, those in needs.items():
        for other in those:
            needed_by[other].add(name)
    by_key = dict(zip(keys, weighed, strict=True))
    asked = {key: d.requested is not False for key, d in zip(keys, distributions, strict=True)}
    asked |= dict.fromkeys(asked.keys() & _TOOLS, True)
    if any(d.metadata and not d.metadata.endswith((".dist-info", ".json")) for d in distributions):
        asked |= dict.fromkeys(asked.keys() & {"setuptools"}, True)  # it put these there, and their programs need it
    found = []
    for number, (name, one) in enumerate(zip(keys, weighed, strict=True)):
        gone = _goes_with(name, needs, needed_by, asked)
        found.append(replace(
            one, alone=sum(by_key[n].bytes for n in gone), asked_for=asked[name], by_conda=number in conda,
            needed_by=tuple(sorted(by_key[n].name for n in needed_by[name])),
            goes_with=tuple(sorted(by_key[n].name for n in gone - {name}))))
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
            wanted = extras_of(text)
            if not wanted <= extras[other]:
                extras[other] |= wanted
                queue.append(other)
    return needs


def could_go(weighed: Iterable[WeighedDistribution], distributions: Sequence[Distribution],
             markers: Mapping[str, str]) -> list[str]:
    """Return what nobody asked for and nobody needs; of what conda put there nothing, as it may not have noted it.

    Installers do not note which extras they were asked for: one that is there in full may have been, and stays.
    """
    idle = {normal_name(w.name): w.name for w in weighed if not w.asked_for and not w.needed_by and not w.by_conda}
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
