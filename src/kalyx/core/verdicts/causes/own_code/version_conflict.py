"""Group F: an installed version is not the one that a package declares, and it fails for that."""

from __future__ import annotations

import re

from kalyx.core.facts.packaging.requirements import applies, is_met
from kalyx.core.model import Evidence, Finding
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.verdicts.catalogue import also
from kalyx.core.verdicts.reading.absence import is_absent
from kalyx.core.verdicts.reading.failure import own_frames
from kalyx.core.verdicts.remedies import pip, versions

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Distribution
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["conflict_in_use"]


@also("version-conflict",
      asks="anything", after=("mixed-install:mixed_install",),
      why_here="a file that is not the distribution's own counts before the version that it should be of")
def conflict_in_use(case: Case, failure: Failure | None) -> Finding | None:
    """Find a requirement that is not met, between a package in the traceback and what failed it."""
    if case.obs.outcome not in ("fails", "crash") or (failure and is_absent(case, failure)):
        return None
    for owner, requirement, other in _violations(case):
        certain = _fails_in(case, failure, other)
        if not certain and not _speaks_of(case, other) and not _is_called(case, other):
            continue
        line = requirement.split(";")[0].strip()
        evidence = [Evidence(f"{owner.name} {owner.version} declares: {line}", owner.metadata),
                    Evidence(f"{other.name} {other.version} is installed", other.metadata)]
        error = case.obs.error
        if error is not None:
            frames = own_frames(error.frames)
            message = error.message.splitlines()[0] if error.message else ""
            evidence.append(Evidence(f"{error.type}: {message}", frames[-1].file if frames else None,
                                     frames[-1].line if frames else None))
        wanted = versions.pinned(case, line)
        return Finding.error(
            "version-conflict", "certain" if certain else "likely",
            f"{owner.name} {owner.version} requires {line}, and {other.name} {other.version} is installed.",
            tuple(evidence),
            pip.install(case, wanted, why=f", the version that {owner.name} needs",
                             beside=pip.unmet(case, owner, wanted)))
    return None


def _violations(case: Case) -> Iterator[tuple[Distribution, str, Distribution]]:
    """Yield the requirements of the packages in the traceback that what is installed does not meet."""
    files = [f.file for e in case.obs.chain for f in reversed(own_frames(e.frames))]
    files += [f.file for f in reversed(own_frames(case.obs.stack))]
    owners: dict[str, Distribution] = {}
    for file in dict.fromkeys(files):
        owner = case.distributions.of(file)
        if owner is not None:
            owners.setdefault(owner.metadata, owner)
    for owner in owners.values():
        for requirement in owner.requires:
            if not applies(requirement, case.distributions.markers):
                continue
            other = case.distributions.named(requirement_name(requirement))
            if other is not None and is_met(requirement, other.version) is False:
                yield owner, requirement, other


def _fails_in(case: Case, failure: Failure | None, other: Distribution) -> bool:
    """Whether what failed is a part of the other distribution."""
    if failure is not None and failure.top in other.modules:
        return True
    error = case.obs.error
    frames = own_frames(error.frames) if error else list(case.obs.stack)
    inner = case.distributions.of(frames[-1].file) if frames else None
    return inner is not None and inner.metadata == other.metadata


def _is_called(case: Case, other: Distribution) -> bool:
    """Whether the line that failed calls into the other distribution, by its module's name."""
    error = case.obs.error
    frames = own_frames(error.frames) if error is not None else []
    if error is None or error.type not in ("TypeError", "AttributeError", "ValueError") or not frames:
        return False
    line = case.modules.code_line(frames[-1].file, frames[-1].line)
    return bool(set(re.findall(r"\b([A-Za-z_]\w*)\b", line)) & set(other.modules))


def _speaks_of(case: Case, other: Distribution) -> bool:
    """Whether an exception names the other distribution, as a package's own check of versions does."""
    names = {normal_name(other.name), *map(normal_name, other.modules)}
    for error in case.obs.chain:
        words = {normal_name(w.strip("'\"`.,:;()[]<>=!~0123456789")) for w in error.message.split()}
        words |= {normal_name(requirement_name(w)) for w in error.message.split()}
        if names & words:
            return True
    return False
