"""The tables that Kalyx ships: what no file of the examined machine can tell."""

from __future__ import annotations

import os
from functools import cache

from kalyx.core.record import TYPE_CHECKING

if TYPE_CHECKING:
    from typing import Any

__all__ = ["bound_for", "distribution_for", "host_of", "is_everyday", "is_same_project", "is_shared",
"library_names",
           "module_for", "moved_part", "stdlib_history", "system_of",
           "system_packages"]


@cache
def _load(name: str) -> dict[str, Any]:
    import json

    with open(os.path.join(os.path.dirname(__file__), name), encoding="utf-8") as file:
        loaded: dict[str, Any] = json.load(file)
    return loaded


def distribution_for(module: str) -> str | None:
    """Return the distribution that a module is known to come from, when the names differ.

    Of a dotted name the longest part that is known counts. What many
    distributions share, such as ``google``, has no name by itself.
    """
    known = _load("import_names.json")
    part = module
    while part:
        if part in known["modules"]:
            return str(known["modules"][part])
        part = part.rpartition(".")[0]
    top, _, rest = module.partition(".")
    if top not in known["shared"] or not rest:
        return None
    form = str(known["shared"][top])
    first = rest.split(".")[0]
    return form.format(first, "-".join(rest.split(".")[:2])) if first != "cloud" else (
        f"google-cloud-{rest.split('.')[1]}" if "." in rest else None)


def is_same_project(module: str) -> bool:
    """Whether the distribution of the module's own name is the same project under another name."""
    return module in _load("import_names.json")["same_project"]


def is_everyday(module: str) -> bool:
    """Whether a name is one that people give modules of their own: a distribution of that name is not meant."""
    return module in _load("import_names.json")["everyday"]


def bound_for(module: str) -> str:
    """Return the bound below which a distribution still has a module that it has dropped since; mostly none."""
    return str(_load("import_names.json")["dropped"].get(module, ""))


def host_of(module: str) -> str | None:
    """Return where alone a module is to be had, of one that a hosted service brings; mostly None."""
    hosted = _load("import_names.json")["hosted"]
    return next((str(hosted[m]) for m in hosted if module == m or module.startswith(m + ".")), None)


def system_of(distribution: str) -> str | None:
    """Return the one platform that a distribution is there for, as `sys.platform` names it; mostly None."""
    from kalyx.core.facts.distributions import normal_name

    known = _load("import_names.json")["one_system"]
    return next((str(known[n]) for n in known if normal_name(n) == normal_name(distribution)), None)


def is_shared(module: str) -> bool:
    """Whether many distributions have their parts under this name, so that none is called so."""
    return module in _load("import_names.json")["shared"]


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


def moved_part(part: str) -> tuple[str, str] | None:
    """Return which versions have a part (``module`` or ``module:name``), and its name now, if known."""
    found = _load("moved_names.json")["moved"].get(part)
    return (str(found[0]), str(found[1])) if found else None


def stdlib_history() -> dict[str, Any]:
    """Return the table of standard library modules that came or went, and its companions."""
    return _load("stdlib_history.json")


def library_names() -> dict[str, Any]:
    """Return the table of what came to the standard library and went, by version."""
    return _load("library_names.json")


def system_packages() -> dict[str, str]:
    """Return which Debian package brings a shared library, by its file name."""
    found: dict[str, str] = _load("system_libraries.json")["debian"]
    return found
