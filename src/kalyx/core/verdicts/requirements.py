"""Group F: an installed version is not the one that a package declares, and it fails for that."""

from __future__ import annotations

import re
from collections.abc import Iterator

from kalyx.core.facts.cases import Case
from kalyx.core.facts.distributions import normal_name, requirement_name
from kalyx.core.facts.markers import applies, is_met
from kalyx.core.model import Distribution, Evidence, Finding, Remedy
from kalyx.core.verdicts import pins, remedies
from kalyx.core.verdicts.absence import is_absent
from kalyx.core.verdicts.catalogue import also_at_import
from kalyx.core.verdicts.failure import Failure, own_frames

__all__ = ["bring_together", "conflict_in_use", "outgrew", "outgrown_in_use"]


@also_at_import("version-conflict", rank=28)
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
        wanted = pins.pinned(case, line)
        return Finding(
            "version-conflict", "error", "certain" if certain else "likely",
            f"{owner.name} {owner.version} requires {line}, and {other.name} {other.version} is installed.",
            tuple(evidence),
            remedies.install(case, wanted, why=f", the version that {owner.name} needs",
                             beside=remedies.unmet(case, owner, wanted)))
    return None


def _violations(case: Case) -> Iterator[tuple[Distribution, str, Distribution]]:
    """Yield the requirements of the packages in the traceback that what is installed does not meet."""
    files = [f.file for e in case.obs.chain for f in reversed(own_frames(e.frames))]
    files += [f.file for f in reversed(own_frames(case.obs.stack))]
    owners: dict[str, Distribution] = {}
    for file in dict.fromkeys(files):
        owner = case.distribution_of(file)
        if owner is not None:
            owners.setdefault(owner.metadata, owner)
    for owner in owners.values():
        for requirement in owner.requires:
            if not applies(requirement, case.markers):
                continue
            other = case.distribution_named(requirement_name(requirement))
            if other is not None and is_met(requirement, other.version) is False:
                yield owner, requirement, other


def _fails_in(case: Case, failure: Failure | None, other: Distribution) -> bool:
    """Whether what failed is a part of the other distribution."""
    if failure is not None and failure.top in other.modules:
        return True
    error = case.obs.error
    frames = own_frames(error.frames) if error else list(case.obs.stack)
    inner = case.distribution_of(frames[-1].file) if frames else None
    return inner is not None and inner.metadata == other.metadata


def _is_called(case: Case, other: Distribution) -> bool:
    """Whether the line that failed calls into the other distribution, by its module's name."""
    error = case.obs.error
    frames = own_frames(error.frames) if error is not None else []
    if error is None or error.type not in ("TypeError", "AttributeError", "ValueError") or not frames:
        return False
    line = case.code_line(frames[-1].file, frames[-1].line)
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


def outgrew(case: Case, owner: Distribution, asker: Distribution) -> bool:
    """Whether a distribution is newer than the lowest version that another declares to need of it."""
    for line in asker.requires:
        if normal_name(requirement_name(line)) == normal_name(owner.name) and applies(line, case.markers):
            lower = re.search(r">=?\s*([\d.]+)|[~=]=\s*([\d.]+)", line.split(";")[0])
            if lower is not None and is_met(line, owner.version):
                return is_met(f"{owner.name}>{lower.group(1) or lower.group(2)}", owner.version) is True
    return False


def bring_together(case: Case, asker: Distribution, owner: Distribution, says: str, older: str = ""
                   ) -> list[Remedy]:
    """Return what makes a package fit another that has gone on since: a newer one, or an older other one.

    `older` is the requirement for the latter, where it is known; else the series before this one is meant.
    """
    command = remedies.pip_command(case)
    if command is None or remedies.managed_marker(case) is not None:
        return []
    series = ".".join(owner.version.split(".")[:2])
    both = [
        Remedy(f"Install the newest {asker.name}: {says}.", "command",
               argv=(*command, "install", "--upgrade", asker.name),
               changes=f"replaces {asker.name} {asker.version} in {case.prefix}"),
        *remedies.install(case, pins.pinned(case, older or f"{owner.name}<{series}"),
                          why=f", older, where {asker.name} {asker.version} has to stay")]
    held = re.search(r"<|==|~=", pins.pinned(case, asker.name))  # others do not take a newer one
    return both[::-1] if held or not _may_be_newer(case, asker) else both


def _may_be_newer(case: Case, distribution: Distribution) -> bool:
    """Whether pip may find a newer version: where it is told to look into local folders alone, those tell."""
    return not case.wheelhouse.is_closed or any(
        is_met(f"{distribution.name}>{distribution.version}", str(w.version))
        for w in case.wheels_of(distribution.name))


def outgrown_in_use(case: Case) -> list[Remedy]:
    """Return the same for an exception in a package's use of another that is newer than it needs."""
    error = case.obs.error
    if error is None or error.type not in ("TypeError", "AttributeError", "ImportError"):
        return []
    frames = [f for f in own_frames(error.frames) if case.layer_of_file(f.file) not in ("stdlib", "start")]
    owners = [case.distribution_of(f.file) for f in frames]
    inner = owners[-1] if owners else None
    asker = next((o for o in reversed(owners) if o is not None and inner is not None
                  and o.metadata != inner.metadata), None)
    pairs = [(asker, inner)] if asker and inner else []
    if inner is not None and frames:  # the line that failed may call what has no frame of its own
        words = set(re.findall(r"\b([A-Za-z_]\w*)\b", case.code_line(frames[-1].file, frames[-1].line)))
        pairs += [(inner, d) for r in inner.requires
                  if (d := case.distribution_named(requirement_name(r))) and words & set(d.modules)]
    for user, used in pairs:
        if not user.editable and outgrew(case, used, user):
            return bring_together(case, user, used, f"{user.name} {user.version} calls {used.name}, and "
                                  f"{used.version}, which is here, is newer than what it was made for")
    return []
