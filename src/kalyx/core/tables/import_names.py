"""The tables that Kalyx ships: what no file of the examined machine can tell."""

from __future__ import annotations

import re
from functools import cache

from kalyx.core.tables.load import load

__all__ = ["are_builds_of_one", "bound_for", "distribution_by_conda", "distribution_for", "host_of", "is_everyday",
           "is_known", "is_same_project", "is_shared", "module_for", "system_of"]

# Words of a distribution's name that say which build of a project it is
_BUILD = re.compile(r"headless|contrib|binary|cpu|gpu|rocm|simd|nightly|macos|intel|cu\d{1,4}|cuda(?:\d{1,3}x?)?")


def distribution_for(module: str) -> str | None:
    """Return the distribution that a module is known to come from, when the names differ.

    Of a dotted name the longest part that is known counts. What many
    distributions share, such as ``google``, has no name by itself.
    """
    known = load("import_names.json")
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


def distribution_by_conda(name: str) -> str:
    """Return the distribution that a conda package has in it, where that is known to be called otherwise; else `name`.

    A package of conda's may also be no Python at all: a library, a compiler.
    """
    return str(load("import_names.json")["conda"].get(name, name))


@cache
def _known() -> frozenset[str]:
    from kalyx.core.model.names import normal_name

    known = load("import_names.json")
    return frozenset(normal_name(n) for n in (*known["modules"].values(), *known["conda"].values()))


def is_known(distribution: str) -> bool:
    """Whether a name is one of the tables' distributions."""
    from kalyx.core.model.names import normal_name

    return normal_name(distribution) in _known()


def is_same_project(module: str) -> bool:
    """Whether the distribution of the module's own name is the same project under another name."""
    return module in load("import_names.json")["same_project"]


def are_builds_of_one(distribution: str, other: str) -> bool:
    """Whether two distributions are builds of one project by their names, such as for a GPU, or without windows."""
    from kalyx.core.model.names import normal_name

    plain = ["-".join(w for w in normal_name(name).split("-") if not _BUILD.fullmatch(w)) for name in (
        distribution, other)]
    return plain[0] == plain[1] != ""


def is_everyday(module: str) -> bool:
    """Whether a name is one that people give modules of their own: a distribution of that name is not meant."""
    return module in load("import_names.json")["everyday"]


def bound_for(module: str) -> str:
    """Return the bound below which a distribution still has a module that it has dropped since; mostly none."""
    return str(load("import_names.json")["dropped"].get(module, ""))


def host_of(module: str) -> str | None:
    """Return where alone a module is to be had, of one that a hosted service brings; mostly None."""
    hosted = load("import_names.json")["hosted"]
    return next((str(hosted[m]) for m in hosted if module == m or module.startswith(m + ".")), None)


def system_of(distribution: str) -> str | None:
    """Return the one platform that a distribution is there for, as `sys.platform` names it; mostly None."""
    from kalyx.core.model.names import normal_name

    known = load("import_names.json")["one_system"]
    return next((str(known[n]) for n in known if normal_name(n) == normal_name(distribution)), None)


def is_shared(module: str) -> bool:
    """Whether many distributions have their parts under this name, so that none is called so."""
    return module in load("import_names.json")["shared"]


def module_for(distribution: str) -> str | None:
    """Return the module to import for a distribution that has none of its own name."""
    from kalyx.core.model.names import normal_name

    wanted = normal_name(distribution)
    if wanted in load("import_names.json")["same_name_too"]:
        return None
    start = wanted[:1]
    for module, name in load("import_names.json")["modules"].items():
        if name[:1].lower() == start and normal_name(name) == wanted and normal_name(module) != wanted:
            return str(module)
    return None
