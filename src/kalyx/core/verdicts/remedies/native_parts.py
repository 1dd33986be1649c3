"""Remedies: a library, or what is lacking in one, comes with a distribution that is required here and not met."""

from __future__ import annotations

from kalyx.core.model import Evidence
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.verdicts.remedies import pip

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.facts.packaging.wheelhouse import Wheel
    from kalyx.core.model import Distribution, Remedy

__all__ = ["newer_library", "required_library"]


def required_library(case: Case, owner: Distribution | None, library: str,
                     searched: Sequence[str]) -> tuple[list[Evidence], list[Remedy], bool]:
    """Return how to get a missing library with what its asker requires and has not; nothing where all is met.

    The last is whether that is known to bring it: a wheel here holds it, or its name stands in the folders in which
    the loader looks.
    """
    lines = list(pip.unmet(case, owner, "")) if owner is not None else []
    known = [r for r in lines if _brings(case, r, library) or _is_looked_for(case, r, searched)]
    if owner is None or not lines:
        return [], [], False
    says = f"{owner.name} {owner.version} requires {', '.join(lines)}, which is not met here"
    if len(known) == 1 and _brings(case, known[0], library):
        says += f"; its wheel holds {library}"
    first, *rest = [*known, *(r for r in lines if r not in known)]
    why = f", which {owner.name} requires" + (f" for {library}" if known else "")
    return [Evidence(says, owner.metadata)], list(pip.install(case, first, why=why, beside=rest)), bool(known)


def _brings(case: Case, requirement: str, library: str) -> bool:
    """Whether a wheel that pip would take here holds a library."""
    house, wheels = case.distributions.wheelhouse, case.distributions.wheels_of(requirement_name(requirement))
    return any(name.rpartition("/")[2] == library for w in wheels[:1] for name in house.names_of(w))


def _is_looked_for(case: Case, requirement: str, searched: Sequence[str]) -> bool:
    """Whether the loader looks into a folder that is called as a requirement, in the seat's packages."""
    name = normal_name(requirement_name(requirement))
    m, sites = case.files, [x.path for x in case.modules.layers if x.layer in ("env", "base", "user")]
    for folder in searched:
        for site in sites:
            if m.is_within(folder, site) and not m.same(folder, site):
                top = folder[len(site):].strip("/\\").replace("\\", "/").split("/")[0].removesuffix(".libs")
                if normal_name(top) == name:
                    return True
    return False


def newer_library(case: Case, asker: Distribution | None, file: str,
                  symbol: str) -> tuple[str, list[Evidence], tuple[Remedy, ...]] | None:
    """Return whose library lacks a symbol, and how to have the version that has it; None where none is known.

    It is a library that another distribution brought, by what the loader finds for `file`. The version is what the
    asker requires and has not, else one of a wheel here that holds it.
    """
    for one in case.modules.loader.walk(file):
        owner = case.distributions.of(one.path) if one.path else None
        if owner is None or one.path is None or (asker is not None and owner.metadata == asker.metadata):
            continue
        found = Evidence(f"{one.path} was found, of {owner.name} {owner.version}", one.path)
        wanted = next((r for r in (pip.unmet(case, asker, "") if asker else ())
                       if normal_name(requirement_name(r)) == normal_name(owner.name)), "")
        if wanted and asker is not None:
            says = Evidence(f"{asker.name} {asker.version} requires {wanted}", asker.metadata)
            return (f"{one.path}, of {owner.name} {owner.version}", [found, says],
                    pip.install(case, wanted, why=f", as {asker.name} requires"))
        better = next((w for w in case.distributions.wheels_of(owner.name)
                       if str(w.version) != owner.version and _has(case, w, one.name, symbol)), None)
        if better is not None:
            return (f"{one.path}, of {owner.name} {owner.version}",
                    [found, Evidence(f"the {one.name} in {better.path} names {symbol}", better.path)],
                    pip.install(case, f"{owner.name}=={better.version}", why=f", whose {one.name} has {symbol}"))
    return None


def _has(case: Case, wheel: Wheel, library: str, symbol: str) -> bool:
    """Whether a library in a wheel names a symbol."""
    house = case.distributions.wheelhouse
    name = next((n for n in house.names_of(wheel) if n.rpartition("/")[2] == library), "")
    data = house.file_of(wheel, name) if name else None
    return data is not None and b"\0" + symbol.encode() + b"\0" in data
