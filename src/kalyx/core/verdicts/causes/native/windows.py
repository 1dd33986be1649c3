"""Group E on Windows: what its loader says, and does not say, of a compiled part."""

from __future__ import annotations

import re

from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.reading.loader_errors import failed_file, find_error, loader_evidence, owner_of, who_needs
from kalyx.core.verdicts.remedies.pip import install_again

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.facts.native.binaries import Needed
    from kalyx.core.model import ObservedError

__all__ = ["dll_missing", "function_missing"]

_LOADER = re.compile(r"DLL load failed(?: while importing (\w+))?:|\[WinError (?:126|127|1114)\]|"
                  r"Could not find (?:module|library) '[^']+' \(or one of its dependencies\)")
# The same in the languages that Windows speaks: a function is not in a DLL; a DLL did not start
_NO_FUNCTION = re.compile(r"(?i)WinError 127\]|pro[cz][e\u00e9]d|\u043f\u0440\u043e\u0446\u0435\u0434|"
                       r"\u30d7\u30ed\u30b7\u30fc\u30b8\u30e3|\u7a0b\u5e8f")
_NOT_BEGUN = re.compile(r"(?i)WinError 1114\]|initiali[sz]")
_OTHER_MATTER = re.compile(r"Win32|WinError (?:5|193|206|1260|4551)\]|denied|polic")  # of the file itself
_NAMED = re.compile(r"Error loading \"([^\"]+)\"|Could not find (?:module|library) '([^']+)'")
# Brought by the runtime of Microsoft's compiler, which most compiled parts need
_RUNTIME = ("vcruntime", "msvcp", "concrt", "vcomp", "vccorlib")


def dll_missing(case: Case) -> Finding | None:
    """Find which DLL Windows does not find: its message names the compiled part alone."""
    found = find_error(case, _LOADER)
    if found is None or _OTHER_MATTER.search(found[0].message) or _NO_FUNCTION.search(found[0].message):
        return None
    error, match = found
    owner, file = owner_of(case, error), _loaded(case, error)
    evidence = loader_evidence(error, owner)
    who = who_needs(case, error, owner)
    part = match.group(1) or (case.files.path.basename(file) if file else "")
    whose = f"The compiled part {part} of {who}" if part else who
    again = install_again(case, owner, failed_file(case, error))
    if _NOT_BEGUN.search(error.message):
        return Finding.error("library-missing", "likely",
                       f"{whose} needs a DLL that Windows found and could not start.", tuple(evidence),
                       (_runtime(), *again))
    missing = [n for n in _walk(case, file) if n.path is None]
    if file is not None and not case.files.is_file(file):
        return Finding.error("library-missing", "certain", f"{who} loads {file}, which is not there.",
                       (*evidence, Evidence(f"{file} {case.files.trouble_at(file)}", file)), again)
    if not missing:
        return Finding.error("library-missing", "likely", f"{whose} needs a DLL that Windows does not find.",
                       tuple(evidence), (*again, _runtime()))
    names = ", ".join(n.name for n in missing[:4])
    evidence += [Evidence(f"needs {n.name}", n.asked_by) for n in missing[:4]]
    evidence.append(Evidence(f"Windows looks in {', '.join(missing[0].searched)}, and in what the code adds"))
    there = [(n, place) for n in missing for place in _elsewhere(case, n.name)]
    evidence += [Evidence(f"{place} is there, where Windows does not look", place) for _, place in there[:3]]
    runtime = [n for n in missing if n.name.lower().startswith(_RUNTIME)]
    todo = (_runtime(), *again) if len(runtime) == len(missing) else (
        *again, *([_runtime()] if runtime else []))
    return Finding.error("library-missing", "likely",
                   f"{whose} needs {names}, which Windows does not find.", tuple(evidence), todo)


def function_missing(case: Case) -> Finding | None:
    """Say that a DLL was found without a function that is wanted of it: it is another version."""
    found = find_error(case, _LOADER)
    if found is None or not _NO_FUNCTION.search(found[0].message):
        return None
    error = found[0]
    owner, file = owner_of(case, error), _loaded(case, error)
    used = [n for n in _walk(case, file) if n.path is not None]
    return Finding.error(
        "symbol-missing", "likely",
        f"{who_needs(case, error, owner)} needs a function that is not in the DLL that Windows found for "
        "it: one of them is of another version.",
        (*loader_evidence(error, owner),
         *[Evidence(f"{n.name} is found as {n.path}", n.path) for n in used[:6]]),
        install_again(case, owner, failed_file(case, error)))


def _loaded(case: Case, error: ObservedError) -> str | None:
    """Return the file that was being loaded: the one that the message names, or the compiled part."""
    named = _NAMED.search(error.message)
    if named is not None:
        return next(g for g in named.groups() if g).replace("\\\\", "\\")
    file = failed_file(case, error)
    return file if file and file.lower().endswith((".pyd", ".dll")) else None


def _walk(case: Case, file: str | None) -> list[Needed]:
    from kalyx.core.facts.native.dlls import walk_dlls

    return walk_dlls(case.files, file, _folders(case)) if file and case.files.is_file(file) else []


def _folders(case: Case) -> list[str]:
    """Return where the DLLs of a compiled part may lie: with the interpreter, or where wheels bring theirs."""
    m = case.files
    program = m.path.dirname(m.real_path(case.python.executable))
    folders = [case.python.base_prefix, m.path.join(case.python.base_prefix, "DLLs"), program]
    for layer in case.modules.layers:
        if layer.layer in ("env", "base", "user"):
            names = case.modules.finder.names(layer.path)
            folders += [m.path.join(layer.path, n) for n in names if n.endswith(".libs")]
    return folders


def _elsewhere(case: Case, name: str) -> list[str]:
    """Return copies of a DLL where Windows does not look: on PATH, in a conda environment's own folder."""
    m = case.files
    folders = [m.path.join(p, "Library", "bin") for p in (case.python.prefix, case.python.base_prefix)]
    folders += [f for f in case.launch.env.get("PATH", "").split(";") if f]
    return [p for p in dict.fromkeys(m.path.join(f, name) for f in folders) if m.is_file(p)]


def _runtime() -> Remedy:
    return Remedy("Install the Microsoft Visual C++ runtime, if it is not there: most compiled parts need it.",
                  "manual", changes="the system's libraries")
