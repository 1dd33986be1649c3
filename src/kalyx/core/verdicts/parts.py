"""Group A: the package is here, and this version of it lacks what is asked of it."""

from __future__ import annotations

from kalyx.core.facts.cases import Case
from kalyx.core.model import Distribution, Elsewhere, Evidence, Finding, Remedy
from kalyx.core.verdicts import remedies
from kalyx.core.verdicts.absence import asker_evidence
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.failure import Failure
from kalyx.core.verdicts.names import near_names, write_import

__all__ = ["attribute_absent", "submodule_absent"]


@cause("submodule-absent", "A", "the parent imports, the submodule isn't in the installed version",
       rank=70)
def submodule_absent(case: Case, failure: Failure | None) -> Finding | None:
    """Name the submodule that a package of this version does not hold."""
    if failure is None or failure.name is not None or "." not in failure.module:
        return None
    parent, _, name = failure.module.rpartition(".")
    file = case.file_of(parent)
    if file is None or "is not a package" in failure.error.message:
        return None
    owner = case.distribution_of(file)
    held = sorted({n.split(".")[0] for folder in case.search_folders(parent)
                   for n in case.finder.names(folder) if n.split(".")[0].isidentifier()
                   and not n.startswith("__")})
    near = near_names(name, held)
    what = f"{owner.name} {owner.version}" if owner else parent
    todo: list[Remedy] = [write_import(case, failure, failure.module, f"{parent}.{n}")
                          for n in near[:1]]
    for other in _newer(case, owner):
        todo += remedies.install(case, f"{owner.name}=={other.version}",  # type: ignore[union-attr]
                                 why=f", the version that {other.environment.name} has")
        break
    todo.append(Remedy(f"Look up which version of {parent} has {name}, or where it went.",
                       "manual", changes="the import, or the version"))
    return Finding(
        "submodule-absent", "error", "certain",
        f"{what} has no module {failure.module}.",
        (Evidence(f"{parent} is {file}", file),
         Evidence(f"it holds {', '.join(held[:12])}" + (" and more" if len(held) > 12 else "")
                  if held else "it holds no modules"), *asker_evidence(case, failure)),
        tuple(todo))


def _newer(case: Case, owner: Distribution | None) -> list[Elsewhere]:
    if owner is None or not owner.modules:
        return []
    return [o for o in case.elsewhere(owner.modules[0])
            if o.version and o.version != owner.version]


@cause("attribute-absent", "A", "X is the genuine X and has no y in it", rank=72)
def attribute_absent(case: Case, failure: Failure | None) -> Finding | None:
    """Name what a module of this version does not define."""
    if failure is None or failure.name is None or failure.error.type == "AttributeError":
        return None
    if "partially initialized" in failure.error.message:
        return None
    file = case.file_of(failure.module)
    owner = case.distribution_of(file)
    what = f"{failure.module} ({owner.name} {owner.version})" if owner else failure.module
    todo: list[Remedy] = []
    for other in _newer(case, owner):
        todo += remedies.install(case, f"{owner.name}=={other.version}",  # type: ignore[union-attr]
                                 why=f", the version that {other.environment.name} has")
        break
    todo.append(Remedy(f"Look up which version of {failure.module} has {failure.name}, or where "
                       "it went.", "manual", changes="the import, or the version"))
    return Finding(
        "attribute-absent", "error", "certain",
        f"{what} is here and has no {failure.name}.",
        (Evidence(f"{failure.module} is {file or 'built into the interpreter'}", file),
         *asker_evidence(case, failure)), tuple(todo))
