"""Group D: it is installed, and not whole."""

from __future__ import annotations

from kalyx.core.errors import Unreadable
from kalyx.core.facts import tables
from kalyx.core.facts.cases import Case
from kalyx.core.facts.layers import Layer
from kalyx.core.model import Distribution, Evidence, Finding
from kalyx.core.verdicts import remedies
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.failure import Failure

__all__ = ["files_missing", "metadata_only"]


def _owner(case: Case, failure: Failure | None) -> tuple[Distribution, list[str], list[str]] | None:
    """Return the distribution of a missing module, its code files, and those that are not there."""
    if failure is None or (failure.name is not None and "partially" not in failure.error.message):
        return None
    for layer in case.layers:
        if layer.layer not in ("env", "base", "user", "pythonpath"):
            continue
        owner = _distribution(case, layer, failure)
        if owner is None or owner.editable:
            continue
        listed = [p for p in _recorded(case, owner) if p.endswith((".py", ".so", ".pyd"))]
        missing = [p for p in listed if not case.machine.exists(
            case.machine.path.join(owner.location, p))]
        wanted = failure.module.replace(".", "/")
        if failure.name:
            wanted += "/" + failure.name
        if any(p.startswith((wanted + ".", wanted + "/")) for p in missing):
            return owner, listed, missing
    return None


def _distribution(case: Case, layer: Layer, failure: Failure) -> Distribution | None:
    """Return the distribution of the missing module, by its files or, where it has none, by name.

    Of a module that is wholly absent every RECORD would have to be read to
    find it under another name; the names that it usually has are tried.
    """
    shelf = case.shelf(layer)
    if case.candidates(failure.top):
        return shelf.providing(failure.top)
    names = (failure.top, tables.distribution_for(failure.top))
    found = (shelf.named(name) for name in names if name)
    return next((d for d in found if d is not None and failure.top in d.modules), None)


def _recorded(case: Case, owner: Distribution) -> list[str]:
    try:
        text = case.machine.read_text(case.machine.path.join(owner.metadata, "RECORD"))
    except Unreadable:
        return []
    return [line.split(",")[0].strip('"') for line in text.splitlines()]


@cause("metadata-only", "D", "metadata is here, none of the code is", rank=22)
def metadata_only(case: Case, failure: Failure | None) -> Finding | None:
    """Find a distribution of which only the metadata is left."""
    found = _owner(case, failure)
    if found is None or len(found[1]) != len(found[2]):
        return None
    return _finding(case, "metadata-only", *found)


@cause("files-missing", "D", "RECORD lists files that are not there", rank=24)
def files_missing(case: Case, failure: Failure | None) -> Finding | None:
    """Find a distribution of which some files are missing, the wanted one among them."""
    found = _owner(case, failure)
    if found is None or len(found[1]) == len(found[2]):
        return None
    return _finding(case, "files-missing", *found)


def _finding(case: Case, slug: str, owner: Distribution, listed: list[str],
             missing: list[str]) -> Finding:
    what = f"{owner.name} {owner.version}"
    because = (f"Of {what} only the metadata is left; none of its code is there."
               if slug == "metadata-only" else
               f"{len(missing)} of the {len(listed)} code files of {what} are missing, "
               f"{missing[0]} among them.")
    record = case.machine.path.join(owner.metadata, "RECORD")
    return Finding(
        slug, "error", "certain", because,
        (Evidence(f"RECORD lists {len(listed)} code files", record),
         *[Evidence(f"{p} is not there", case.machine.path.join(owner.location, p))
           for p in missing[:4]]),
        remedies.reinstall(case, owner.name, owner.version, "to have all its files"))
