"""An installation that was interrupted: what the installer had set aside lies there still."""

from __future__ import annotations

import re

from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.model import Evidence, Finding
from kalyx.core.model.names import normal_name
from kalyx.core.tables import import_names
from kalyx.core.verdicts.catalogue import also
from kalyx.core.verdicts.reading.absence import is_absent
from kalyx.core.verdicts.remedies import pip

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.facts.search_path.layers import Layer
    from kalyx.core.model import Distribution
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["interrupted"]

# pip renames what it replaces: the first letters become a ~ and signs of these (its own module misc, temp_dir)
_SET_ASIDE = re.compile(r"~[-~.=%0-9]*")


@also("mixed-install", asks="traces", family="damage",
      why_here="left-overs with a ~ tell how the files came to be missing, so it is asked before what is missing")
def interrupted(case: Case, failure: Failure | None) -> Finding | None:
    """Find what an installer sets aside while it works, ``~umpy``, of a module that is gone or not whole."""
    if case.obs.outcome not in ("fails", "crash"):
        return None
    name = failure.top if failure is not None else top_level(case.obs.module)
    gone = failure is not None and is_absent(case, failure)
    for layer in case.modules.layers:
        left = _left_of(case, layer, name) if layer.layer in ("env", "base", "user") else []
        if not left:
            continue
        owner = next(iter(case.distributions.metadata_in(layer).bringing(name)), None)
        if gone or (owner is not None and case.distributions.record(owner).missing()):
            return _finding(case, layer, name, left, owner)
    return None


def _left_of(case: Case, layer: Layer, module: str) -> list[str]:
    """Return the names in a folder that are a module's, or its distribution's, with the first letters replaced."""
    names = [n for n in case.modules.finder.names(layer.path) if n.startswith("~")]
    whole = {module, import_names.distribution_for(module) or module}
    return sorted(n for n in names if any(_stands_for(n.split("-")[0].split(".py")[0], w) or _stands_for(n, w)
                                          for w in whole))


def _stands_for(left: str, name: str) -> bool:
    match = _SET_ASIDE.match(left)
    rest = left[match.end():] if match else ""
    plain, wanted = normal_name(rest), normal_name(name)
    return bool(rest) and len(left) == len(name) and wanted.endswith(plain)


def _finding(case: Case, layer: Layer, name: str, left: list[str], owner: Distribution | None) -> Finding:
    place = case.files.path.join(layer.path, left[0])
    version = re.search(r"-([\d][^-]*)\.dist-info$", next((n for n in left if n.endswith(".dist-info")), ""))
    known = import_names.distribution_for(name) or name
    wanted = f"{owner.name}=={owner.version}" if owner else f"{known}=={version[1]}" if version else known
    says = (f"An installation of {name} into {layer.path} was interrupted: "
            + ("what is there of it is not whole." if owner else "only left-overs of it are there."))
    evidence = Evidence(f"{place} is what an installer puts aside while it works", place)
    todo = pip.reinstall(case, owner.name, owner.version, "to have all its files") if owner else pip.install(
        case, wanted, why="" if version or known != name else pip.GUESSED)
    return Finding.error("mixed-install", "certain", says, (evidence,), todo)
