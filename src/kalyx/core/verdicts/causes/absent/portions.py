"""A part of a namespace that several distributions share, in one that the asker requires and that is not here."""

from __future__ import annotations

from kalyx.core.model import Evidence, Finding
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.verdicts.catalogue import also
from kalyx.core.verdicts.reading.absence import asker_evidence
from kalyx.core.verdicts.remedies import pip

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["portion_absent"]


@also("dependency-absent", asks="anything", after=("stdlib-removed", "stdlib-not-yet"), not_beside=("damage", "hiding"),
      why_here="what its asker declares says whose part of the namespace it is")
def portion_absent(case: Case, failure: Failure | None) -> Finding | None:
    """Find which unmet requirement of the asker brings the missing part of a namespace."""
    if failure is None or failure.name is not None or "." not in failure.module or failure.asker is None:
        return None
    found = [c for _, c in case.modules.candidates(failure.top)]
    if not found or any(c.kind != "namespace" for c in found):
        return None
    owner = case.distributions.of(failure.asker.file)
    line = _required_for(case, owner.requires, failure.module) if owner is not None else None
    if owner is None or line is None:
        return None
    from kalyx.core.verdicts.remedies.versions import pinned

    return Finding.error(
        "dependency-absent", "certain" if failure.direct else "likely",
        f"{owner.name} {owner.version} needs {failure.module}, which {requirement_name(line)} brings; that is not in "
        f"{case.environment_name}.",
        (Evidence(f"{failure.top} is a name that distributions share; what is here has other parts of it",
                  found[0].path),
         Evidence(f"{owner.name} {owner.version} declares: {line}", owner.metadata), *asker_evidence(case, failure)),
        pip.install(case, pinned(case, line.split(";")[0].strip())))


def _required_for(case: Case, requires: tuple[str, ...], module: str) -> str | None:
    """Return the unmet requirement that is called like a module or a package around it: acme-storage, acme.storage."""
    from kalyx.core.facts.packaging.requirements import applies

    parts = module.split(".")
    called = [normal_name("-".join(parts[:n])) for n in range(len(parts), 1, -1)]
    for name in called:
        for line in requires:
            if normal_name(requirement_name(line)) == name and applies(line, case.distributions.markers) \
                    and case.distributions.named(name) is None:
                return line
    return None
