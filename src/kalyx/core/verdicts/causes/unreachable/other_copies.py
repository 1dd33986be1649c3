"""Group B: a copy in another layer comes first: on PYTHONPATH, by a .pth file, in the user site."""

from __future__ import annotations

import re

from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.facts.search_path.pth_files import link_lines
from kalyx.core.facts.source_code.path_changes import lines_adding
from kalyx.core.lean.record import replace
from kalyx.core.model import Evidence, Finding, Place, Remedy
from kalyx.core.verdicts.catalogue import also, cause
from kalyx.core.verdicts.causes.unreachable.hidden import hidden_by, is_to_blame, top_of, what_is_meant
from kalyx.core.verdicts.remedies import pip, which_pip
from kalyx.core.verdicts.remedies.source_edits import change_line
from kalyx.core.verdicts.remedies.unique_edits import switch_off
from kalyx.core.verdicts.remedies.variables import brought_in, with_variable, without_variable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.facts.search_path.modules import Candidate
    from kalyx.core.facts.search_path.pth_files import LinkLine
    from kalyx.core.model.kinds import Confidence
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["hidden_by_path", "hidden_by_user_site"]


_ADDS = re.compile(r"sys\.path\.(?:insert\(\s?-?\d{1,4}\s?,\s?|append\()(?P<what>[^\n#]{1,300})\)(?=[ \t]{0,9}(?:#|$))")
_COPIES = {
    "link": ("hidden-by-path", "a line of a .pth file that adds"),
    "other": ("hidden-by-path", "code that runs at Python's start and adds"),
    "pythonpath": ("hidden-by-path", "the PYTHONPATH entry"),
    "user": ("hidden-by-user-site", "the user site"),
}


@cause("hidden-by-path", "a PYTHONPATH or .pth entry puts another copy first",
       asks="traces", family="hiding", also_when_it_imports="always", after=("hidden-by-file",),
       why_here="as hidden-by-file, of folders further back on the path")
def hidden_by_path(case: Case, failure: Failure | None) -> Finding | None:
    """Find a copy on PYTHONPATH, or in a folder that a .pth adds, that comes before the right one.

    A linked folder is there on purpose: it is told only where the import fails.

    Looks like: An import gives another version than the installed one, or fails in a way that the
        installed one does not.
    Why: PYTHONPATH, or a line in a .pth file, puts another copy in front.
    How Kalyx knows: Both copies are found on the search path, in that order, with their versions.
    What to do: Take the entry out of PYTHONPATH, or the line out of the .pth file.
    """
    found = _copy_first(case, "pythonpath")
    if found is None and case.obs.outcome == "imports" and _versions_differ(case, top_level(case.obs.module)):
        found = _copy_first(case, "other")  # it works by luck: what is added by code decides which version is imported
    if found is None and case.obs.outcome == "fails":
        found = _copy_first(case, "link") or _copy_first(case, "other")
        for layer in ("pythonpath", "link", "other"):
            found = found or _copy_alone(case, failure, layer)
    return found


@cause("hidden-by-user-site", "a copy in the user site comes before the environment's or the base's",
       asks="traces", family="hiding", also_when_it_imports="always", after=("hidden-by-path",),
       why_here="as hidden-by-path, of the folder that comes after those of PYTHONPATH")
def hidden_by_user_site(case: Case, failure: Failure | None) -> Finding | None:
    """Find a copy in the user site that comes first.

    A base installation looks there by design: then it is told where the import fails, or the versions differ.

    Looks like: An import gives an older or newer version than the environment's own.
    Why: The user site comes before the base installation's packages, and a copy in it wins.
    How Kalyx knows: Both copies are found on the search path, in that order, with their versions.
    What to do: Set PYTHONNOUSERSITE=1 for this seat, or take the copy out of the user site.
    """
    environment = case.seat.environment
    if case.obs.outcome == "imports" and (environment is None or environment.kind == "base") \
            and not _versions_differ(case, top_level(case.obs.module)):
        return None
    return _copy_first(case, "user")


def _versions_differ(case: Case, name: str) -> bool:
    """Whether the copies of a module that the seat can see are of several versions."""
    found = [c.path for _, c in case.modules.candidates(name) if c.kind != "namespace"]
    owners = [case.distributions.of(path) for path in found] if len(found) > 1 else ()  # whose one is, is not quick
    return len({d.version for d in owners if d is not None}) > 1


def _copy_first(case: Case, layer: str) -> Finding | None:
    asked = top_level(case.obs.module)
    for name in dict.fromkeys([asked, *_blamed(case)]):
        found = [(x, c) for x, c in case.modules.candidates(name) if c.kind != "namespace"]
        if not found or found[0][0] != layer:
            continue
        first = found[0][1]
        if name != asked and not is_to_blame(case, name, first.path):
            continue
        hidden = next((c for x, c in found[1:] if x in ("env", "base", "stdlib")
                       and not case.files.same(c.path, first.path)), None)
        if hidden is None:
            continue
        return _found_first(case, layer, first, hidden, name, "certain" if name == asked else "likely")
    return None


def _found_first(case: Case, layer: str, first: Candidate, hidden: Candidate, name: str,
                 confidence: Confidence) -> Finding:
    slug, place = _COPIES[layer]
    added = _added_by_own_code(case, first.entry) if layer == "other" else None
    if added is not None:
        place = f"line {added.line} of {added.path} has the path begin with"
    one, two = case.distributions.of(first.path), case.distributions.of(hidden.path)
    versions = f" ({one.version if one else 'of no distribution'} before {two.version})" if two else ""
    return Finding(
        slug, "warning" if case.obs.outcome == "imports" else "error", confidence,
        f"{place[0].upper() + place[1:]} {first.entry}{', which' if added else ''} puts its own {name} before the one "
        f"in {hidden.entry}{versions}.",
        (Evidence(f"{first.path} comes first", first.path),
         Evidence(f"{hidden.path} stands further back", hidden.path),
         *([Evidence(added.text, added.path, added.line)] if added else []),
         *(brought_in(case.files, case.seat, "PYTHONPATH", first.entry) if layer == "pythonpath" else ()),
         *[Evidence("the line that adds the folder", x.file, x.line) for x in _lines_for(case, layer, first)]),
        _let_through(case, layer, first, hidden))


def _added_by_own_code(case: Case, folder: str) -> Place | None:
    """Return the line of the explained file that puts a folder onto the path; None where it does not."""
    for file in dict.fromkeys(p.path for p in case.asked if p.path.endswith(".py")):
        lines = case.modules.lines_of(file)
        for number in lines_adding(case.files, file, "\n".join(lines), folder):
            return Place(file, number, text=lines[number - 1].strip())
    return None


def _add_it_last(case: Case, place: Place) -> Remedy | None:
    """Return the edit by which a line puts its folder at the end of the path; None where that is not plain."""
    changed = _ADDS.sub(r"sys.path.append(\g<what>)", place.text)
    edit = change_line(case, place, changed) if changed != place.text and "insert" in place.text else None
    return Remedy(f"Write: {changed}, so that what is installed comes first.", "edit", edits=(edit,),
                  changes=f"line {place.line} of {place.path}", undoable=True) if edit else None


def _copy_alone(case: Case, failure: Failure | None, layer: str) -> Finding | None:
    """Find a copy of no distribution in a folder that was added, taken for a package that is not here."""
    found = case.modules.candidates(failure.top) if failure is not None else []
    if failure is None or not found or found[0][0] != layer or found[0][1].kind == "namespace" \
            or case.distributions.of(found[0][1].path) is not None:
        return None
    first, (slug, place), meant = found[0][1], _COPIES[layer], what_is_meant(case, failure)
    if meant is None:
        return None
    return Finding(
        slug, "error", "likely",
        f"{place[0].upper() + place[1:]} {first.entry} has a {failure.top} of its own, which is taken for the "
        f"{failure.top} that {case.environment_name} lacks.",
        (Evidence(f"{first.path} is what was imported", first.path), meant, Evidence(failure.error.message),
         *(brought_in(case.files, case.seat, "PYTHONPATH", first.entry) if layer == "pythonpath" else ()),
         *[Evidence("the line that adds the folder", x.file, x.line) for x in _lines_for(case, layer, first)]),
        _let_through(case, layer, first, first))


def _lines_for(case: Case, layer: str, first: Candidate) -> list[LinkLine]:
    """Return the line of a .pth file that brings a folder onto the path."""
    if layer not in ("link", "other"):
        return []
    lines = (x for y in case.modules.layers if y.layer in ("env", "base", "user")
             for x in link_lines(case.files, y.path))
    return [x for x in lines if first.entry in x.text or (
        x.target and case.files.same(x.target, first.entry))][:1]


def _blamed(case: Case) -> list[str]:
    """Return the top-level modules in whose files the failure happened, or of which it speaks."""
    if case.obs.outcome == "imports":
        return []
    names = []
    for error in case.obs.chain:
        names += [top_level(n) for n in re.findall(r"'([\w.]+)'", error.message)]
        names += [top_level(error.name)] if error.name else []
        names += [top_of(case, frame.file) for frame in error.frames]
    names += [top_of(case, frame.file) for frame in case.obs.stack]
    return [n for n in dict.fromkeys(names) if n.isidentifier()]


@also("hidden-by-path",
      asks="traces", family="hiding", last_resort=True, also_when_it_imports="always",
      after=("files-missing:not_whole",),
      why_here="a hidden part of the library that the failure does not speak of is a guess")
def stdlib_hidden(case: Case, failure: Failure | None) -> Finding | None:
    """Find a part of the standard library that is hidden, where nothing else explains a failure.

    It counts where it was loaded, or where the exception speaks of its import, as native code does
    that passes on only a part of what went wrong.
    """
    if case.obs.outcome == "imports":
        return None
    words = {w for e in case.obs.chain if "import" in e.message
             for w in re.findall(r"[`'\"](\w+)[`'\"]", e.message)}
    for layer in (x for x in case.modules.layers if x.layer in ("start", "pythonpath", "user", "link", "other")):
        for name in sorted(case.modules.finder.modules(layer.path) & case.modules.stdlib_names):
            file = (case.obs.loaded.get(name) or ("", ()))[0]
            taken = case.files.is_within(file, layer.path) if file else name.lstrip("_") in words
            found = case.modules.candidates(name)
            hidden = next((c for x, c in found[1:] if x == "stdlib"), None)
            if not taken or case.modules.is_builtin(name) or hidden is None or found[0][1].entry != layer.path:
                continue
            if layer.layer == "start":
                return replace(hidden_by(case, name, found[0][1].path, hidden.path), confidence="likely")
            return _found_first(case, layer.layer, found[0][1], hidden, name, "likely")
    return None


def _out_of_start_code(case: Case, entry: str) -> Remedy | None:
    """Return the edit that switches off the line of the start code which adds a folder."""
    for name in ("sitecustomize", "usercustomize"):
        file = case.modules.file_of(name)
        if file is None or not file.endswith(".py"):
            continue
        text = case.files.read_text(file, 262_144)
        lines = [(n, line) for n, line in enumerate(text.splitlines(), 1)
                 if entry in line and not line.lstrip().startswith("#")]
        if len(lines) == 1 and lines[0][1] == lines[0][1].lstrip():
            return switch_off(case.files, file, *lines[0], f"Take the line out of {file} that adds {entry} at every "
                              "start.")
    return None


def _let_through(case: Case, layer: str, first: Candidate, hidden: Candidate) -> tuple[Remedy, ...]:
    if layer == "pythonpath":
        return (without_variable(case.files, case.seat, "PYTHONPATH", first.entry),)
    if layer in ("link", "other"):
        for line in _lines_for(case, layer, first):
            return (switch_off(case.files, line.file, line.line, line.text, f"Take that line out of {line.file}."),)
        added = _added_by_own_code(case, first.entry)
        return (_out_of_start_code(case, first.entry) or (_add_it_last(case, added) if added else None) or Remedy(
            f"Take {first.entry} off the search path, where it is put there.", "manual",
            changes="the search path"),)
    return _close_user_site(case, first, hidden)


def _close_user_site(case: Case, first: Candidate, hidden: Candidate) -> tuple[Remedy, ...]:
    """Return how to have a copy in the user site out of this seat's way, or of every seat's."""
    by_hand = Remedy(f"Set PYTHONNOUSERSITE=1 for this seat, or take the copy out of the user site: "
                     f"{first.entry}", "manual", changes="what the user site holds")
    found: list[Remedy | None] = [with_variable(case.files, case.seat, "PYTHONNOUSERSITE", "1")]
    copy, behind = case.distributions.of(first.path), case.distributions.of(hidden.path)
    served = which_pip.allowed(case)
    if case.python.prefix != case.python.base_prefix:  # pip takes nothing out of the user site, and says all is well
        if behind is not None:
            found += pip.install(case, f"{behind.name}=={behind.version}", over="left",
                                 why=" itself, which comes before the user site")
    elif copy is not None and served is not None:
        found.append(Remedy(
            f"Take {copy.name} {copy.version} out of your user site.", "command",
            argv=served.uninstall(copy.name),
            changes=f"removes it from {first.entry}, for every Python that looks there"))
    return (*filter(None, found), by_hand)
