"""Remedies: a compiled part that pip brought as it is, and would bring again, has to be another build."""

from __future__ import annotations

import re

from packaging.tags import parse_tag

from kalyx.core.errors import Unreadable
from kalyx.core.facts.packaging.wheelhouse import fits
from kalyx.core.model import Remedy
from kalyx.core.verdicts.remedies import pip, which_pip

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.facts.packaging.wheelhouse import Wheelhouse
    from kalyx.core.model import Distribution

__all__ = ["best_version", "made_for_here"]

# The oldest C library that wheels of the older tags are for (PEP 513, 571, 599)
_OLD_TAGS = {"manylinux1": (2, 5), "manylinux2010": (2, 12), "manylinux2014": (2, 17)}


def made_for_here(case: Case, owner: Distribution | None, file: str | None) -> tuple[Remedy, ...]:
    """Return how to have another build of a compiled part than the one that pip brought and would bring again.

    Nothing, where pip would bring another one by itself.
    """
    served, house = which_pip.allowed(case), case.distributions.wheelhouse
    if owner is None or not file or served is None \
            or not _would_be_the_same(case, house, owner, file):
        return ()
    wanted, todo = f"{owner.name}=={owner.version}", []
    if not house.is_closed or house.has_source(owner.name, owner.version):
        todo.append(Remedy(
            f"Build {owner.name} {owner.version} on this machine, from its source: the wheel that pip has "
            "brought, and would bring again, holds this very file.", "command",
            argv=served.install(wanted, over="replaced", alone=True, from_source=owner.name),
            changes=f"replaces the files of {owner.name} in {case.python.prefix}; needs a compiler"))
    others = [w for w in house.wheels_of(owner.name, case.distributions.target) if str(w.version) != owner.version]
    todo += [r for w in others[:1] for r in pip.install(
        case, f"{owner.name}=={w.version}", why=f", another version, whose wheel is {w.path}")]
    return tuple(todo) or (Remedy(
        f"Get a {owner.name} that was built for this machine: installing it again brings this very file.",
        "manual", changes=f"{owner.name} in {case.python.prefix}"),)


def _would_be_the_same(case: Case, house: Wheelhouse, owner: Distribution, file: str) -> bool:
    """Whether a file is as it came, in a wheel that pip takes to be for this machine, and would take again."""
    record = case.distributions.record(owner)
    row = record.row_of(file)
    if row is None or not record.rows[row][0] or record.difference(row):
        return False
    here = [w for w in house.wheels_of(owner.name, case.distributions.target) if str(w.version) == owner.version]
    if here:
        return house.file_of(here[0], row) == case.files.read_bytes(file)
    try:
        text = case.files.read_text(case.files.path.join(owner.metadata, "WHEEL"), 65536)
    except Unreadable:
        return False
    tags = [t for line in text.splitlines() if line.startswith("Tag:") for t in parse_tag(line[4:].strip())]
    return any(fits(t, case.distributions.target) and _fits_here(case, t.platform) for t in tags)


def _fits_here(case: Case, system: str) -> bool:
    """Whether a wheel's tag for a system is for this one, with its C library (PEP 600)."""
    if not system.startswith("manylinux"):
        return system == "any" or system.startswith("linux")
    old = next((v for name, v in _OLD_TAGS.items() if system.startswith(name + "_")), None)
    match = re.match(r"manylinux_(\d+)_(\d+)_", system)
    wants = old or ((int(match[1]), int(match[2])) if match else (99, 0))
    loader, program = case.modules.loader, case.files.real_path(case.python.executable)
    place = loader.find("libc.so.6", loader.read(program))[0]
    return tuple(_numbers(best_version(case, place, "GLIBC_2"))[:2]) >= wants if place else False


def best_version(case: Case, library: str, symbol: str) -> str:
    """Return the newest version of a symbol's family that a library offers."""
    family = symbol.split("_")[0] + "_"
    return max((v for v in case.modules.loader.read(library).offers if v.startswith(family)), key=_numbers, default="")


def _numbers(text: str) -> list[int]:
    return [int(n) for n in re.findall(r"\d+", text)]
