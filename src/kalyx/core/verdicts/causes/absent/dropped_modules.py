"""Group A: the distribution is here, and this version of it does not bring the module."""

from __future__ import annotations

from kalyx.core.model import Evidence, Finding
from kalyx.core.model.names import normal_name
from kalyx.core.verdicts.catalogue import also
from kalyx.core.verdicts.reading.absence import asked_by_person, is_absent, known_distribution, searched
from kalyx.core.verdicts.reading.asked_part import asked_part
from kalyx.core.verdicts.remedies import pip
from kalyx.core.verdicts.remedies.versions import usable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Distribution
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["dropped_module", "lacking_version"]

MOST_MODULES = 6  # that are named


@also("submodule-absent",
      asks="absence", after=("user-site-off",),
      why_here="a distribution that is here says more of its module than all copies elsewhere")
def dropped_module(case: Case, failure: Failure | None) -> Finding | None:
    """Find that what usually brings the module is installed, in a version that does not."""
    if not is_absent(case, failure) or failure is None or not asked_by_person(case, failure):
        return None
    here = lacking_version(case, failure)
    if here is None:
        return None
    part = asked_part(case, here.name)
    others = [o for o in case.elsewhere.having(failure.top) if o.name and normal_name(o.name) == normal_name(here.name)
              and o.version != here.version]
    there = next(iter(usable(case, others, here.name)), None)
    wanted = pip.that_brings(case, failure.top, here.name)
    if wanted == here.name and there is None:
        return None  # nothing tells that another version of it would
    evidence = [Evidence(f"{here.name} {here.version} brings {', '.join(here.modules[:MOST_MODULES])}"
                         + (" and more" if len(here.modules) > MOST_MODULES else ""), here.metadata)]
    evidence += [part.evidence()] if part is not None else []
    evidence += [Evidence(f"{o.environment.path} has {o.name} {o.version}, which brings it", o.environment.path)
                 for o in others[:3]]
    todo = pip.install(case, wanted) if there is None or wanted != here.name else pip.install(
        case, f"{here.name}=={there.version}", why=f", the version that {there.environment.name} has")
    return Finding.error(
        "submodule-absent", "certain",
        f"{here.name} {here.version}, which is installed, does not bring the module {failure.top}; other versions do.",
        (*evidence, *searched(case)), todo)


def lacking_version(case: Case, failure: Failure) -> Distribution | None:
    """Return the installed distribution that brings an absent module in other versions; None where there is none."""
    names = [known_distribution(case, failure), *(o.name for o in case.elsewhere.having(failure.top))]
    for name in dict.fromkeys(n for n in names if n):
        here = case.distributions.named(name)
        if here is not None and here.modules and failure.top.lower() not in {m.lower() for m in here.modules}:
            return here
    return None
