"""Group B: it is here, and something else is found in its place."""

from __future__ import annotations

import re

from kalyx.core.facts.cases import Case
from kalyx.core.facts.modules import Candidate, top_level
from kalyx.core.model import Evidence, Finding
from kalyx.core.verdicts import remedies
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.failure import Failure

__all__ = ["hidden_by_file"]


@cause("hidden-by-file", "B", "a file or folder of the person's own in the start layer has the "
       "name of the wanted module, of the standard library, or of something that it imports",
       rank=10)
def hidden_by_file(case: Case, failure: Failure | None) -> Finding | None:
    """Find the person's own file that is imported in place of something else.

    A file counts only when it really was loaded (or is what was asked for) and
    something else of its name stands further back on the path.
    """
    wanted = top_level(case.obs.module)
    for name in _suspects(case, wanted):
        pair = _hidden_pair(case, name)
        if pair is None:
            continue
        own, hidden = pair
        if case.obs.outcome != "imports" and name != wanted and not _is_to_blame(case, name, own):
            continue
        return _finding(case, name, own, hidden)
    return None


def _suspects(case: Case, wanted: str) -> list[str]:
    """Return the top-level modules that came from the start layer, the asked one first.

    A module whose own code raised is taken out of the table of loaded modules
    again, so those that the exceptions speak of are looked at as well.
    """
    names = [wanted]
    if case.start is None:
        return []
    for name, (file, _) in case.obs.loaded.items():
        if "." not in name and case.layer_of_file(file) == "start":
            names.append(name)
    for error in case.obs.chain:
        names += [top_level(n) for n in re.findall(r"'([\w.]+)'", error.message)]
        names += [top_level(error.name)] if error.name else []
        for frame in error.frames:
            if case.layer_of_file(frame.file) == "start":
                names.append(_module_at(case, frame.file))
    for frame in case.obs.stack:
        if case.layer_of_file(frame.file) == "start":
            names.append(_module_at(case, frame.file))
    return list(dict.fromkeys(n for n in names if n))


def _module_at(case: Case, file: str) -> str:
    rest = file[len(case.start or ""):].strip("/\\").replace("\\", "/")
    return rest.split("/")[0].split(".")[0]


def _hidden_pair(case: Case, name: str) -> tuple[str, str] | None:
    """Return the person's own file and what it hides, or None when it hides nothing."""
    if case.is_builtin(name):
        return None  # modules compiled in are found before any folder is looked at
    found = case.candidates(name)
    if not found or found[0][0] != "start" or found[0][1].kind == "namespace":
        return None
    own = found[0][1]
    hidden = next((c for layer, c in found[1:] if _really_hidden(case, layer, c, own)), None)
    if hidden is None:
        editable = case.distribution_named(name)
        return None if editable is None or not editable.source else (
            None if case.machine.is_within(own.path, editable.source) else
            (own.path, editable.source))
    return own.path, hidden.path


def _really_hidden(case: Case, layer: str, other: Candidate, own: Candidate) -> bool:
    if other.kind == "namespace" or case.machine.same(other.path, own.path):
        return False
    return layer != "start"


def _is_to_blame(case: Case, name: str, own: str) -> bool:
    """Whether the failure speaks of the own file: by frame, by name or by path."""
    m = case.machine
    folder = m.path.dirname(own) if m.path.basename(own).startswith("__init__") else own
    for error in case.obs.chain:
        if any(m.is_within(f.file, folder) for f in error.frames):
            return True
        if own in error.message or re.search(rf"'{re.escape(name)}(\.[\w.]+)?'", error.message):
            return True
    return any(m.is_within(f.file, folder) for f in case.obs.stack)


def _severity(case: Case, name: str, wanted: str) -> str:
    """A failing import is an error; one that got another module than it asked for, a warning.

    Where the wanted module itself is the right one and works, it is a note.
    """
    if case.obs.outcome != "imports":
        return "error"
    return "warning" if name == wanted else "note"


def _finding(case: Case, name: str, own: str, hidden: str) -> Finding:
    wanted = top_level(case.obs.module)
    what = "the standard library's" if case.is_stdlib(name) else "the installed"
    effect = "is imported in its place" if name == wanted else (
        f"is what {wanted} gets when it imports {name}")
    evidence = [Evidence(f"{own} comes first: its folder is where Python was started", own),
                Evidence(f"{hidden} has the same name and stands further back", hidden)]
    if case.obs.origin and name == wanted:
        evidence.append(Evidence(f"the import was given {case.obs.origin}", case.obs.origin))
    error = case.obs.error
    if error is not None and error.frames:
        last = error.frames[-1]
        evidence.append(Evidence(f"{error.type}: {error.message}", last.file, last.line))
    return Finding(
        "hidden-by-file", _severity(case, name, wanted), "certain",
        f"Your own {own} hides {what} {name} ({hidden}), and {effect}.",
        tuple(evidence), (remedies.rename_file(case, own),))
