"""Remedies that bring versions together which do not go together."""

from __future__ import annotations

import re

from kalyx.core.facts.packaging.requirements import applies, is_met
from kalyx.core.model import Remedy
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.verdicts.reading.asked_part import asked_part
from kalyx.core.verdicts.reading.failure import own_frames
from kalyx.core.verdicts.remedies import pip, versions, which_pip

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Distribution

__all__ = ["bring_together", "outgrew", "outgrown_in_use"]


def outgrew(case: Case, owner: Distribution, asker: Distribution) -> bool:
    """Whether a distribution is newer than the lowest version that another declares to need of it."""
    for line in asker.requires:
        if normal_name(requirement_name(line)) == normal_name(owner.name) and applies(line, case.distributions.markers):
            lower = re.search(r">=?\s*([\d.]+)|[~=]=\s*([\d.]+)", line.split(";")[0])
            if lower is not None and is_met(line, owner.version):
                return is_met(f"{owner.name}>{lower.group(1) or lower.group(2)}", owner.version) is True
    return False


def bring_together(case: Case, asker: Distribution, owner: Distribution, says: str, older: str = ""
                   ) -> list[Remedy]:
    """Return what makes a package fit another that has gone on since: a newer one, or an older other one.

    `older` is the requirement for the latter, where it is known; else the series before this one is meant.
    """
    served = which_pip.allowed(case)
    if served is None:
        return []
    series = ".".join(owner.version.split(".")[:2])
    both = [
        Remedy(f"Install the newest {asker.name}: {says}.", "command",
               argv=served.install(pip.newest(case, asker.name), upgrade=True),
               changes=f"replaces {asker.name} {asker.version} in {case.python.prefix}"),
        *pip.install(case, versions.pinned(case, older or f"{owner.name}<{series}"),
                          why=f", older, where {asker.name} {asker.version} has to stay")]
    held = re.search(r"<|==|~=", versions.pinned(case, asker.name))  # others do not take a newer one
    return both[::-1] if held or not _may_be_newer(case, asker) else both


def _may_be_newer(case: Case, distribution: Distribution) -> bool:
    """Whether pip may find a newer version: where it is told to look into local folders alone, those tell."""
    return not case.distributions.wheelhouse.is_closed or any(
        is_met(f"{distribution.name}>{distribution.version}", str(w.version))
        for w in case.distributions.wheels_of(distribution.name))


def outgrown_in_use(case: Case) -> list[Remedy]:
    """Return the same for an exception in a package's use of another that is newer than it needs."""
    error = case.obs.error
    if error is None or not error.type.endswith(("TypeError", "AttributeError", "ImportError")):  # packages make theirs
        return []
    frames = [f for f in own_frames(error.frames) if case.modules.layer_of_file(f.file) not in ("stdlib", "start")]
    owners = [case.distributions.of(f.file) for f in frames]
    inner = owners[-1] if owners else None
    asker = next((o for o in reversed(owners) if o is not None and inner is not None
                  and o.metadata != inner.metadata), None)
    pairs = [(asker, inner)] if asker and inner else []
    if inner is not None and frames:  # the line that failed may call what has no frame of its own
        words = set(re.findall(r"\b([A-Za-z_]\w*)\b", case.modules.code_line(frames[-1].file, frames[-1].line)))
        pairs += [(inner, d) for r in inner.requires
                  if (d := case.distributions.named(requirement_name(r))) and words & set(d.modules)]
    for user, used in pairs:
        part = asked_part(case, used.name)
        is_gone = part is not None and part.went and part.lacks(used.version)
        if not user.editable and (is_gone or outgrew(case, used, user)):
            return bring_together(case, user, used, f"{user.name} {user.version} calls {used.name}, and "
                                  f"{used.version}, which is here, is newer than what it was made for",
                                  part.versions if part is not None and is_gone else "")
    return []
