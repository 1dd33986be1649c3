"""Findings about what a seat can import: requirements that are not met."""

from __future__ import annotations

from kalyx.core.facts.packaging.pip_lines import own_pip
from kalyx.core.facts.packaging.requirements import applies, is_met
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.verdicts.catalogue import cause

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Mapping, Sequence

    from kalyx.core.model import Distribution

__all__ = ["unmet_requirements", "user_copies", "version_conflicts", "would_break"]


def version_conflicts(distributions: Sequence[Distribution], markers: Mapping[str, str],
                      python: str) -> list[Finding]:
    """Return a finding for each declared requirement that the installed set does not meet.

    Only the copies that importing finds count. A requirement under an extra
    counts where some installed distribution asks for that extra. `python` is the
    interpreter that would install what is missing; empty where the system asks pip to leave it alone.
    """
    found = [version_conflict(*unmet, _put(unmet[1], python, distributions))
             for unmet in unmet_requirements(distributions, markers)]
    return [f for f in found if f is not None]


def user_copies(distributions: Sequence[Distribution]) -> list[Finding]:
    """Return a finding for each distribution in the user site that hides another version of the base or environment."""
    return [Finding.warning(
        "hidden-by-user-site", "certain",
        f"The user site {d.location} puts {d.name} {d.version} before {d.name} {other['version']} in "
        f"{other['location']}.",
        (Evidence(f"{d.name} {d.version} comes first", d.metadata),
         Evidence(f"{d.name} {other['version']} stands further back", str(other["location"]))),
        (Remedy(f"Take the copy out of the user site {d.location}, or set PYTHONNOUSERSITE=1 for this seat.", "manual",
                changes="what the user site holds"),))
        for d in distributions if d.layer == "user" for other in d.hides if other["version"] != d.version]


def unmet_requirements(distributions: Sequence[Distribution], markers: Mapping[str, str],
                       asked_with: Mapping[str, Iterable[str]] | None = None
                       ) -> list[tuple[Distribution, str, Distribution | None]]:
    """Return what is declared and not met: by whom, the requirement, and what is installed of it.

    `asked_with` are extras that are asked for by something else, by the names that compare.
    """
    seen = {normal_name(d.name): d for d in distributions if d.hidden_by is None}
    extras = _asked_extras(list(seen.values()), markers)
    for name, more in (asked_with or {}).items():
        extras.setdefault(name, set()).update(more)
    found = []
    for distribution in seen.values():
        asked = ("", *sorted(extras.get(normal_name(distribution.name), ())))
        for requirement in distribution.requires:
            other = seen.get(normal_name(requirement_name(requirement)))
            if applies(requirement, markers, asked) and (
                    other is None or is_met(requirement, other.version) is False):
                found.append((distribution, requirement, other))
    return found


def would_break(before: Sequence[Distribution], after: Sequence[Distribution], changed: Mapping[str, str | None],
                markers: Mapping[str, str], asked: Sequence[str], line: Callable[[Sequence[str]], str]
                ) -> list[Finding]:
    """Return a finding for each requirement that is met before an installation, and not after it.

    `asked` is what is to be installed, and `line` writes the command line that would install something instead.
    `changed` maps the names of what is installed to the version before, None where it is new. What it
    requires itself is not judged: its metadata is still the old one's.
    """
    known = {_key(unmet) for unmet in unmet_requirements(before, markers)}
    return [_as_planned(owner, requirement, other, changed, asked, line)
            for owner, requirement, other in unmet_requirements(after, markers)
            if other is not None and _key((owner, requirement, other)) not in known
            and normal_name(owner.name) not in changed]


def _key(unmet: tuple[Distribution, str, Distribution | None]) -> tuple[str, str, str, str]:
    owner, requirement, other = unmet
    return owner.name, owner.version, requirement, other.version if other else ""


def _as_planned(owner: Distribution, requirement: str, other: Distribution, changed: Mapping[str, str | None],
                asked: Sequence[str], written: Callable[[Sequence[str]], str]) -> Finding:
    """Say of a requirement that it would be broken, and how what is asked for is installed beside it."""
    line, who = requirement.split(";")[0].strip(), f"{owner.name} {owner.version}"
    beside = [a for a in asked if normal_name(requirement_name(a)) != normal_name(other.name)]
    before = changed.get(normal_name(other.name))
    now = f"{other.name} {before} is installed now, and fits" if before else "what is installed now fits"
    return Finding.warning(
        "version-conflict", "certain",
        f"{who} requires {line}, and {other.name} {other.version} would be installed.",
        (Evidence(f"{who} declares: {requirement}", owner.metadata), Evidence(now),
         Evidence(f"pip would install {other.name} {other.version}")),
        (Remedy(f"Ask for {' and '.join(map(requirement_name, beside))} in a version that goes with {line}."
                if beside else "Ask for a version that fits both.", "manual", changes="what is asked for",
                typed=written([*beside, line])),))


def _asked_extras(distributions: Sequence[Distribution],
                  markers: Mapping[str, str]) -> dict[str, set[str]]:
    from packaging.requirements import InvalidRequirement, Requirement

    found: dict[str, set[str]] = {}
    for distribution in distributions:
        for text in distribution.requires:
            if "[" not in text.split(";")[0] or not applies(text, markers):
                continue
            try:
                parsed = Requirement(text)
            except InvalidRequirement:
                continue
            found.setdefault(normal_name(parsed.name), set()).update(parsed.extras)
    return found


def _put(requirement: str, python: str, distributions: Sequence[Distribution]) -> Remedy:
    line = requirement.split(";")[0].strip()
    if not python:
        return Remedy(f"Have the system's own packages bring {line}, as it asks pip to leave this Python alone; or use "
                      "an environment of your own.", "manual", changes="what is installed")
    if not any(normal_name(d.name) == "pip" and d.hidden_by is None for d in distributions):
        return Remedy(f"Install a version that fits: {line}", "manual", changes="what is installed")
    return Remedy(f"Install a version that fits {line}; what else asks for it may want another.",
                  "command", argv=own_pip(python).install(line),
                  changes=f"installs {requirement_name(line)}")


@cause("version-conflict", "an installed version violates a declared requirement",
       brief="declared requirements are not met", group="F")
def version_conflict(distribution: Distribution, requirement: str,
                     other: Distribution | None, remedy: Remedy) -> Finding | None:
    """Compare one requirement with what is installed; nothing of it is a dependency-absent.

    Looks like: A package lacks a name or behaves oddly after something else was installed.
    Why: An installed version is not one that a package declares to need; installers replace versions
        without asking who else needs them.
    How Kalyx knows: The requirement in the metadata, the version that is installed, and the failure in
        its use.
    What to do: Install a version that satisfies all that ask for it.
    """
    line = requirement.split(";")[0].strip()
    who = f"{distribution.name} {distribution.version}"
    if other is None:
        because = f"{who} requires {line}, which is not installed."
    elif is_met(requirement, other.version) is False:
        because = f"{who} requires {line}, and {other.name} {other.version} is installed."
    else:
        return None
    evidence = [Evidence(f"{who} declares: {requirement}", distribution.metadata)]
    if other is not None:
        evidence.append(Evidence(f"{other.name} {other.version} is what importing finds",
                                 other.metadata))
    return Finding("version-conflict" if other else "dependency-absent", "warning", "certain",
                   because, tuple(evidence), (remedy,))
