"""Which version to install: what metadata asks for, all of it, and whom that would leave wanting."""

from __future__ import annotations

import re

from kalyx.core.facts.packaging.requirements import applies, is_met, suits
from kalyx.core.model import version_pair
from kalyx.core.model.names import normal_name, requirement_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from packaging.specifiers import SpecifierSet

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Elsewhere

__all__ = ["others_affected", "pinned", "usable"]


def usable(case: Case, others: Sequence[Elsewhere], name: str) -> list[Elsewhere]:
    """Return the other environments whose version of a distribution may be taken here, the nearest Python first.

    Never that of another major Python, nor one that says itself that it is for other Pythons, nor one that what is
    installed here excludes.
    """
    mine = case.python.version_pair
    asked = pinned(case, name)
    found = [(abs(theirs[1] - mine[1]), o) for o in others
             if o.name and normal_name(o.name) == normal_name(name) and o.version
             and (theirs := version_pair(o.environment.python_version))[0] == mine[0]
             and suits(o.requires_python, case.python.version) and is_met(asked, o.version) is not False]
    return [o for _, o in sorted(found, key=lambda pair: pair[0])]


def pinned(case: Case, requirement: str) -> str:
    """Return a requirement narrowed to what all installed packages ask of that distribution.

    Where their requirements exclude each other, it is returned as it came.
    """
    from packaging.requirements import InvalidRequirement, Requirement

    try:
        wanted = Requirement(requirement.split(";")[0].strip())
    except InvalidRequirement:
        return requirement
    if wanted.url:
        return requirement
    specifiers = wanted.specifier
    for distribution in case.distributions.all():
        for line in distribution.requires:
            if normal_name(requirement_name(line)) != normal_name(wanted.name) \
                    or not applies(line, case.distributions.markers):
                continue
            try:
                more = Requirement(line.split(";")[0].strip()).specifier
            except InvalidRequirement:
                continue
            if _may_both_hold(specifiers, more):
                specifiers &= more
    extras = f"[{','.join(sorted(wanted.extras))}]" if wanted.extras else ""
    return f"{wanted.name}{extras}{_ordered(str(_tightest(specifiers)))}"


def _tightest(specifiers: SpecifierSet) -> SpecifierSet:
    """Leave out the bounds that others imply: of several lower ones the highest is enough, and so on."""
    from packaging.specifiers import SpecifierSet
    from packaging.version import Version

    kept = {str(s) for s in specifiers if s.operator not in (">=", "<")}
    for operator, choose in ((">=", max), ("<", min)):
        bounds = [Version(s.version) for s in specifiers if s.operator == operator]
        kept |= {f"{operator}{choose(bounds)}"} if bounds else set()
    return SpecifierSet(",".join(sorted(kept)))


def _may_both_hold(a: SpecifierSet, b: SpecifierSet) -> bool:
    """Whether some version that one of the specifiers names, or one near it, satisfies both."""
    from packaging.version import InvalidVersion, Version

    both = a & b
    tried: list[str] = ["0", "999999"]
    for specifier in both:
        text = specifier.version.removesuffix(".*")
        try:
            version = Version(text)
        except InvalidVersion:
            continue
        release = [*version.release]
        tried += [text, text + ".1", text + ".post1", ".".join(map(str, [*release[:-1], release[-1] + 1]))]
        if any(release):  # something just below it
            last = max(n for n, part in enumerate(release) if part)
            lower = [*release[:last], release[last] - 1, 999]
            tried.append(".".join(map(str, lower)))
    return any(both.contains(v, prereleases=True) for v in tried)


def _ordered(specifiers: str) -> str:
    """Write specifiers as people do: the lower bound first."""
    order = {">=": 0, ">": 0, "==": 1, "~=": 1, "<": 2, "<=": 2, "!=": 3}
    parts = [p.strip() for p in specifiers.split(",") if p.strip()]
    parts.sort(key=lambda p: (order.get(re.match(r"[<>=!~]+", p)[0], 9), p))  # type: ignore[index]
    return ",".join(parts)


def others_affected(case: Case, requirement: str) -> str:
    """Say what else an installation would change: what it replaces, and who asks for something else."""
    name = requirement_name(requirement)
    installed = case.distributions.named(name)
    said = ""
    if installed is not None and is_met(requirement, installed.version) is False:
        said = f"; replaces {installed.name} {installed.version}"
    broken = [f"{d.name} {d.version} ({line.split(';')[0].strip()})" for d in case.distributions.all()
              for line in d.requires if normal_name(requirement_name(line)) == normal_name(name)
              and applies(line, case.distributions.markers) and _excludes(requirement, line)]
    if broken:
        said += "; against what " + ", ".join(broken[:3]) + (
            " asks" if len(broken) == 1 else " ask") + " for"
    return said


def _excludes(a: str, b: str) -> bool:
    from packaging.requirements import InvalidRequirement, Requirement

    try:
        one, two = Requirement(a.split(";")[0]), Requirement(b.split(";")[0])
    except InvalidRequirement:
        return False
    return bool(one.specifier) and bool(two.specifier) and not _may_both_hold(one.specifier, two.specifier)
