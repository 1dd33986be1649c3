"""What code needs and no environment of this machine can be given."""

from __future__ import annotations

from kalyx.core.model import Remedy
from kalyx.core.verdicts.reading.other_systems import system_lacking
from kalyx.core.verdicts.remedies.only_elsewhere import OnlyElsewhere, only_elsewhere

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.model import Need

__all__ = ["why_only_elsewhere"]

_LATER = ("function", "try", "typing")  # what asks so is not asked for on other systems


def why_only_elsewhere(need: Need, platform: str) -> OnlyElsewhere | None:
    """Return why a platform has a module neither by its Pythons nor by any index, and what to do; mostly None."""
    module = need.module or ""
    if not need.is_standard:
        return only_elsewhere(module, need.distribution or "", platform) if not need.url else None
    system = system_lacking(platform, module.split(".")[0])
    if not system or all(place.guard in _LATER for place in need.asked_by):
        return None
    return OnlyElsewhere(f"{module} is there on {system} alone", Remedy(
        f"Run this code on {system}, or import {module} only there.", "manual", changes="your code"))
