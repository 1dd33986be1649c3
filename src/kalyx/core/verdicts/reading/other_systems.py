"""Modules that only another system has."""

from __future__ import annotations

from kalyx.core.tables.standard_library import SYSTEM_ONLY

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case

__all__ = ["is_of_another_system", "system_lacking"]


def is_of_another_system(case: Case, name: str) -> str:
    """Return the system whose standard library alone has a module, where that is not this one; else nothing."""
    return system_lacking(case.python.platform, name)


def system_lacking(platform: str, name: str) -> str:
    """Return the system whose standard library alone has a module, where a platform is not that one; else nothing."""
    system = next((s for s, names in SYSTEM_ONLY.items() if name in names), "")
    return system if system and (system == "Windows") != (platform == "win32") else ""
