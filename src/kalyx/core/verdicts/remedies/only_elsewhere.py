"""Modules that no index has for this machine: those of hosted services, of other systems, and language models."""

from __future__ import annotations

import re

from kalyx.core.lean.record import record
from kalyx.core.model import Remedy
from kalyx.core.tables import import_names
from kalyx.core.verdicts.remedies.source_edits import leave_out

__all__ = ["OnlyElsewhere", "language_model", "of_another_system", "only_elsewhere"]

_MODEL = re.compile(r"[a-z]{2}_(?:core|dep|ent)_(?:web|news|wiki|sci|ud)_(?:sm|md|lg|trf)")
_SYSTEMS = {"win32": "Windows", "darwin": "macOS"}


@record
class OnlyElsewhere:
    """Why a module is not to be had here, and what to do."""

    because: str
    remedy: Remedy


def only_elsewhere(module: str, distribution: str, platform: str) -> OnlyElsewhere | None:
    """Return why no index has a module, or the distribution that brings it, for a platform; mostly None."""
    host = import_names.host_of(module)
    if host is not None:
        return OnlyElsewhere(f"{module} is there in {host} alone", leave_out(module, f"in {host}"))
    system = of_another_system(distribution, platform)
    if system is not None:
        return system
    if language_model(module):
        return OnlyElsewhere(f"{module} is a language model of spaCy, which is on no index", Remedy(
            f"{module} is a language model of spaCy, which is on no index; spaCy itself fetches it.", "manual",
            typed=f"python -m spacy download {module}", changes=f"adds {module} to the environment of that python"))
    return None


def of_another_system(distribution: str, platform: str) -> OnlyElsewhere | None:
    """Return why a distribution is not for a platform; mostly None."""
    system = import_names.system_of(distribution)
    if system is None or system == platform:
        return None
    where = _SYSTEMS[system]
    return OnlyElsewhere(f"{distribution} is for {where} alone", Remedy(
        f"Run this code on {where}, or import it only there (if sys.platform == {system!r}): {distribution} is for no "
        "other system.", "manual", changes="your code"))


def language_model(module: str) -> bool:
    """Whether a module is a language model of spaCy, by the form of its name."""
    return _MODEL.fullmatch(module) is not None
