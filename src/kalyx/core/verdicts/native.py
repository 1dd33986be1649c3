"""Group E: its native side does not load."""

from __future__ import annotations

import re

from kalyx.core.facts.cases import Case
from kalyx.core.model import Distribution, Evidence, Finding, ObservedError, Remedy
from kalyx.core.verdicts import remedies
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.failure import Failure

__all__ = ["binary_mismatch", "library_missing", "symbol_missing"]

_LIBRARY = re.compile(r"([\w.+-]+\.(?:so|dylib)[\w.]*): cannot open shared object file|"
                      r"Library not loaded: (\S+)|DLL load failed while importing (\w+)")
_SYMBOL = re.compile(r"undefined symbol: (\w+)|version [`']([\w.]+)' not found|"
                     r"Symbol not found: (\w+)")
_MISMATCH = re.compile(r"size changed, may indicate binary incompatibility|"
                       r"compiled using NumPy 1|module compiled against (?:ABI|API) version|"
                       r"numpy\.core\.multiarray failed to import")


def _find(case: Case, pattern: re.Pattern[str]) -> tuple[ObservedError, re.Match[str]] | None:
    for error in case.obs.chain:
        match = pattern.search(error.message)
        if match:
            return error, match
    return None


def _owner(case: Case, error: ObservedError) -> Distribution | None:
    if error.path:
        return case.distribution_of(error.path)
    return case.distribution_of(error.frames[-1].file) if error.frames else None


def _evidence(error: ObservedError, owner: Distribution | None) -> list[Evidence]:
    found = [Evidence(f"the loader says: {error.message.splitlines()[0]}", error.path)]
    if owner is not None:
        found.append(Evidence(f"it belongs to {owner.name} {owner.version}", owner.metadata))
    return found


def _again(case: Case, owner: Distribution | None) -> tuple[Remedy, ...]:
    if owner is None:
        return (Remedy("Build or install the compiled part again on this machine.", "manual",
                       changes="the compiled part"),)
    return remedies.reinstall(case, owner.name, owner.version, "for this machine")


@cause("library-missing", "E", "a shared library that it needs cannot be found", rank=62)
def library_missing(case: Case, failure: Failure | None) -> Finding | None:
    """Name the library, and the file that needs it."""
    found = _find(case, _LIBRARY)
    if found is None:
        return None
    error, match = found
    library = next(g for g in match.groups() if g)
    owner = _owner(case, error)
    who = f"{owner.name} {owner.version}" if owner else error.path or case.obs.module
    elsewhere = [f"{folder}/{library}" for folder in _library_folders(case)
                 if case.machine.exists(f"{folder}/{library}")]
    evidence = _evidence(error, owner)
    evidence += [Evidence(f"{p} is there, where the loader does not look", p) for p in elsewhere]
    todo = [Remedy(f"Install the system's package that brings {library}"
                   + (f", or add {elsewhere[0].rpartition('/')[0]} to LD_LIBRARY_PATH" if elsewhere
                      else "") + ".", "manual", changes="the system's libraries"), *_again(case, owner)]
    return Finding("library-missing", "error", "certain",
                   f"{who} needs the shared library {library}, which the loader cannot find.",
                   tuple(evidence), tuple(todo))


def _library_folders(case: Case) -> list[str]:
    return [f"{case.prefix}/lib", f"{case.base_prefix}/lib", "/usr/local/lib", "/usr/lib", "/opt/lib"]


@cause("symbol-missing", "E", "a symbol or symbol version is missing", rank=64)
def symbol_missing(case: Case, failure: Failure | None) -> Finding | None:
    """Name the symbol; those of Python itself are a matter of the ABI."""
    found = _find(case, _SYMBOL)
    if found is None:
        return None
    error, match = found
    symbol = next(g for g in match.groups() if g)
    if symbol.startswith(("Py", "_Py")):
        return None
    owner = _owner(case, error)
    who = f"{owner.name} {owner.version}" if owner else error.path or case.obs.module
    return Finding("symbol-missing", "error", "certain",
                   f"{who} needs {symbol}, which the libraries of this machine do not have.",
                   tuple(_evidence(error, owner)), _again(case, owner))


@cause("binary-mismatch", "E", "built against another major version of a package's C interface",
       rank=60)
def binary_mismatch(case: Case, failure: Failure | None) -> Finding | None:
    """Find compiled parts that were built against another version of what they use."""
    found = _find(case, _MISMATCH)
    if found is None:
        return None
    error, _ = found
    owner = _owner(case, error)
    numpy = case.distribution_named("numpy")
    who = f"{owner.name} {owner.version}" if owner else case.obs.module
    evidence = _evidence(error, owner)
    if numpy is not None:
        evidence.append(Evidence(f"numpy {numpy.version} is installed", numpy.metadata))
    command = remedies.pip_command(case)
    todo: tuple[Remedy, ...] = ()
    if owner is not None and command is not None and remedies.managed_marker(case) is None:
        todo = (Remedy(f"Install a version of {owner.name} that was built for what is installed.",
                       "command", argv=(*command, "install", "--upgrade", owner.name),
                       changes=f"upgrades {owner.name}, and what it requires, in {case.prefix}"),)
    return Finding("binary-mismatch", "error", "certain",
                   f"{who} was built against another version of the C interface than the one that is "
                   "installed.", tuple(evidence), (*todo, *_again(case, owner)))
