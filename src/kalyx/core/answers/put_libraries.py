"""What an installation would take from others' compiled parts: libraries that only the version before brings."""

from __future__ import annotations

from kalyx.core.facts.native.binaries import read_binary
from kalyx.core.facts.packaging.record_file import Record
from kalyx.core.facts.search_path.modules import EXTENSION
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.model.names import normal_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    from kalyx.core.answers.put_checks import Step
    from kalyx.core.facts.files import Files
    from kalyx.core.facts.packaging.wheelhouse import Target, Wheelhouse
    from kalyx.core.model import Distribution

__all__ = ["libraries_lost"]


def libraries_lost(files: Files, before: Sequence[Distribution], steps: Sequence[Step], house: Wheelhouse,
                   target: Target) -> list[Finding]:
    """Return the distributions whose compiled parts need a library that an installation would take away.

    A library carries its interface's version in its name (SONAME): libseed.so.1500 goes with the version that brought
    it. What the next one brings is known where its wheel lies in a folder that pip is told of; else nothing is said.
    """
    replaced = {normal_name(s.name) for s in steps}
    found: list[Finding] = []
    for step in (s for s in steps if s.before is not None and s.before != s.after):
        old = next((d for d in before if normal_name(d.name) == normal_name(step.name) and d.hidden_by is None), None)
        wheel = next((w for w in house.wheels_of(step.name, target) if str(w.version) == step.after), None)
        lost = _libraries(Record(files, old).rows) - _libraries(house.names_of(wheel)) if old and wheel else set()
        for other in before if lost else ():
            if normal_name(other.name) in replaced:
                continue
            part, library = _part_that_needs(files, other, lost)
            if part and wheel is not None:
                found.append(Finding.warning(
                    "library-missing", "certain",
                    f"{other.name} {other.version} needs {library} of {step.name} {step.before}, which {step.name} "
                    f"{step.after} does not bring.",
                    (Evidence(f"this compiled part needs {library}", part),
                     Evidence(f"there is no {library} in this wheel", wheel.path)),
                    (Remedy(f"Ask for {step.name}=={step.before} as well, or for a version of {other.name} that was "
                            f"built for {step.name} {step.after}.", "manual", changes="what is asked for"),)))
    return found


def _libraries(names: Iterable[str]) -> set[str]:
    """Return the names of the shared libraries among files, those of modules left out."""
    last = {n.replace("\\", "/").rpartition("/")[2] for n in names}
    return {n for n in last if ((".so" in n or n.endswith((".dylib", ".dll"))) and not EXTENSION.match(n))
            or (n.startswith("lib") and n.endswith(".so"))}


def _part_that_needs(files: Files, distribution: Distribution, libraries: set[str]) -> tuple[str, str]:
    """Return a compiled part of a distribution that needs one of some libraries, and which; empty where none does."""
    record = Record(files, distribution)
    for row in record.rows:
        if row.endswith((".so", ".pyd", ".dylib")):
            needed = libraries & set(read_binary(files, record.absolute(row)).needed)
            if needed:
                return record.absolute(row), min(needed)
    return "", ""
