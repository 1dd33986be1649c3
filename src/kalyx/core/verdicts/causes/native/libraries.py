"""Group E: its native side does not load."""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.tables import system_libraries
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.known import as_known
from kalyx.core.verdicts.reading.loader_errors import (
    copies_of,
    find_error,
    frame_of,
    loader_evidence,
    owner_of,
    who_needs,
)
from kalyx.core.verdicts.remedies.native_parts import required_library
from kalyx.core.verdicts.remedies.pip import install_again
from kalyx.core.verdicts.remedies.variables import add_library_folder

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.facts.native.binaries import Needed
    from kalyx.core.model import ObservedError
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["library_missing"]

_LIBRARY = re.compile(r"(?<![\w.+-])([\w.+-]+\.(?:so|dylib)[\w.]{0,40}): cannot open shared object file|"
                      r"Library not loaded: (\S+)|Error loading shared library ([\w.+-]+):")
_REFERENCED = re.compile(r"Referenced from: (?:<[^>]*> )?(/.+)")
_TRIED = re.compile(r"'(/[^']+)' \(((?:[^()]|\([^()]*\))*)\)")
# Code that looks for a library by its short name, and what it says where there is none
_BY_NAME = re.compile(r"find_library\(\s*['\"]([\w.+-]+)['\"]")
_LOADS = re.compile(r"find_library|dlopen|LoadLibrary|CDLL")
_WORDS = re.compile(r"['\"]([A-Za-z][\w.+-]+)['\"]")
_SAYS_LIBRARY = re.compile(r"(?i)librar|lib\w+|not found|(?:unable|failed) to (?:find|load)|cannot (?:find|load)")


@cause("library-missing", "a shared library that it needs cannot be found",
       asks="anything", after=("binary-mismatch",), not_beside=("files-missing", "file-corrupt", "foreign-platform"),
       why_here="what is the distribution's own is mended with it, not brought from the system")
def library_missing(case: Case, failure: Failure | None) -> Finding | None:
    """Name the library, the chain of files that leads to it, and where on the machine it is.

    Looks like: `libGL.so.1: cannot open shared object file`, `Library not loaded`, `DLL load failed`.
    Why: The compiled part needs a library of the system that is not installed, or lies where the loader
        does not look.
    How Kalyx knows: The chain of files from the compiled part to the library, walked as the loader does
        it, and the folders that it looks into. On Windows, whose message names no library, what the
        files' import tables ask for and is in none of those folders.
    What to do: Install the system's package that brings the library, or have the loader look where it
        is.
    """
    found = find_error(case, _LIBRARY)
    if found is None:
        from kalyx.core.verdicts.causes.native.windows import dll_missing

        return dll_missing(case) or _asked_for_by_name(case)
    error, match = found
    library = next(g for g in match.groups() if g).rpartition("/")[2]  # macOS says @rpath/NAME
    owner = owner_of(case, error)
    nothing: list[Needed] = []
    needed = as_known(case.files, lambda: case.modules.loader.walk(error.path or ""), nothing) \
        if error.path and error.path.endswith((".so", ".dylib")) else nothing
    evidence = [*loader_evidence(error, owner), *_on_macos(error)]
    if not error.path:
        evidence += _asked_here(case, error)
    evidence += [Evidence(f"needs {library}", asker) for asker in _chain(needed, library, error.path or "")]
    missing = next((n for n in needed if n.name == library), None)
    if missing is not None:
        folders = ", ".join(dict.fromkeys(missing.searched))
        evidence.append(Evidence(f"the loader looks in {folders}", missing.asked_by))
    more = [n.name for n in needed if n.path is None and n.name.rpartition("/")[2] != library]
    if more:
        evidence.append(Evidence(f"{', '.join(more[:6])} cannot be found either", error.path))
    nowhere: list[str] = []
    asked_by = missing.asked_by if missing else error.path
    elsewhere = as_known(case.files, lambda: copies_of(case, library, asked_by), nowhere)
    evidence += [Evidence(f"{p} is there, where the loader does not look{_of(case, p)}", p) for p in elsewhere[:3]]
    asker = case.distributions.of(missing.asked_by) if missing else owner
    required, todo, is_known = as_known(case.files, lambda: required_library(
        case, asker or owner, library, missing.searched if missing else ()), ([], [], False))
    evidence += required
    todo = todo if not elsewhere else []
    because = f"{who_needs(case, error, owner)} needs the shared library {library}, which the loader cannot " \
        "find"
    because += f"; it is in {elsewhere[0].rpartition('/')[0]}." if elsewhere else "."
    return Finding.error("library-missing", "certain", because, tuple(evidence),
                   (*(todo if is_known else ()), *_bring(case, [library, *more], elsewhere),
                    *(todo if not is_known else ()),
                    *as_known(case.files, lambda: install_again(case, owner, error.path), ())))


def _of(case: Case, file: str) -> str:
    """Say whose a file is; empty where nobody's."""
    owner = case.distributions.of(file)
    return f", of {owner.name} {owner.version}" if owner else ""


def _asked_for_by_name(case: Case) -> Finding | None:
    """Find code that looks for a library of the system by its short name (``ctypes.util.find_library``)."""
    error = case.obs.error
    frame = frame_of(case, error) if error is not None else None
    if error is None or frame is None or not _SAYS_LIBRARY.search(error.message):
        return None
    try:
        text = case.files.read_text(frame.file)
    except Unreadable:
        return None
    cache, names = case.modules.loader.cache(), list(dict.fromkeys(_BY_NAME.findall(text)))
    known = [k for k in cache if any(k.startswith(f"lib{n}.so") for n in names)]
    if not names and _LOADS.search(text):  # the names stand in a list
        names = [n for n in dict.fromkeys(_WORDS.findall(text)) if _is_unknown_library(n, cache)][:4]
    if not names or known or not cache:
        return None
    owner, wanted = owner_of(case, error), " or ".join(f"lib{n}" for n in names)
    table = system_libraries.system_packages()
    files = [k for n in names for k in table if k.startswith(f"lib{n}.so")] or [f"lib{n}" for n in names[:1]]
    return Finding.error(
        "library-missing", "likely",
        f"{who_needs(case, error, owner)} looks for the shared library {wanted}, and the loader knows of none.",
        (Evidence(f"it says: {error.message.splitlines()[0]}", frame.file, frame.line),
         *_asked_here(case, error),
         Evidence(f"no {wanted} in the loader's cache", "/etc/ld.so.cache")), tuple(_bring(case, files, [])))


def _is_unknown_library(name: str, cache: Mapping[str, object]) -> bool:
    """Whether a word is the short name of a library that Kalyx knows of and the loader does not."""
    start = f"lib{name}.so"
    return any(k.startswith(start) for k in system_libraries.system_packages()) and not any(
        k.startswith(start) for k in cache)


def _asked_here(case: Case, error: ObservedError) -> list[Evidence]:
    """Return the line of code that asked for a library."""
    frame = frame_of(case, error)
    line = case.modules.code_line(frame.file, frame.line) if frame else ""
    return [Evidence(f"it was asked for by: {line}", frame.file, frame.line)] if (
        frame and line and not line.startswith("raise")) else []


def _on_macos(error: ObservedError) -> list[Evidence]:
    """Return what macOS adds on further lines: which file asks for the library, and where it was looked for."""
    asker, tried = _REFERENCED.search(error.message), _TRIED.findall(error.message)
    found = [Evidence(f"it is asked for by {asker[1]}", asker[1])] if asker and asker[1] != error.path else []
    return found + [Evidence(f"the loader tried {path}: {why}", path) for path, why in tried[:4]]


def _chain(needed: list[Needed], library: str, first: str) -> list[str]:
    """Return the files from the compiled part down to the one that asks for the library."""
    askers = {n.name: n.asked_by for n in needed}
    name_of = {n.path: n.name for n in needed if n.path}
    chain: list[str] = []
    place = askers.get(library)
    while place and place not in chain:
        chain.insert(0, place)
        place = None if place == first else askers.get(name_of.get(place, ""))
    return chain


def _bring(case: Case, libraries: list[str], elsewhere: list[str]) -> list[Remedy]:
    """Return how to bring missing libraries to where the loader looks."""
    table = system_libraries.system_packages()
    packages = list(dict.fromkeys(table[n] for n in libraries if n in table))
    todo: list[Remedy] = []
    has_apt = as_known(case.files, lambda: case.files.exists("/usr/bin/apt-get"), None)
    if packages and has_apt:
        todo.append(Remedy(f"Install the system's package{'s' if len(packages) > 1 else ''} that "
                           f"bring{'' if len(packages) > 1 else 's'} {', '.join(libraries)}.", "command",
                           argv=("apt-get", "install", "-y", *packages),
                           changes=f"adds {', '.join(packages)} to the system (needs root)"))
    elif packages:
        todo.append(Remedy(f"Install the system's package that brings {', '.join(libraries)}; on Debian it is "
                           f"called {', '.join(packages)}.", "manual", changes="the system's libraries"))
    if elsewhere:
        todo.insert(0, add_library_folder(case, elsewhere[0].rpartition("/")[0]))
    if not todo:
        todo.append(Remedy(f"Install the system's package that brings {', '.join(libraries)}.", "manual",
                           changes="the system's libraries"))
    return todo
