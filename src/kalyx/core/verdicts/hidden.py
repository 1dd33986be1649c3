"""Group B: it is here, and something else is found in its place."""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts import tables
from kalyx.core.facts.cases import Case
from kalyx.core.facts.distributions import normal_name, requirement_name
from kalyx.core.facts.layers import LinkLine, link_lines
from kalyx.core.facts.modules import Candidate, top_level
from kalyx.core.model import Edit, Evidence, Finding, Remedy
from kalyx.core.record import replace
from kalyx.core.verdicts import remedies
from kalyx.core.verdicts.catalogue import also_at_import, cause
from kalyx.core.verdicts.failure import Failure
from kalyx.core.verdicts.launch_settings import with_variable, without_variable

__all__ = ["hidden_by_file", "hidden_by_path", "hidden_by_user_site", "namespace_split"]


@cause("hidden-by-file", "B", "a file or folder of the person's own in the start layer has the "
       "name of the wanted module, of the standard library, or of something that it imports",
       rank=10)
def hidden_by_file(case: Case, failure: Failure | None) -> Finding | None:
    """Find the person's own file that is imported in place of something else.

    A file counts only when it really was loaded (or is what was asked for) and
    something else of its name stands further back on the path.

    Looks like: Strange errors from an import that should be simple: `has no attribute`, `is not a
        package`, `cannot import name`, `partially initialized`.
    Why: A file or folder of your own, beside the script or in the working folder, has the name of the
        module that was wanted. Python looks there first.
    How Kalyx knows: Your file was what got loaded, and another module of that name stands further back
        on the path.
    What to do: Give your own file another name.
    """
    wanted = top_level(case.obs.module)
    for name in _suspects(case, wanted):
        pair = _hidden_pair(case, name)
        if pair is None and failure is not None and name == failure.top:
            taken = _taken_for(case, failure)
            if taken is not None:
                return taken
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
                names.append(_top_of(case, frame.file))
    for frame in case.obs.stack:
        if case.layer_of_file(frame.file) == "start":
            names.append(_top_of(case, frame.file))
    return list(dict.fromkeys(n for n in names if n))


def _hidden_pair(case: Case, name: str) -> tuple[str, str] | None:
    """Return the person's own file and what it hides, or None when it hides nothing."""
    if case.is_builtin(name):
        return None  # modules compiled in are found before any folder is looked at
    found = case.candidates(name)
    if not found or found[0][0] != "start" or found[0][1].kind == "namespace":
        return None
    own = found[0][1]
    if own.kind == "bytecode" and case.obs.outcome == "fails":
        return None  # a left-over of a file that is gone: no name that a person chose
    hidden = next((c for layer, c in found[1:] if _really_hidden(case, layer, c, own)), None)
    if hidden is None:
        editable = case.distribution_named(name)
        return None if editable is None or not editable.source else (
            None if case.machine.is_within(own.path, editable.source) else
            (own.path, editable.source))
    return own.path, hidden.path


def _taken_for(case: Case, failure: Failure) -> Finding | None:
    """Find a person's own file that is taken for a package which is not here, and has not what is asked."""
    name = failure.top
    found = case.candidates(name)
    if not found or found[0][0] != "start" or found[0][1].kind != "module":
        return None
    meant = _what_is_meant(case, failure)
    if meant is None:
        return None
    own = found[0][1].path
    return Finding(
        "hidden-by-file", "error", "likely",
        f"Your own {own} is taken for {name}, which is not in {case.environment_name}.",
        (Evidence(f"{own} comes first: its folder is where Python was started", own), meant,
         Evidence(failure.error.message)), (remedies.rename_file(case.machine, own),))


def _what_is_meant(case: Case, failure: Failure) -> Evidence | None:
    """Return what shows that another module of the name was meant, which is not here: it has what is asked."""
    if "." not in failure.module and failure.name is None:
        return None
    owner = case.distribution_of(failure.asker.file) if failure.asker is not None else None
    for line in owner.requires if owner is not None else ():
        name = requirement_name(line)
        if normal_name(name) == normal_name(failure.top) and case.distribution_named(name) is None:
            return Evidence(f"{owner.name} {owner.version} requires {line}, and no distribution of that name "
                            "is here", owner.metadata) if owner is not None else None
    rows = [failure.module.replace(".", "/")] if "." in failure.module else [failure.top]
    there = case.part_elsewhere(rows)
    return Evidence("what it is taken for is here, in another environment", there[1]) if there else None


def _copy_alone(case: Case, failure: Failure | None, layer: str) -> Finding | None:
    """Find a copy of no distribution in a folder that was added, taken for a package that is not here."""
    found = case.candidates(failure.top) if failure is not None else []
    if failure is None or not found or found[0][0] != layer or found[0][1].kind == "namespace" \
            or case.distribution_of(found[0][1].path) is not None:
        return None
    first, (slug, place), meant = found[0][1], _COPIES[layer], _what_is_meant(case, failure)
    if meant is None:
        return None
    return Finding(
        slug, "error", "likely",
        f"{place[0].upper() + place[1:]} {first.entry} has a {failure.top} of its own, which is taken for the "
        f"{failure.top} that {case.environment_name} lacks.",
        (Evidence(f"{first.path} is what was imported", first.path), meant, Evidence(failure.error.message),
         *[Evidence("the line that adds the folder", x.file, x.line) for x in _lines_for(case, layer, first)]),
        _let_through(case, layer, first))


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
        of_modules = "module" in error.message or "import" in error.message  # or it is any word in quotes
        if own in error.message or (of_modules and re.search(
                rf"'{re.escape(name)}(\.[\w.]+)?'(?! object)", error.message)):
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
        tuple(evidence), (remedies.rename_file(case.machine, own),))


# -- parts of a namespace -------------------------------------------------------------------------
@cause("namespace-split", "B", "a regular package hides namespace portions, or a folder without code "
       "takes the name", rank=29)
def namespace_split(case: Case, failure: Failure | None) -> Finding | None:
    """Find a folder without code that is imported as a module, or a package that hides portions.

    Looks like: `No module named 'a.b'` though its files are installed; or an import that succeeds and
        gives an empty module.
    Why: A namespace's parts may lie in several folders, and a regular package of that name hides the
        others. And any folder, also one of data, is taken for a package when there is no better one.
    How Kalyx knows: The part is found behind the package that comes first; or the folder that was
        imported holds no code.
    What to do: Set the stray `__init__.py` aside; or install the real package, which wins over a
        folder.
    """
    return _empty_folder(case, failure) or _hidden_portion(case, failure)


def _empty_folder(case: Case, failure: Failure | None) -> Finding | None:
    name = failure.top if failure is not None else top_level(case.obs.module)
    found = [c for _, c in case.candidates(name)]
    if not found or any(c.kind != "namespace" for c in found):
        return None
    if case.obs.outcome == "imports" and (case.obs.origin or not case.obs.search):
        return None
    folder = found[0].path
    if any(_has_code(case, c.path) for c in found) or case.machine.why_not_listed(folder):
        return None
    others = case.elsewhere(name)
    wanted = next((o.source or o.name for o in others if o.name), None) or tables.distribution_for(name) or name
    evidence = [Evidence(f"{folder} holds no code, and Python takes any folder of that name for a package "
                         "when there is no better one (PEP 420)", folder)]
    evidence += [Evidence(f"{o.environment.path} has {o.name or name} {o.version or ''}".rstrip(),
                          o.environment.path) for o in others[:3]]
    return Finding(
        "namespace-split", "warning" if case.obs.outcome == "imports" else "error", "certain",
        f"The folder {folder}, which holds no code, is what the import of {name} finds; {name} itself is not "
        f"in {case.environment_name}.", tuple(evidence),
        remedies.install(case, wanted, why="; a real package wins over the folder"))


def _has_code(case: Case, folder: str, depth: int = 3) -> bool:
    names, folders, cut = case.machine.scan(folder)
    if cut or any(n.endswith((".py", ".so", ".pyd", ".pyc")) for n in names):
        return True
    inside = [n for n in folders[:50] if n != "__pycache__"]  # nothing is imported from there alone
    return depth > 0 and any(_has_code(case, case.machine.path.join(folder, n), depth - 1) for n in inside)


def _hidden_portion(case: Case, failure: Failure | None) -> Finding | None:
    """Find the missing part in a portion of the namespace that a regular package in front hides."""
    if failure is None or ("." not in failure.module and failure.name is None):
        return None
    wanted = f"{failure.module}.{failure.name}" if failure.name else failure.module
    head, rest = failure.top, wanted.split(".")[1:]
    found = [c for _, c in case.candidates(head)]
    if len(found) < 2 or found[0].kind != "package":
        return None
    m, first = case.machine, found[0]
    for other in found[1:]:
        folder = other.path if other.kind == "namespace" else m.path.dirname(other.path)
        part = case.finder.find_in(m.path.join(folder, *rest[:-1]), rest[-1])
        if part is None or part.kind == "namespace" or (other.kind == "package" and not _declares(case, first)):
            continue
        owner = case.distribution_of(first.path)
        todo = remedies.reinstall(case, owner.name, owner.version, "; if that brings the file back, take "
                                  f"{first.path} away") if owner is not None else ()
        aside = remedies.set_aside(m, first.path, "so that all parts of the namespace are found")
        return Finding(
            "namespace-split", "error", "certain",
            f"{first.path} makes {head} a regular package, which hides the part of it in {folder}, where "
            f"{wanted} is.",
            (Evidence(f"{first.path} comes first", first.path),
             Evidence(f"{part.path} stands behind it, and is not looked for", part.path)), (aside, *todo))
    return None


def _declares(case: Case, first: Candidate) -> bool:
    """Whether a package's start file joins the portions by itself, in one of the two old ways."""
    try:
        text = case.machine.read_text(first.path, 65536)
    except Unreadable:
        return False
    return "extend_path" in text or "declare_namespace" in text or not text.strip()


# -- copies in other layers ---------------------------------------------------------------------
_COPIES = {
    "link": ("hidden-by-path", "a line of a .pth file that adds"),
    "other": ("hidden-by-path", "code that runs at Python's start and adds"),
    "pythonpath": ("hidden-by-path", "the PYTHONPATH entry"),
    "user": ("hidden-by-user-site", "the user site"),
}


@cause("hidden-by-path", "B", "a PYTHONPATH or .pth entry puts another copy first", rank=12)
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
    if found is None and case.obs.outcome == "fails":
        found = _copy_first(case, "link") or _copy_first(case, "other")
        for layer in ("pythonpath", "link", "other"):
            found = found or _copy_alone(case, failure, layer)
    return found


@cause("hidden-by-user-site", "B", "a copy in the user site comes before the environment's or the "
       "base's", rank=14)
def hidden_by_user_site(case: Case, failure: Failure | None) -> Finding | None:
    """Find a copy in the user site that comes first.

    A base installation looks there by design: then it is told only where the
    import fails.

    Looks like: An import gives an older or newer version than the environment's own.
    Why: The user site comes before the base installation's packages, and a copy in it wins.
    How Kalyx knows: Both copies are found on the search path, in that order, with their versions.
    What to do: Set PYTHONNOUSERSITE=1 for this seat, or take the copy out of the user site.
    """
    environment = case.seat.environment
    if case.obs.outcome == "imports" and (environment is None or environment.kind == "base"):
        return None
    return _copy_first(case, "user")


def _copy_first(case: Case, layer: str) -> Finding | None:
    asked = top_level(case.obs.module)
    for name in dict.fromkeys([asked, *_blamed(case)]):
        found = [(x, c) for x, c in case.candidates(name) if c.kind != "namespace"]
        if not found or found[0][0] != layer:
            continue
        first = found[0][1]
        if name != asked and not _is_to_blame(case, name, first.path):
            continue
        hidden = next((c for x, c in found[1:] if x in ("env", "base", "stdlib")
                       and not case.machine.same(c.path, first.path)), None)
        if hidden is None:
            continue
        return _found_first(case, layer, first, hidden, name, "certain" if name == asked else "likely")
    return None


def _found_first(case: Case, layer: str, first: Candidate, hidden: Candidate, name: str,
                 confidence: str) -> Finding:
    slug, place = _COPIES[layer]
    one, two = case.distribution_of(first.path), case.distribution_of(hidden.path)
    versions = f" ({one.version if one else 'of no distribution'} before {two.version})" if two else ""
    return Finding(
        slug, "warning" if case.obs.outcome == "imports" else "error", confidence,
        f"{place[0].upper() + place[1:]} {first.entry} puts its own {name} before the one in "
        f"{hidden.entry}{versions}.",
        (Evidence(f"{first.path} comes first", first.path),
         Evidence(f"{hidden.path} stands further back", hidden.path),
         *[Evidence("the line that adds the folder", x.file, x.line) for x in _lines_for(case, layer, first)]),
        _let_through(case, layer, first))


def _lines_for(case: Case, layer: str, first: Candidate) -> list[LinkLine]:
    """Return the line of a .pth file that brings a folder onto the path."""
    if layer not in ("link", "other"):
        return []
    lines = (x for y in case.layers if y.layer in ("env", "base", "user")
             for x in link_lines(case.machine, y.path))
    return [x for x in lines if first.entry in x.text or (
        x.target and case.machine.same(x.target, first.entry))][:1]


def _blamed(case: Case) -> list[str]:
    """Return the top-level modules in whose files the failure happened, or of which it speaks."""
    if case.obs.outcome == "imports":
        return []
    names = []
    for error in case.obs.chain:
        names += [top_level(n) for n in re.findall(r"'([\w.]+)'", error.message)]
        names += [top_level(error.name)] if error.name else []
        names += [_top_of(case, frame.file) for frame in error.frames]
    names += [_top_of(case, frame.file) for frame in case.obs.stack]
    return [n for n in dict.fromkeys(names) if n.isidentifier()]


@also_at_import("hidden-by-path", rank=98)
def stdlib_hidden(case: Case, failure: Failure | None) -> Finding | None:
    """Find a part of the standard library that is hidden, where nothing else explains a failure.

    It counts where it was loaded, or where the exception speaks of its import, as native code does
    that passes on only a part of what went wrong.
    """
    if case.obs.outcome == "imports":
        return None
    words = {w for e in case.obs.chain if "import" in e.message
             for w in re.findall(r"[`'\"](\w+)[`'\"]", e.message)}
    for layer in (x for x in case.layers if x.layer in ("start", "pythonpath", "user", "link", "other")):
        for name in sorted(case.finder.modules(layer.path) & case.stdlib_names):
            file = (case.obs.loaded.get(name) or ("", ()))[0]
            taken = case.machine.is_within(file, layer.path) if file else name.lstrip("_") in words
            found = case.candidates(name)
            hidden = next((c for x, c in found[1:] if x == "stdlib"), None)
            if not taken or case.is_builtin(name) or hidden is None or found[0][1].entry != layer.path:
                continue
            if layer.layer == "start":
                return replace(_finding(case, name, found[0][1].path, hidden.path), confidence="likely")
            return _found_first(case, layer.layer, found[0][1], hidden, name, "likely")
    return None


def _top_of(case: Case, file: str) -> str:
    """Return the top-level module that a file belongs to, empty where it is in no entry of the path."""
    around = [x.path for x in case.layers if case.machine.is_within(file, x.path)]
    return file[len(max(around, key=len)):].strip("/\\").replace("\\", "/").split("/")[0].split(".")[0] \
        if around else ""


def _out_of_start_code(case: Case, entry: str) -> Remedy | None:
    """Return the edit that switches off the line of the start code which adds a folder."""
    for name in ("sitecustomize", "usercustomize"):
        file = case.file_of(name)
        if file is None or not file.endswith(".py"):
            continue
        text = case.machine.read_text(file, 262_144)
        lines = [line for line in text.splitlines() if entry in line and not line.lstrip().startswith("#")]
        if len(lines) == 1 and text.count(lines[0]) == 1 and lines[0] == lines[0].lstrip():
            return Remedy(f"Take the line out of {file} that adds {entry} at every start.", "edit",
                          edits=(Edit(file, lines[0], f"# {lines[0]}"),), changes=file)
    return None


def _let_through(case: Case, layer: str, first: Candidate) -> tuple[Remedy, ...]:
    if layer == "pythonpath":
        return (without_variable(case.machine, case.seat, "PYTHONPATH", first.entry),)
    if layer in ("link", "other"):
        for line in _lines_for(case, layer, first):
            return (Remedy(f"Take that line out of {line.file}.", "edit",
                           edits=(Edit(line.file, line.text, f"# {line.text}"),), changes=line.file),)
        return (_out_of_start_code(case, first.entry) or Remedy(
            f"Take {first.entry} off the search path, where it is put there.", "manual",
            changes="the search path"),)
    return _close_user_site(case, first)


def _close_user_site(case: Case, first: Candidate) -> tuple[Remedy, ...]:
    """Return how to have a copy in the user site out of this seat's way, or of every seat's."""
    by_hand = Remedy(f"Set PYTHONNOUSERSITE=1 for this seat, or take the copy out of the user site: "
                     f"{first.entry}", "manual", changes="what the user site holds")
    found = [with_variable(case.machine, case.seat, "PYTHONNOUSERSITE", "1")]
    owner, command = case.distribution_of(first.path), remedies.pip_command(case)
    if owner is not None and owner.layer == "user" and command is not None and "--python" not in command:
        begin = "Or take" if found[0] else "Take"
        found.append(Remedy(
            f"{begin} {owner.name} {owner.version} out of your user site.", "command",
            argv=(*command, "uninstall", "-y", owner.name),
            changes=f"removes it from {first.entry}, for every Python that looks there"))
    return (*filter(None, found), by_hand)
