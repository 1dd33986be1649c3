"""Compiled against another major version of a package's C interface."""

from __future__ import annotations

import re

from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.reading.loader_errors import failed_file, find_error, loader_evidence, owner_of
from kalyx.core.verdicts.remedies import pip, which_pip
from kalyx.core.verdicts.remedies.pip import install_again

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Distribution, ObservedError
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["binary_mismatch"]

_MISMATCH = re.compile(r"size changed, may indicate binary incompatibility|"
                       r"compiled using NumPy 1|module compiled against (?:ABI|API) version|"
                       r"numpy\.core\.multiarray failed to import|"
                       r"has the wrong size, try recompiling|does not export expected C (?:function|variable)|"
                       r"has unexpected signature|capsule .* incorrect name|wrong API version")
# What it was built for, and what is there, as numbers that grow with the version
_BUILT_AND_FOUND = re.compile(r"Expected (\d+) from C header, got (\d+) from PyObject|"
                           r"API version (0x[0-9a-f]+) but this version of \w+ is (0x[0-9a-f]+)")
# The one size that became smaller with a newer version: that of NumPy 2's type objects
_SHRUNK_IN_2 = re.compile(r"numpy\.dtype size changed, .*Expected 96 from C header, got 88")


@cause("binary-mismatch", "built against another major version of a package's C interface",
       asks="anything", after=("python-too-new",), not_beside=("files-missing",),
       why_here="a compiled part beside missing files may never have been used")
def binary_mismatch(case: Case, failure: Failure | None) -> Finding | None:
    """Find compiled parts that were built against another version of what they use.

    Looks like: `numpy.ndarray size changed`, `compiled against API version ...`.
    Why: A compiled part was built against another major version of a package than the one that is
        installed.
    How Kalyx knows: The message of the compiled part, and the installed version.
    What to do: Install a version of the package that was built for what is installed.
    """
    found = find_error(case, _MISMATCH)
    if found is None:
        return None
    error, _ = found
    owner = owner_of(case, error)
    used = _used(case, error, owner)
    evidence = loader_evidence(error, owner)
    if used is not None:
        evidence.append(Evidence(f"{used.name} {used.version} is installed", used.metadata))
    who = f"{owner.name} {owner.version}" if owner else failed_file(case, error) or case.obs.module
    served = which_pip.allowed(case)
    todo: tuple[Remedy, ...] = ()
    if used is not None:
        todo = _other_version_of(case, error, owner, used)
    if owner is not None and served is not None:
        todo += (Remedy(f"Install a version of {owner.name} that was built for what is installed.",
                       "command",
                       argv=served.install(pip.newest(case, owner.name), upgrade=True, over="replaced", alone=True),
                       changes=f"replaces {owner.name} in {case.python.prefix}"),)
    what = f"{used.name} than the one that is installed ({used.version})" if used else \
        "the C interface than the one that is installed"
    return Finding.error("binary-mismatch", "certain",
                   f"{who} was built against another version of {what}.", tuple(evidence),
                   todo or install_again(case, owner, failed_file(case, error)))


def _other_version_of(case: Case, error: ObservedError, owner: Distribution | None,
                      used: Distribution) -> tuple[Remedy, ...]:
    """Return what makes the package whose interface it is fit: what is declared, or what the message says."""
    from kalyx.core.facts.packaging.requirements import is_met
    from kalyx.core.verdicts.remedies.versions import pinned

    wanted = next((r.split(";")[0].strip() for r in (owner.requires if owner else ())
                   if normal_name(requirement_name(r)) == normal_name(used.name)), None)
    if wanted is not None and is_met(wanted, used.version) is False:
        return pip.install(case, pinned(case, wanted), why=f", the version that {owner.name} needs"
                                if owner else "")
    before = re.search(r"compiled using NumPy (\d+)\.", error.message)
    if before is None and "multiarray failed to import" in error.message:  # the advice is only printed
        before = re.search(r"compiled using NumPy (\d+)\.", case.obs.output)
    if before:
        return pip.install(case, pinned(case, f"{used.name}<{int(before.group(1)) + 1}"),
                                why=", the version that the compiled part was built for")
    if _SHRUNK_IN_2.search(error.message) and used.version.split(".")[0] not in ("0", "1"):
        return pip.install(case, pinned(case, f"{used.name}<2"),
                                why=", the version that the compiled part was built for")
    numbers = _BUILT_AND_FOUND.search(error.message)
    if numbers:
        built, there = (int(n, 0) for n in (g for g in numbers.groups() if g))
        if built > there:
            return pip.install(case, pip.newest(case, used.name), upgrade=True,
                                    why=", newer: the compiled part was built for a newer one")
    return ()


def _used(case: Case, error: ObservedError, owner: Distribution | None) -> Distribution | None:
    """Return the package whose C interface it is: one that the message names."""
    for word in re.findall(r"[A-Za-z_][\w.]*", error.message):
        top = word.split(".")[0].lower()
        found = case.distributions.named(top)
        if found is not None and (owner is None or found.name != owner.name):
            return found
    about_numpy = "umpy" in error.message or "multiarray" in error.message
    return case.distributions.named("numpy") if about_numpy else None
