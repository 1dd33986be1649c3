"""The tables that Kalyx ships: what no file of the examined machine can tell."""

from __future__ import annotations

import os
from functools import cache

from kalyx.core.record import TYPE_CHECKING

if TYPE_CHECKING:
    from typing import Any

__all__ = ["distribution_for", "module_for", "stdlib_history", "system_packages"]


@cache
def _load(name: str) -> dict[str, Any]:
    import json

    with open(os.path.join(os.path.dirname(__file__), name), encoding="utf-8") as file:
        loaded: dict[str, Any] = json.load(file)
    return loaded


def distribution_for(module: str) -> str | None:
    """Return the distribution that a module is known to come from, when the names differ."""
    found: str | None = _load("import_names.json")["modules"].get(module)
    return found


def module_for(distribution: str) -> str | None:
    """Return the module to import for a distribution that has none of its own name."""
    from kalyx.core.facts.distributions import normal_name

    wanted = normal_name(distribution)
    if wanted in _load("import_names.json")["same_name_too"]:
        return None
    start = wanted[:1]
    for module, name in _load("import_names.json")["modules"].items():
        if name[:1].lower() == start and normal_name(name) == wanted and normal_name(module) != wanted:
            return str(module)
    return None


def stdlib_history() -> dict[str, Any]:
    """Return the table of standard library modules that came or went, and its companions."""
    return _load("stdlib_history.json")


def system_packages() -> dict[str, str]:
    """Return which Debian package brings a shared library, by its file name."""
    found: dict[str, str] = _load("system_libraries.json")["debian"]
    return found
