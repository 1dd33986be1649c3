"""Group B: it is here, and something else is found in its place."""

from __future__ import annotations

import re

from kalyx.core.facts.cases import Case
from kalyx.core.facts.modules import Candidate, top_level
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts import remedies
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.failure import Failure

__all__ = ["hidden_by_file", "hidden_by_path", "hidden_by_user_site"]


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


# -- copies in other layers ---------------------------------------------------------------------
_COPIES = {
    "pythonpath": ("hidden-by-path", "the PYTHONPATH entry"),
    "user": ("hidden-by-user-site", "the user site"),
}


@cause("hidden-by-path", "B", "a PYTHONPATH or .pth entry puts another copy first", rank=12)
def hidden_by_path(case: Case, failure: Failure | None) -> Finding | None:
    """Find a copy on PYTHONPATH that comes before the environment's own."""
    return _copy_first(case, "pythonpath")


@cause("hidden-by-user-site", "B", "a copy in the user site comes before the environment's or the "
       "base's", rank=14)
def hidden_by_user_site(case: Case, failure: Failure | None) -> Finding | None:
    """Find a copy in the user site that comes first.

    A base installation looks there by design: then it is told only where the
    import fails.
    """
    environment = case.seat.environment
    if case.obs.outcome == "imports" and (environment is None or environment.kind == "base"):
        return None
    return _copy_first(case, "user")


def _copy_first(case: Case, layer: str) -> Finding | None:
    slug, place = _COPIES[layer]
    asked = top_level(case.obs.module)
    for name in dict.fromkeys([asked, *_blamed(case)]):
        found = [(x, c) for x, c in case.candidates(name) if c.kind != "namespace"]
        if not found or found[0][0] != layer:
            continue
        first = found[0][1]
        hidden = next((c for x, c in found[1:] if x in ("env", "base", "stdlib")
                       and not case.machine.same(c.path, first.path)), None)
        if hidden is None:
            continue
        one, two = case.distribution_of(first.path), case.distribution_of(hidden.path)
        versions = f" ({one.version if one else 'of no distribution'} before {two.version})" if two else ""
        return Finding(
            slug, "warning" if case.obs.outcome == "imports" else "error",
            "certain" if name == asked else "likely",
            f"{place[0].upper() + place[1:]} {first.entry} puts its own {name} before the one in "
            f"{hidden.entry}{versions}.",
            (Evidence(f"{first.path} comes first", first.path),
             Evidence(f"{hidden.path} stands further back", hidden.path)), _let_through(case, layer, first))
    return None


def _blamed(case: Case) -> list[str]:
    """Return the top-level modules in whose files the failure happened."""
    frames = [f for e in case.obs.chain for f in e.frames]
    return [n for n, (file, _) in case.obs.loaded.items() if "." not in n and file
            and any(f.file == file for f in frames)] if case.obs.outcome == "fails" else []


def _let_through(case: Case, layer: str, first: Candidate) -> tuple[Remedy, ...]:
    if layer == "pythonpath":
        return (Remedy(f"Take {first.entry} out of PYTHONPATH, where that is set.", "manual",
                       changes="the variable PYTHONPATH"),)
    return (Remedy("Set PYTHONNOUSERSITE=1 for this seat, or take the copy out of the user site: "
                   f"{first.entry}", "manual", changes="what the user site holds"),)
