"""What would go with a distribution, and what nobody asked for and nobody needs: by declared requirements."""

from __future__ import annotations

import re

from kalyx.core.facts.packaging.requirements import applies
from kalyx.core.lean.record import replace
from kalyx.core.model.names import normal_name, requirement_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from kalyx.core.model import Distribution, WeighedDistribution

__all__ = ["could_go", "with_dependents"]

_EXTRA = re.compile(r"extra *== *['\"]([^'\"]{1,100})['\"]")
_TOOLS = {"pip", "conda"}  # with these the others are put there and taken out: they go by no command of their own


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
