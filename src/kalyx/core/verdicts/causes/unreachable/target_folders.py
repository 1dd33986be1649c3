"""Group A and B: it was installed into a folder by itself (``pip install --target``), which no path holds."""

from __future__ import annotations

from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import also
from kalyx.core.verdicts.reading.absence import asked_near_home, is_absent, searched
from kalyx.core.verdicts.reading.own_files import installed_copies
from kalyx.core.verdicts.remedies import pip
from kalyx.core.verdicts.remedies.search_path import reach

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["in_target_folder"]


@also("installed-elsewhere",
      asks="absence", after=("own-code-unreachable:own_code_unreachable",),
      why_here="a copy in a folder of the project is nearer than one in another environment")
def in_target_folder(case: Case, failure: Failure | None) -> Finding | None:
    """Find an installed copy, by its RECORD, in a folder around the start folder that the path does not hold."""
    if not is_absent(case, failure) or failure is None or not asked_near_home(case, failure):
        return None
    for place, found, owner in installed_copies(case, failure):
        look: list[Remedy] = [r for r in reach(case, place, failure.top) if r.edits]
        return Finding.error(
            "installed-elsewhere", "certain",
            f"{failure.top} is not in {case.environment_name}; {owner.name} {owner.version} was installed into the "
            f"folder {place}, which no part of this seat's search path holds.",
            (Evidence(f"{found} is of {owner.name} {owner.version}, by its RECORD", owner.metadata), *searched(case)),
            (*pip.install(case, f"{owner.name}=={owner.version}"), *look))
    return None
