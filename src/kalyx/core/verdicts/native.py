"""Group E: its native side does not load."""

from __future__ import annotations

import re
from collections.abc import Mapping

from kalyx.core.errors import Unreadable
from kalyx.core.facts import tables
from kalyx.core.facts.cases import Case
from kalyx.core.facts.distributions import normal_name, requirement_name
from kalyx.core.facts.modules import top_level
from kalyx.core.model import Distribution, Evidence, Finding, Frame, ObservedError, Remedy
from kalyx.core.patterns import pattern
from kalyx.core.record import TYPE_CHECKING
from kalyx.core.verdicts import remedies
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.failure import Failure
from kalyx.core.verdicts.launch_settings import with_variable
from kalyx.core.verdicts.own_code import installed_as

if TYPE_CHECKING:
    from kalyx.core.facts.binaries import Needed

__all__ = ["copies_of", "failed_file", "find_error", "install_again", "loader_evidence", "look_in", "owner_of",
           "who_needs"]

_LIBRARY = pattern(r"(?<![\w.+-])([\w.+-]+\.(?:so|dylib)[\w.]{0,40}): cannot open shared object file|"
                      r"Library not loaded: (\S+)|Error loading shared library ([\w.+-]+):")
_REFERENCED = pattern(r"Referenced from: (?:<[^>]*> )?(/.+)")
_TRIED = pattern(r"'(/[^']+)' \(((?:[^()]|\([^()]*\))*)\)")
# Code that looks for a library by its short name, and what it says where there is none
_BY_NAME = pattern(r"find_library\(\s*['\"]([\w.+-]+)['\"]")
_LOADS = pattern(r"find_library|dlopen|LoadLibrary|CDLL")
_WORDS = pattern(r"['\"]([A-Za-z][\w.+-]+)['\"]")
_SAYS_LIBRARY = pattern(r"(?i)librar|lib\w+|not found|(?:unable|failed) to (?:find|load)|cannot (?:find|load)")
_MISMATCH = pattern(r"size changed, may indicate binary incompatibility|"
                       r"compiled using NumPy 1|module compiled against (?:ABI|API) version|"
                       r"numpy\.core\.multiarray failed to import|"
                       r"has the wrong size, try recompiling|does not export expected C (?:function|variable)|"
                       r"has unexpected signature|capsule .* incorrect name|wrong API version")
# What it was built for, and what is there, as numbers that grow with the version
_BUILT_AND_FOUND = pattern(r"Expected (\d+) from C header, got (\d+) from PyObject|"
                           r"API version (0x[0-9a-f]+) but this version of \w+ is (0x[0-9a-f]+)")
# The one size that became smaller with a newer version: that of NumPy 2's type objects
_SHRUNK_IN_2 = pattern(r"numpy\.dtype size changed, .*Expected 96 from C header, got 88")
_PLACES = ("/usr/local/lib", "/usr/lib", "/usr/lib/x86_64-linux-gnu", "/usr/lib/aarch64-linux-gnu", "/opt/lib",
           "/opt/homebrew/lib", "/usr/local/cuda/lib64")


def find_error(case: Case, pattern: re.Pattern[str]) -> tuple[ObservedError, re.Match[str]] | None:
    for error in case.obs.chain:
        match = pattern.search(error.message)
        if match:
            return error, match
    return None


def owner_of(case: Case, error: ObservedError) -> Distribution | None:
    return case.distribution_of(failed_file(case, error))


def failed_file(case: Case, error: ObservedError) -> str | None:
    """Return the file that failed: of the frames, those of compiled code have none."""
    frame = _frame(case, error)
    return error.path or (frame.file if frame else None)


def _frame(case: Case, error: ObservedError) -> Frame | None:
    """Return the innermost place in a file; in the standard library only where there is no other."""
    files = [f for f in reversed(error.frames) if case.machine.is_file(f.file)]
    return next((f for f in files if case.layer_of_file(f.file) != "stdlib"), files[0] if files else None)


def who_needs(case: Case, error: ObservedError, owner: Distribution | None) -> str:
    return f"{owner.name} {owner.version}" if owner else error.path or case.obs.module


def loader_evidence(error: ObservedError, owner: Distribution | None) -> list[Evidence]:
    found = [Evidence(f"the loader says: {error.message.splitlines()[0]}", error.path)]
    if owner is not None:
        found.append(Evidence(f"it belongs to {owner.name} {owner.version}", owner.metadata))
    return found


def install_again(case: Case, owner: Distribution | None, file: str | None) -> tuple[Remedy, ...]:
    if owner is None:
        inside = file is not None and case.layer_of_file(file) == "env"
        top = installed_as(case, file) if file and inside else top_level(case.obs.module)
        if case.layer_of_file(case.file_of(top)) == "env":  # installed, and nobody wrote down by what
            return remedies.install(case, tables.distribution_for(top) or top,
                                    options=("--force-reinstall", "--no-deps"))
        return remedies.build_again(case, file or "the compiled part")
    return remedies.reinstall(case, owner.name, owner.version, "for this machine")


@cause("library-missing", "E", "a shared library that it needs cannot be found", rank=62)
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
        from kalyx.core.verdicts.windows_parts import dll_missing

        return dll_missing(case) or _asked_for_by_name(case)
    error, match = found
    library = next(g for g in match.groups() if g).rpartition("/")[2]  # macOS says @rpath/NAME
    owner = owner_of(case, error)
    needed = case.loader.walk(error.path) if error.path and error.path.endswith((".so", ".dylib")) else []
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
    elsewhere = copies_of(case, library)
    evidence += [Evidence(f"{p} is there, where the loader does not look", p) for p in elsewhere[:3]]
    because = f"{who_needs(case, error, owner)} needs the shared library {library}, which the loader cannot " \
        "find"
    because += f"; it is in {elsewhere[0].rpartition('/')[0]}." if elsewhere else "."
    return Finding("library-missing", "error", "certain", because, tuple(evidence),
                   (*_bring(case, [library, *more], elsewhere), *install_again(case, owner, error.path)))


def _asked_for_by_name(case: Case) -> Finding | None:
    """Find code that looks for a library of the system by its short name (``ctypes.util.find_library``)."""
    error = case.obs.error
    frame = _frame(case, error) if error is not None else None
    if error is None or frame is None or not _SAYS_LIBRARY.search(error.message):
        return None
    try:
        text = case.machine.read_text(frame.file)
    except Unreadable:
        return None
    cache, names = case.loader.cache(), list(dict.fromkeys(_BY_NAME.findall(text)))
    known = [k for k in cache if any(k.startswith(f"lib{n}.so") for n in names)]
    if not names and _LOADS.search(text):  # the names stand in a list
        names = [n for n in dict.fromkeys(_WORDS.findall(text)) if _is_unknown_library(n, cache)][:4]
    if not names or known or not cache:
        return None
    owner, wanted = owner_of(case, error), " or ".join(f"lib{n}" for n in names)
    table = tables.system_packages()
    files = [k for n in names for k in table if k.startswith(f"lib{n}.so")] or [f"lib{n}" for n in names[:1]]
    return Finding(
        "library-missing", "error", "likely",
        f"{who_needs(case, error, owner)} looks for the shared library {wanted}, and the loader knows of none.",
        (Evidence(f"it says: {error.message.splitlines()[0]}", frame.file, frame.line),
         *_asked_here(case, error),
         Evidence(f"no {wanted} in the loader's cache", "/etc/ld.so.cache")), tuple(_bring(case, files, [])))


def _is_unknown_library(name: str, cache: Mapping[str, object]) -> bool:
    """Whether a word is the short name of a library that Kalyx knows of and the loader does not."""
    start = f"lib{name}.so"
    return any(k.startswith(start) for k in tables.system_packages()) and not any(
        k.startswith(start) for k in cache)


def _asked_here(case: Case, error: ObservedError) -> list[Evidence]:
    """Return the line of code that asked for a library."""
    frame = _frame(case, error)
    line = case.code_line(frame.file, frame.line) if frame else ""
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


def copies_of(case: Case, library: str) -> list[str]:
    """Return where on the machine the library is: in this prefix, other environments, usual places."""
    m = case.machine
    folders = [m.path.join(p, "lib") for p in (case.prefix, case.base_prefix)]
    folders += [m.path.join(e.path, "lib") for e in case.neighbours.environments]
    folders += _PLACES
    for layer in case.layers:
        if layer.layer in ("env", "base", "user"):
            folders += [m.path.join(layer.path, n) for n in case.finder.names(layer.path)
                        if n.endswith(".libs")]
    found = [m.path.join(f, library) for f in dict.fromkeys(folders)]
    return [p for p in found if m.is_file(p)]


def _bring(case: Case, libraries: list[str], elsewhere: list[str]) -> list[Remedy]:
    """Return how to bring missing libraries to where the loader looks."""
    table = tables.system_packages()
    packages = list(dict.fromkeys(table[n] for n in libraries if n in table))
    todo: list[Remedy] = []
    if packages and case.machine.exists("/usr/bin/apt-get"):
        todo.append(Remedy(f"Install the system's package{'s' if len(packages) > 1 else ''} that "
                           f"bring{'' if len(packages) > 1 else 's'} {', '.join(libraries)}.", "command",
                           argv=("apt-get", "install", "-y", *packages),
                           changes=f"adds {', '.join(packages)} to the system (needs root)"))
    elif packages:
        todo.append(Remedy(f"Install the system's package that brings {', '.join(libraries)}; on Debian it is "
                           f"called {', '.join(packages)}.", "manual", changes="the system's libraries"))
    if elsewhere:
        todo.insert(0, look_in(case, elsewhere[0].rpartition("/")[0]))
    if not todo:
        todo.append(Remedy(f"Install the system's package that brings {', '.join(libraries)}.", "manual",
                           changes="the system's libraries"))
    return todo


def look_in(case: Case, folder: str) -> Remedy:
    """Return how to have the loader look into a folder first."""
    name = "DYLD_LIBRARY_PATH" if case.machine.platform == "darwin" else "LD_LIBRARY_PATH"
    before = case.launch.env.get(name, "")
    whole = f"{folder}:{before}" if before else folder
    return with_variable(case.machine, case.seat, name, whole) or Remedy(
        f"Have {name} hold {folder} where this seat is started; this is how "
        "the import goes with it.", "command",
        argv=(*case.launch.argv, "-c", f"import {case.obs.module}"), cwd=case.launch.cwd,
        env={name: whole}, changes="nothing; the import is tried")


@cause("binary-mismatch", "E", "built against another major version of a package's C interface",
       rank=60)
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
    command = remedies.pip_command(case)
    todo: tuple[Remedy, ...] = ()
    if used is not None:
        todo = _other_version_of(case, error, owner, used)
    if owner is not None and command is not None and remedies.managed_marker(case) is None:
        todo += (Remedy(f"Install a version of {owner.name} that was built for what is installed.",
                       "command", argv=(*command, "install", "--upgrade", "--force-reinstall", "--no-deps",
                                        owner.name),
                       changes=f"replaces {owner.name} in {case.prefix}"),)
    what = f"{used.name} than the one that is installed ({used.version})" if used else \
        "the C interface than the one that is installed"
    return Finding("binary-mismatch", "error", "certain",
                   f"{who} was built against another version of {what}.", tuple(evidence),
                   todo or install_again(case, owner, failed_file(case, error)))


def _other_version_of(case: Case, error: ObservedError, owner: Distribution | None,
                      used: Distribution) -> tuple[Remedy, ...]:
    """Return what makes the package whose interface it is fit: what is declared, or what the message says."""
    from kalyx.core.facts.markers import is_met
    from kalyx.core.verdicts.pins import pinned

    wanted = next((r.split(";")[0].strip() for r in (owner.requires if owner else ())
                   if normal_name(requirement_name(r)) == normal_name(used.name)), None)
    if wanted is not None and is_met(wanted, used.version) is False:
        return remedies.install(case, pinned(case, wanted), why=f", the version that {owner.name} needs"
                                if owner else "")
    before = re.search(r"compiled using NumPy (\d+)\.", error.message)
    if before is None and "multiarray failed to import" in error.message:  # the advice is only printed
        before = re.search(r"compiled using NumPy (\d+)\.", case.obs.output)
    if before:
        return remedies.install(case, pinned(case, f"{used.name}<{int(before.group(1)) + 1}"),
                                why=", the version that the compiled part was built for")
    if _SHRUNK_IN_2.search(error.message) and used.version.split(".")[0] not in ("0", "1"):
        return remedies.install(case, pinned(case, f"{used.name}<2"),
                                why=", the version that the compiled part was built for")
    numbers = _BUILT_AND_FOUND.search(error.message)
    if numbers:
        built, there = (int(n, 0) for n in (g for g in numbers.groups() if g))
        if built > there:
            return remedies.install(case, used.name, options=("--upgrade",),
                                    why=", newer: the compiled part was built for a newer one")
    return ()


def _used(case: Case, error: ObservedError, owner: Distribution | None) -> Distribution | None:
    """Return the package whose C interface it is: one that the message names."""
    for word in re.findall(r"[A-Za-z_][\w.]*", error.message):
        top = word.split(".")[0].lower()
        found = case.distribution_named(top)
        if found is not None and (owner is None or found.name != owner.name):
            return found
    about_numpy = "umpy" in error.message or "multiarray" in error.message
    return case.distribution_named("numpy") if about_numpy else None
