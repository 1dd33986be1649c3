"""Group C: it is here, and made for another interpreter."""

from __future__ import annotations

import re

from kalyx.core.facts.cases import Case
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts import remedies
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.failure import Failure

__all__ = ["describe_tag", "foreign_abi"]

_LOADER_SAYS = re.compile(
    r"does not define (?:module export|init) function|undefined symbol: _?Py|"
    r"Module use of python\d+\.dll conflicts|Symbol not found: _?_Py")


@cause("foreign-abi", "C", "an extension module is here, with a suffix that this interpreter "
       "cannot load", rank=20)
def foreign_abi(case: Case, failure: Failure | None) -> Finding | None:
    """Find the compiled file for the missing module that another interpreter made."""
    wanted = _wanted(case, failure)
    for module in wanted:
        head, _, name = module.rpartition(".")
        folders = case.search_folders(head) if head else [x.path for x in case.layers]
        for folder in folders:
            files = case.finder.extensions_in(folder, name)
            loadable = {case.machine.path.join(folder, name + s) for s in case.finder.suffixes}
            if files and not loadable & set(files):
                return _finding(case, module, files)
    error = case.obs.error
    if error is not None and _LOADER_SAYS.search(error.message) and error.path:
        return _finding(case, error.name or case.obs.module, [error.path], error.message)
    return None


def _wanted(case: Case, failure: Failure | None) -> list[str]:
    """Return the modules whose compiled file may be the missing one.

    Every exception of the chain is read: packages often catch the first one
    and raise advice of their own.
    """
    names: list[str] = []
    if failure is not None:
        names += [f"{failure.module}.{failure.name}"] if failure.name else []
        names.append(failure.module)
    for error in case.obs.chain[1:]:
        names += re.findall(r"No module named '([\w.]+)'", error.message)
        names += [f"{m}.{n}" for n, m in re.findall(
            r"cannot import name '(\w+)' from (?:partially initialized module )?'([\w.]+)'",
            error.message)]
    return list(dict.fromkeys(names))


def describe_tag(file: str) -> str:
    """Say in words which interpreter a compiled file's name is for."""
    match = re.search(r"\.(?:cpython-|cp)(\d)(\d+)([a-z]*)-([\w-]+?)\.(?:so|pyd|dylib)$", file)
    if match:
        major, minor, flags, platform = match.groups()
        kind = "".join({"t": ", free-threaded", "d": ", debug build"}.get(f, "") for f in flags)
        return f"CPython {major}.{minor}{kind} on {platform}"
    match = re.search(r"\.pypy(\d)(\d+)-", file)
    if match:
        return f"PyPy {match.group(1)}.{match.group(2)}"
    return "another interpreter"


def _finding(case: Case, module: str, files: list[str], loader_says: str = "") -> Finding:
    file = files[0]
    owner = case.distribution_of(file)
    layer = case.layer_of_file(file)
    made_for = describe_tag(file)
    kind = {"cpython": "CPython", "pypy": "PyPy"}.get(
        str(case.obs.who.get("implementation")), "Python")
    here = f"{kind} {case.obs.who.get('version')}"
    evidence = [Evidence(f"{f} is for {describe_tag(f)}", f) for f in files[:4]]
    evidence.append(Evidence(f"{case.python} loads {', '.join(case.finder.suffixes)}",
                             case.python))
    if loader_says:
        evidence.append(Evidence(f"the loader says: {loader_says}", file))
    if owner is not None:
        evidence.append(Evidence(f"it belongs to {owner.name} {owner.version}", owner.metadata))
    return Finding(
        "foreign-abi", "error", "likely" if loader_says else "certain",
        f"The compiled part {module} was made for {made_for}, and this is {here}.",
        tuple(evidence), _remedies(case, file, layer, owner.name if owner else None,
                                   owner.version if owner else None))


def _remedies(case: Case, file: str, layer: str | None, name: str | None,
              version: str | None) -> tuple[Remedy, ...]:
    if layer == "pythonpath":
        entry = next((x.path for x in case.layers if x.layer == "pythonpath"
                      and case.machine.is_within(file, x.path)), "")
        return (Remedy(f"Take {entry} out of PYTHONPATH: it holds packages of another Python; "
                       f"then put {name or 'the package'} into {case.environment_name}.", "manual",
                       changes="the variable PYTHONPATH, where it is set"),)
    if name and version:
        return remedies.reinstall(case, name, version, "with this interpreter, which builds or "
                                  "fetches the part made for it")
    return (Remedy(f"Build or install {file} again with {case.python}.", "manual",
                   changes="the compiled file"),)
