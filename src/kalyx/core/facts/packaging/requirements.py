"""Requirements and their environment markers (PEP 508), for an interpreter that is not ours."""

from __future__ import annotations

from kalyx.core.facts.packaging.plain_markers import are_plain_versions, extras_plainly, holds_plainly, is_plain

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Collection, Iterable, Mapping

    from packaging.specifiers import SpecifierSet

__all__ = ["applies", "are_compatible", "extras_of", "is_met", "is_requirement", "is_specifier",
           "marker_values", "suits"]


def marker_values(version: str, implementation: str, platform: str) -> dict[str, str]:
    """Return the values of the markers for an interpreter of that version and platform."""
    system = {"win32": "Windows", "darwin": "Darwin"}.get(platform, "Linux")
    return {
        "python_version": ".".join(version.split(".")[:2]), "python_full_version": version,
        "implementation_version": version, "implementation_name": implementation,
        "platform_python_implementation": {"pypy": "PyPy"}.get(implementation, "CPython"),
        "sys_platform": "linux" if platform.startswith("linux") else platform,
        "platform_system": system, "os_name": "nt" if platform == "win32" else "posix",
    }


_SOME = marker_values("3.12.0", "cpython", "linux")  # of what form a marker is, all values tell alike


def applies(requirement: str, markers: Mapping[str, str], extras: Collection[str] = ("",)) -> bool:
    """Whether a requirement counts: it has no marker, or its marker holds for one of the extras."""
    if ";" not in requirement:
        return True
    if is_plain(requirement):
        marker = requirement.partition(";")[2]
        plain = [holds_plainly(marker, markers, extra) for extra in extras]
        if True in plain or None not in plain:
            return True in plain
    return _applies(requirement, markers, extras)


def _applies(requirement: str, markers: Mapping[str, str], extras: Collection[str]) -> bool:
    """Whether a requirement with a marker of any form counts."""
    from packaging.markers import UndefinedComparison, UndefinedEnvironmentName
    from packaging.requirements import InvalidRequirement, Requirement

    try:
        marker = Requirement(requirement).marker
        return marker is None or any(marker.evaluate({**markers, "extra": e}) for e in extras)
    except (InvalidRequirement, UndefinedComparison, UndefinedEnvironmentName):
        return False


def is_requirement(text: str) -> bool:
    """Whether a text is a requirement (PEP 508)."""
    if is_plain(text) and (";" not in text or holds_plainly(text.partition(";")[2], _SOME, "") is not None):
        return True
    from packaging.requirements import InvalidRequirement, Requirement

    try:
        Requirement(text)
    except InvalidRequirement:
        return False
    return True


def is_specifier(text: str) -> bool:
    """Whether a text bounds versions (PEP 440)."""
    if text.strip() and are_plain_versions(text):
        return True
    from packaging.specifiers import InvalidSpecifier, SpecifierSet

    try:
        return bool(SpecifierSet(text))
    except InvalidSpecifier:
        return False


def extras_of(requirement: str) -> set[str]:
    """Return the extras that a requirement asks for; none when it cannot be parsed."""
    plain = extras_plainly(requirement)
    if plain is not None:
        return plain
    from packaging.requirements import InvalidRequirement, Requirement

    try:
        return set(Requirement(requirement).extras)
    except InvalidRequirement:
        return set()


def is_met(requirement: str, version: str) -> bool | None:
    """Whether an installed version satisfies a requirement; None when one cannot be parsed."""
    from packaging.requirements import InvalidRequirement, Requirement

    try:
        return _admits(Requirement(requirement).specifier, version)
    except InvalidRequirement:
        return None


def suits(requires_python: str, version: str) -> bool:
    """Whether a Python version is one that a Requires-Python admits; one that cannot be parsed admits all."""
    if not requires_python:
        return True
    from packaging.specifiers import InvalidSpecifier, SpecifierSet  # half of what a whole requirement needs

    said = requires_python.strip()
    try:
        return _admits(SpecifierSet(said[1:-1] if said[:1] == "(" and said[-1:] == ")" else said), version) is not False
    except InvalidSpecifier:
        return True


def _admits(wanted: SpecifierSet, version: str) -> bool | None:
    """Whether a version is among those that are wanted; None where it is none."""
    from packaging.version import InvalidVersion, Version

    try:
        if any(one.operator != "===" for one in wanted):
            Version(version)  # whether that raises differs between versions of `contains`
        return wanted.contains(version, prereleases=True)
    except InvalidVersion:
        return None


def are_compatible(specifiers: Iterable[str]) -> bool:
    """Whether there can be a version that all specifiers (PEP 440) admit, as far as their bounds tell."""
    from packaging.specifiers import InvalidSpecifier, SpecifierSet
    from packaging.version import InvalidVersion, Version

    try:
        clauses = [c for s in specifiers if s for c in SpecifierSet(s)]
        at_least = [Version(c.version.removesuffix(".*")) for c in clauses if c.operator in (">=", ">", "==", "~=")]
        below = [(Version(c.version.removesuffix(".*")), c.operator) for c in clauses
                 if c.operator in ("<", "<=") or (c.operator == "==" and not c.version.endswith(".*"))]
    except (InvalidSpecifier, InvalidVersion):
        return True
    return all(low < high or (low == high and sign != "<") for low in at_least for high, sign in below)
