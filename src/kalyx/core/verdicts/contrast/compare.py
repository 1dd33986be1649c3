"""Holds two sides against each other."""

from __future__ import annotations

from kalyx.core.facts.packaging.requirements import applies, is_met
from kalyx.core.masks import masked
from kalyx.core.model import Contrasted, DistributionDifference, Evidence, Finding
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.tables.import_names import is_known
from kalyx.core.verdicts.contrast.brought_along import brought_along
from kalyx.core.verdicts.seats.packages import unmet_requirements

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from kalyx.core.model import Listed, Place, Side

__all__ = ["compare", "findings_of", "left_out"]

# What tells one environment from another by itself, and is no difference of what it holds
_OWN = ("VIRTUAL_ENV", "VIRTUAL_ENV_PROMPT", "CONDA_PREFIX", "CONDA_DEFAULT_ENV")
_EDITABLE = ", editable"


def compare(a: Side, b: Side, imported: Mapping[str, Place]) -> Contrasted:
    """Return the differences; what one's own code imports (`imported`, by distribution) comes first."""
    mine, theirs = _that_apply(a, b), _that_apply(b, a)
    differ, same = [], 0
    for name in mine.keys() & theirs.keys():
        difference = _difference(mine[name], theirs[name], imported.get(name)) or _without_extras(
            mine[name], theirs[name], a, b)
        if difference is None:
            same += 1
        else:
            differ.append(difference)
    path_a, path_b = _paths(a), _paths(b)
    known = path_a is not None and path_b is not None
    only_a = mine.keys() - theirs.keys() - brought_along(b, a)
    only_b = theirs.keys() - mine.keys() - brought_along(a, b)
    return Contrasted(
        tuple(_ordered((mine[n] for n in only_a if not mine[n].is_optional), imported)),
        tuple(_ordered((theirs[n] for n in only_b if not theirs[n].is_optional), imported)),
        tuple(sorted(differ, key=lambda d: (normal_name(d.name) not in imported, normal_name(d.name)))), same,
        tuple(p for p in path_a or () if known and p not in (path_b or ())),
        tuple(p for p in path_b or () if known and p not in (path_a or ())), tuple(_variables(a, b)))


def left_out(side: Side, other: Side) -> list[str]:
    """Return the packages of conda's that a side lists, and that are no distribution as far as is known here."""
    return sorted(d.name for n, d in side.listed.items() if d.by_conda and n not in other.listed and not is_known(n))


def _that_apply(one: Side, other: Side) -> dict[str, Listed]:
    """Return what counts of a list on the other side's Python and platform; all of an environment."""
    markers = one.markers or other.markers
    aside = set(map(normal_name, left_out(one, other)))
    return {n: d for n, d in one.listed.items() if n not in aside
            if not d.marker or not markers or applies(f"x; {d.marker}", markers)}


def _ordered(listed: Iterable[Listed], imported: Mapping[str, Place]) -> list[Listed]:
    return sorted(listed, key=lambda d: (normal_name(d.name) not in imported, normal_name(d.name)))


def _difference(a: Listed, b: Listed, asked: Place | None) -> DistributionDifference | None:
    """Return how one distribution differs; None where it is the same, or a list admits what is there."""
    by = f"; your code imports it ({asked.path}, line {asked.line})" if asked else ""
    if a.version is None or b.version is None:
        if _admitted(a, b):
            return None
        return DistributionDifference(a.name, a.shown, b.shown, None,
                                      f"{a.name} is {a.shown} in A and {b.shown} in B{by}")
    if a.version != b.version and not _equal(a.version, b.version):
        newer = _newer(a.version, b.version)
        than = f", so {newer.upper()} has the newer one" if newer else ""
        return DistributionDifference(a.name, a.version, b.version, newer,
                                      f"{a.name} is {a.version} in A and {b.version} in B{than}{by}")
    are_told = a.tells_origin and b.tells_origin
    if (are_told and not _are_one_place(a.origin, b.origin)) or a.origin.endswith(_EDITABLE) != b.origin.endswith(
            _EDITABLE):
        return DistributionDifference(
            a.name, a.version, b.version, None,
            f"{a.name} {a.version} is from {masked(a.origin) or 'an index'} in A, and from "
            f"{masked(b.origin) or 'an index'} in B{by}")
    return None


def _without_extras(a: Listed, b: Listed, side_a: Side, side_b: Side) -> DistributionDifference | None:
    """Return what one list asks for with extras, where what these require is not on the other side; mostly nothing."""
    for asked, there, having in ((a, b, side_b), (b, a, side_a)):
        lacking = _lacking_of_extras(asked.extras, there, having) if asked.extras and there.whole is not None else []
        if lacking:
            side = "B" if asked is a else "A"
            says = f"{asked.name}{asked.shown} wants {', '.join(lacking)} too, which {side} does not have"
            return DistributionDifference(a.name, a.shown, b.shown, None, says)
    return None


def _lacking_of_extras(extras: Sequence[str], there: Listed, having: Side) -> list[str]:
    """Return the names of what a distribution requires with some extras, and its side does not have."""
    found: dict[str, str] = {}
    for requirement in there.whole.requires if there.whole else ():
        if applies(requirement, having.markers, extras) and not applies(requirement, having.markers):
            other = having.listed.get(normal_name(requirement_name(requirement)))
            if other is None or is_met(requirement, other.version or "0") is False:
                found.setdefault(normal_name(requirement_name(requirement)), requirement_name(requirement))
    return list(found.values())


def _admitted(a: Listed, b: Listed) -> bool:
    """Whether what is listed admits what is there, or two lists ask for the same."""
    if a.version is None and b.version is None:
        return _asked_for(a) == _asked_for(b)
    asked, there = (a, b) if a.version is None else (b, a)
    if asked.either:
        return any(_admitted(one, there) for one in asked.either)
    if asked.origin:
        return any(_are_one_place(asked.origin, place) for place in (there.origin, there.asked_as) if place)
    return not asked.specifier or is_met(f"x{asked.specifier}", there.version or "0") is not False


def _are_one_place(a: str, b: str) -> bool:
    """Whether two origins are one, as far as each tells: folder, commit, part of it, and what an archive holds."""
    (url_a, _, said_a), (url_b, _, said_b) = (o.removesuffix(_EDITABLE).partition("#") for o in (a, b))
    marks = [dict(mark.partition("=")[::2] for mark in said.split("&") if mark) for said in (said_a, said_b)]
    both = marks[0].keys() & marks[1].keys() - {"egg"} | {"subdirectory"}
    return url_a == url_b and all(marks[0].get(name) == marks[1].get(name) for name in both)


def _asked_for(one: Listed) -> set[tuple[str, str, Sequence[str], str]]:
    """Return what a list asks for; where that is not one thing, with what tells which of them counts."""
    return {(d.specifier, d.origin, d.extras, d.marker if one.either else "") for d in one.either or (one,)}


def _equal(a: str, b: str) -> bool:
    return _newer(a, b) == "same"


def _newer(a: str, b: str) -> str | None:
    from packaging.version import InvalidVersion, Version

    try:
        first, second = Version(a), Version(b)
    except InvalidVersion:
        return None
    return "same" if first == second else "a" if first > second else "b"


def _paths(side: Side) -> list[str] | None:
    """Return the search path with the side's own folders left out: they differ by themselves."""
    if side.search_path is None:
        return None
    return [p for p in side.search_path if not any(p == x or p.startswith((x + "/", x + "\\")) for x in side.prefixes)]


def _variables(a: Side, b: Side) -> list[tuple[str, str | None, str | None]]:
    if a.variables is None or b.variables is None:
        return []
    names = sorted(n for n in {*a.variables, *b.variables} if n.startswith(("PYTHON", "PIP_", "LD_LIBRARY_PATH"))
                   and n not in _OWN)
    rows = [(n, a.variables.get(n), b.variables.get(n)) for n in names]
    return [(n, x and masked(x), y and masked(y)) for n, x, y in rows if x != y]


def findings_of(a: Side, b: Side, differences: Contrasted, imported: Mapping[str, Place]) -> list[Finding]:
    """Return the differences that break something: requirements met on one side alone, modules that code imports."""
    found = [*_broken(a, b, "A", "B"), *_broken(b, a, "B", "A")]
    for there, lacking, listed in (("A", "B", differences.only_a), ("B", "A", differences.only_b)):
        for one in listed:
            asked = imported.get(normal_name(one.name))
            if asked is not None:
                says = f"{one.name} is in {there} and not in {lacking}, and your code imports it."
                evidence = (Evidence("this line imports it", asked.path, asked.line),
                            Evidence(f"{there} has {one.name} {one.shown}", one.whole.metadata if one.whole else None))
                found.append(Finding.warning("not-installed", "certain", says, evidence))
    return found


def _broken(side: Side, other: Side, name: str, other_name: str) -> list[Finding]:
    """Return the requirements that are declared on a side, and met only on the other."""
    installed = [d.whole for d in side.listed.values() if d.whole is not None]
    if not installed:
        return []
    found = []
    for owner, requirement, there in unmet_requirements(installed, side.markers):
        line = requirement.split(";")[0].strip()
        on_other = other.listed.get(normal_name(requirement_name(requirement)))
        if on_other is None or on_other.version is None or is_met(line, on_other.version) is False:
            continue  # it is unmet on both sides: no difference
        now = f"{there.name} {there.version} is there" if there else "it is not there"
        found.append(Finding.warning(
            "version-conflict" if there else "dependency-absent", "certain",
            f"In {name}, {owner.name} {owner.version} requires {line}, and {now}; {other_name} has {on_other.name} "
            f"{on_other.version}.", (Evidence(f"{owner.name} declares: {requirement}", owner.metadata),)))
    return found
