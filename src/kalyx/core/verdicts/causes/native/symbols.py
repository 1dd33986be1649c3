"""Group E: the libraries are here, and what its native side needs of them is not in them."""

from __future__ import annotations

import re

from kalyx.core.lean.record import record
from kalyx.core.model import Evidence, Finding
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.reading.loader_errors import copies_of, find_error, loader_evidence, owner_of, who_needs
from kalyx.core.verdicts.remedies.native_parts import newer_library
from kalyx.core.verdicts.remedies.pip import install_again
from kalyx.core.verdicts.remedies.rebuild import best_version, made_for_here
from kalyx.core.verdicts.remedies.variables import add_library_folder, brought_in, without_variable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["symbol_missing"]

_SYMBOL = re.compile(r"undefined symbol: (\w+)|version [`']([\w.]+)' not found|"
                  r"[Ss]ymbol not found(?: in flat namespace)?:? '?(\w+)|"
                  r"Error relocating \S+: (\w+): symbol not found")
_NO_START = re.compile(r"does not define (?:module export|init) function \((\w+)\)")
_FOUND_LIBRARY = re.compile(r"(?<![^\s(])(/\S+?): version [`'][\w.]+' not found(?: \(required by (\S+?)\))?")
_EXPECTED = re.compile(r"Expected in: (?:<[^>]*> )?(/.+)")  # as macOS says it
_SAYS_FILE = re.compile(r"^(/.+?): (?:undefined symbol|version |symbol )")


@cause("symbol-missing", "a symbol or symbol version is missing",
       asks="anything", after=("library-missing",), not_beside=("foreign-platform",),
       why_here="a library of another machine has no symbols for this one")
def symbol_missing(case: Case, failure: Failure | None) -> Finding | None:
    """Name the symbol, and the library that was found without it; those of Python are the ABI's matter.

    Looks like: `undefined symbol: ...`, `version GLIBC_2.38 not found`, `Symbol not found: ...`,
        `The specified procedure could not be found`.
    Why: The library is here in another version than the one that the compiled part was built with; often
        LD_LIBRARY_PATH puts an older copy first.
    How Kalyx knows: The library that the loader found, and the versions that it offers; other copies of it
        on the machine are read for what is missing.
    What to do: Have the loader find the copy that has it, or install the package built for this machine.
    """
    found = find_error(case, _SYMBOL)
    if found is None:
        from kalyx.core.verdicts.causes.native.windows import function_missing

        return function_missing(case) or _without_start(case)
    error, match = found
    symbol = next(g for g in match.groups() if g)
    if case.files.platform == "darwin":  # its linker writes an underscore before each name
        symbol = symbol.removeprefix("_")
    if symbol.startswith(("Py", "_Py")) and not case.modules.is_made_for_it(error.path or ""):
        return None  # of another Python
    owner = owner_of(case, error)
    said, named = _SAYS_FILE.match(error.message), _FOUND_LIBRARY.search(error.message)
    file = error.path or (said[1] if said and not named else named[2] if named else None)
    evidence, needs = loader_evidence(error, owner), f"{who_needs(case, error, owner)} needs {symbol}"
    copy = _better_copy(case, file, symbol, named[1] if named else "")
    if copy is not None:
        return _other_copy_first(case, copy, needs, symbol, evidence)
    newer = newer_library(case, owner, file, symbol) if file and file.endswith(".so") else None
    if newer is not None:
        return Finding.error("symbol-missing", "certain", f"{needs}, which {newer[0]}, does not have.",
                             (*evidence, *newer[1]), newer[2])
    expected = _EXPECTED.search(error.message)
    because = f"{needs}, which {expected[1] if expected else 'the libraries of this machine'} do" + (
        "es not have." if expected else " not have.")
    if named:
        best = best_version(case, named[1], symbol)
        if best:
            evidence.append(Evidence(f"{named[1]} was found, and goes up to {best}", named[1]))
        because = f"{needs}, and {named[1]} {f'goes only up to {best}' if best else 'does not have it'}."
        if symbol.startswith("GLIBC_"):
            because += " It was built on a newer system than this one."
    return Finding.error("symbol-missing", "certain", because, tuple(evidence),
                   made_for_here(case, owner, file) or install_again(case, owner, file))


# -- another copy of the library ---------------------------------------------------------------
@record
class _Copy:
    """A library without the symbol that the loader found, and a copy of it that has the symbol."""

    found: str
    better: str
    entry: str = ""  # of LD_LIBRARY_PATH, that brought the first one


def _better_copy(case: Case, file: str | None, symbol: str, blamed: str) -> _Copy | None:
    """Look for a copy that has what is missing, where the loader looks without the variable, or elsewhere."""
    if not file or not file.endswith(".so") or symbol.startswith("GLIBC_"):
        return None
    m, loader = case.files, case.modules.loader
    needed = [n for n in loader.walk(file) if n.path and (not blamed or m.same(n.path, blamed))]
    plain = loader.without_variable()
    for one in needed if loader.library_path else ():
        other = plain.find(one.name, loader.read(one.asked_by))[0]
        if one.path and other and not m.same(other, one.path) and loader.has(other, symbol):
            entry = next((f for f in loader.library_path if m.same(f, m.path.dirname(one.path))), "")
            return _Copy(one.path, other, entry)
    for one in needed:
        for other in copies_of(case, one.name):
            if one.path and not m.same(other, one.path) and loader.has(other, symbol):
                return _Copy(one.path, other)
    return None


def _other_copy_first(case: Case, copy: _Copy, needs: str, symbol: str, evidence: list[Evidence]) -> Finding:
    """Say which copy is found and which one has it, and how to have the second one found."""
    why, todo = "", add_library_folder(case, case.files.path.dirname(copy.better))
    if copy.entry:
        why = f", as LD_LIBRARY_PATH holds {copy.entry}"
        todo = without_variable(case.files, case.seat, "LD_LIBRARY_PATH", copy.entry)
    return Finding.error(
        "symbol-missing", "certain",
        f"{needs}, which {copy.better} has; the loader finds {copy.found} first{why}.",
        (*evidence, Evidence(f"{copy.found} was found, and has no {symbol}", copy.found),
         Evidence(f"{copy.better} has {symbol}", copy.better),
         *(brought_in(case.files, case.seat, "LD_LIBRARY_PATH", copy.entry) if copy.entry else ())), (todo,))


def _without_start(case: Case) -> Finding | None:
    """Find a compiled part for this interpreter that lacks the function by which it is begun."""
    error = case.obs.error
    match = _NO_START.search(error.message) if error is not None and error.path else None
    if error is None or match is None or not case.modules.is_made_for_it(error.path or ""):
        return None
    owner = owner_of(case, error)
    return Finding.error(
        "symbol-missing", "certain",
        f"The compiled part {error.path} has no function {match.group(1)}, by which Python begins it: it was "
        "built under another name, or renamed.",
        tuple(loader_evidence(error, owner)), install_again(case, owner, error.path))
