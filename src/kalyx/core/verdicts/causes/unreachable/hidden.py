"""Group B: it is here, and something else is found in its place."""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.model import Edit, Evidence, Finding, Remedy
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.tables import import_names
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.remedies import files, pip, which_pip
from kalyx.core.verdicts.remedies.search_path import reach

_PROJECT_NAME = re.compile(r"""(?m)^[ \t]*(?:setup\()?name[ \t]*=[ \t]*["']?([\w.-]+)""")

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.facts.search_path.modules import Candidate
    from kalyx.core.model.kinds import Severity
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["hidden_by", "hidden_by_file", "is_to_blame", "namespace_split", "top_of", "what_is_meant"]


@cause("hidden-by-file",
       "a file or folder of the person's own in the start layer has the name of the wanted module, of the standard "
       "library, or of something that it imports",
       asks="traces", family="hiding", also_when_it_imports="always",
       why_here="what is imported is another thing altogether: until it is out of the way, nothing else can be told "
                "of the right one")
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
        if case.obs.outcome == "imports" and name == wanted and not _has_asked_part(case, hidden):
            continue  # one's own was meant: the other has not what was asked for
        asked_of_it = failure is not None and failure.module == name  # older Pythons do not say of what
        if case.obs.outcome != "imports" and name != wanted and not asked_of_it \
                and not is_to_blame(case, name, own):
            continue
        return hidden_by(case, name, own, hidden)
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
        if "." not in name and case.modules.layer_of_file(file) == "start":
            names.append(name)
    for error in case.obs.chain:
        names += [top_level(n) for n in re.findall(r"'([\w.]+)'", error.message)]
        names += [top_level(error.name)] if error.name else []
        for frame in error.frames:
            if case.modules.layer_of_file(frame.file) == "start":
                names.append(top_of(case, frame.file))
    for frame in case.obs.stack:
        if case.modules.layer_of_file(frame.file) == "start":
            names.append(top_of(case, frame.file))
    return list(dict.fromkeys(n for n in names if n))


def top_of(case: Case, file: str) -> str:
    """Return the top-level module that a file belongs to, empty where it is in no entry of the path."""
    around = [x.path for x in case.modules.layers if case.files.is_within(file, x.path)]
    return file[len(max(around, key=len)):].strip("/\\").replace("\\", "/").split("/")[0].split(".")[0] \
        if around else ""


def _hidden_pair(case: Case, name: str) -> tuple[str, str] | None:
    """Return the person's own file and what it hides, or None when it hides nothing."""
    if case.modules.is_builtin(name):
        return None  # modules compiled in are found before any folder is looked at
    found = case.modules.candidates(name)
    if not found or found[0][0] != "start" or found[0][1].kind == "namespace":
        return None
    own = found[0][1]
    if own.kind == "bytecode" and case.obs.outcome == "fails":
        return None  # a left-over of a file that is gone: no name that a person chose
    hidden = next((c for layer, c in found[1:] if _really_hidden(case, layer, c, own)), None)
    if hidden is None:
        editable = case.distributions.named(name)
        return None if editable is None or not editable.source else (
            None if case.files.is_within(own.path, editable.source) else
            (own.path, editable.source))
    return own.path, hidden.path


def _has_asked_part(case: Case, hidden: str) -> bool:
    """Whether the module that is hidden has the part that was asked for, where a part was."""
    folder, part, m = case.files.path.dirname(hidden), None, case.files
    for name in case.obs.module.split(".")[1:]:
        part = case.modules.finder.find_in(folder, name)
        if part is None:
            return False
        folder = part.path if part.kind == "namespace" else m.path.dirname(part.path)
    return True


def _taken_for(case: Case, failure: Failure) -> Finding | None:
    """Find a person's own file that is taken for a package which is not here, and has not what is asked."""
    name = failure.top
    found = case.modules.candidates(name)
    if not found or found[0][0] != "start" or found[0][1].kind != "module":
        return None
    meant = what_is_meant(case, failure)
    if meant is None:
        return None
    own = found[0][1].path
    return Finding.error(
        "hidden-by-file", "likely",
        f"Your own {own} is taken for {name}, which is not in {case.environment_name}.",
        (Evidence(f"{own} comes first: its folder is where Python was started", own), meant,
         Evidence(failure.error.message)), (files.rename_file(case.files, own),))


def what_is_meant(case: Case, failure: Failure) -> Evidence | None:
    """Return what shows that another module of the name was meant, which is not here: it has what is asked."""
    if "." not in failure.module and failure.name is None:
        return None
    owner = case.distributions.of(failure.asker.file) if failure.asker is not None else None
    for line in owner.requires if owner is not None else ():
        name = requirement_name(line)
        if normal_name(name) == normal_name(failure.top) and case.distributions.named(name) is None:
            return Evidence(f"{owner.name} {owner.version} requires {line}, and no distribution of that name "
                            "is here", owner.metadata) if owner is not None else None
    rows = [failure.module.replace(".", "/")] if "." in failure.module else [failure.top]
    there = case.elsewhere.part(rows)
    return Evidence("what it is taken for is here, in another environment", there[1]) if there else None


def _really_hidden(case: Case, layer: str, other: Candidate, own: Candidate) -> bool:
    if other.kind == "namespace" or case.files.same(other.path, own.path):
        return False
    return layer != "start"


def is_to_blame(case: Case, name: str, own: str) -> bool:
    """Whether the failure speaks of the own file: by frame, by name or by path."""
    m = case.files
    folder = m.path.dirname(own) if m.path.basename(own).startswith("__init__") else own
    for error in case.obs.chain:
        if any(m.is_within(f.file, folder) for f in error.frames):
            return True
        of_modules = "module" in error.message or "import" in error.message  # or it is any word in quotes
        if own in error.message or (of_modules and re.search(
                rf"'{re.escape(name)}(\.[\w.]+)?'(?! object)", error.message)):
            return True
    return any(m.is_within(f.file, folder) for f in case.obs.stack)


def _severity(case: Case, name: str, wanted: str) -> Severity:
    """A failing import is an error; one that got another module than it asked for, a warning.

    Where the wanted module itself is the right one and works, it is a note.
    """
    if case.obs.outcome != "imports":
        return "error"
    return "warning" if name == wanted else "note"


def hidden_by(case: Case, name: str, own: str, hidden: str) -> Finding:
    wanted = top_level(case.obs.module)
    what = "the standard library's" if case.modules.is_stdlib(name) else "the installed"
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
    copy = case.distributions.of(own)
    if copy is not None:  # installed there by itself: nobody's own code
        folder = case.files.path.dirname(own) if case.files.path.basename(own).startswith("__init__.") else own
        return Finding(
            "hidden-by-file", _severity(case, name, wanted), "certain",
            f"The {name} in {own}, of {copy.name} {copy.version}, which was installed into that folder by itself, "
            f"hides {what} {name} ({hidden}), and {effect}.", tuple(evidence), (files.set_aside(case.files, folder),))
    return Finding(
        "hidden-by-file", _severity(case, name, wanted), "certain",
        f"Your own {own} hides {what} {name} ({hidden}), and {effect}.",
        tuple(evidence), (*_link_project(case, own, hidden), files.rename_file(case.files, own)))


def _link_project(case: Case, own: str, hidden: str) -> list[Remedy]:
    """Return how to have the installed copy of a project lead to its folder, where that is what hides it."""
    m, owner, served = case.files, case.distributions.of(hidden), which_pip.allowed(case)
    if owner is None or served is None:
        return []
    folder = m.path.dirname(m.path.dirname(own) if m.path.basename(own).startswith("__init__.") else own)
    for root in (folder, m.path.dirname(folder)):
        for file in ("pyproject.toml", "setup.cfg", "setup.py"):
            try:
                text = m.read_text(m.path.join(root, file), 262_144)
            except Unreadable:
                continue
            name = _PROJECT_NAME.search(text)
            if name is not None and normal_name(name[1]) == normal_name(owner.name):
                return [Remedy(
                    f"Install {owner.name} from its own folder, linked, so that there is no other copy.",
                    "command", argv=served.install(root, linked=True),
                    changes=f"replaces the copy of {owner.name} in {case.python.prefix} by a link to {root}")]
    return []


# -- parts of a namespace -------------------------------------------------------------------------
@cause("namespace-split", "a regular package hides namespace portions, or a folder without code takes the name",
       asks="traces", family="hiding", also_when_it_imports="always", after=("name-differs:other_project",),
       why_here="what a version changed may look like a part that is hidden")
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
    found = [c for _, c in case.modules.candidates(name)]
    if not found or any(c.kind != "namespace" for c in found):
        return None
    if case.obs.outcome == "imports" and (case.obs.origin or not case.obs.search):
        return None
    folder = found[0].path
    if any(_has_code(case, c.path) for c in found) or case.files.why_not_listed(folder) or any(
            case.distributions.record(d).lists(f"{name}/") for d in case.distributions.bringing(name)):
        return None  # a distribution of data alone is what it is
    hooked = case.modules.hooked(name)
    if hooked is not None:
        return _before_hook(case, name, folder, hooked)
    others = case.elsewhere.having(name)
    wanted = next((o.source or o.name for o in others if o.name), None) or import_names.distribution_for(name) or name
    evidence = [Evidence(f"{folder} holds no code, and Python takes any folder of that name for a package "
                         "when there is no better one (PEP 420)", folder)]
    evidence += [Evidence(f"{o.environment.path} has {o.name or name} {o.version or ''}".rstrip(),
                          o.environment.path) for o in others[:3]]
    from kalyx.core.verdicts.causes.unreachable.site_off import site_off_for

    off = site_off_for(case, name)
    because = off.because if off else f"{name} itself is not in {case.environment_name}."
    return Finding(
        "namespace-split", "warning" if case.obs.outcome == "imports" else "error", "certain",
        f"The folder {folder}, which holds no code, is what the import of {name} finds; {because}",
        (*evidence, *(off.evidence[:2] if off else ())),
        off.remedies if off else pip.install(case, wanted, why="; a real package wins over the folder"))


def _before_hook(case: Case, name: str, folder: str, hooked: Candidate) -> Finding:
    """Say that a folder without code comes before what an import hook would bring."""
    m = case.files
    place = m.path.dirname(hooked.path)
    place = m.path.dirname(place) if m.path.basename(hooked.path).startswith("__init__.") else place
    return Finding(
        "namespace-split", "warning" if case.obs.outcome == "imports" else "error", "certain",
        f"The folder {folder}, which holds no code, is what the import of {name} finds; the linked {name} in "
        f"{hooked.path} comes behind it.",
        (Evidence(f"{folder} holds no code, and Python takes any folder of that name for a package", folder),
         Evidence(f"{hooked.path} is brought by an import hook, which is asked after all folders of the path",
                  hooked.path)),
        (*reach(case, place, name), files.set_aside(m, folder)))


def _has_code(case: Case, folder: str, depth: int = 3) -> bool:
    names, folders, cut = case.files.scan(folder)
    if cut or any(n.endswith((".py", ".so", ".pyd", ".pyc")) for n in names):
        return True
    inside = [n for n in folders[:50] if n != "__pycache__"]  # nothing is imported from there alone
    return depth > 0 and any(_has_code(case, case.files.path.join(folder, n), depth - 1) for n in inside)


def _hidden_portion(case: Case, failure: Failure | None) -> Finding | None:
    """Find the missing part in a portion of the namespace that a regular package in front hides."""
    if failure is None or ("." not in failure.module and failure.name is None):
        return None
    wanted = f"{failure.module}.{failure.name}" if failure.name else failure.module
    head, rest = failure.top, wanted.split(".")[1:]
    found = [c for _, c in case.modules.candidates(head)]
    first = next((c for c in found if c.kind != "namespace"), None)  # it wins, wherever on the path it stands
    if len(found) < 2 or first is None or first.kind != "package":
        return None
    m = case.files
    for number, other in enumerate(found):
        if other is first:
            continue
        folder = other.path if other.kind == "namespace" else m.path.dirname(other.path)
        part = case.modules.finder.find_in(m.path.join(folder, *rest[:-1]), rest[-1])
        if part is None or part.kind == "namespace" or (other.kind == "package" and not _declares(case, first)):
            continue
        if number < found.index(first):
            return _own_portion(case, head, first, folder, part.path)
        owner = case.distributions.of(first.path)
        todo = pip.reinstall(case, owner.name, owner.version, "; if that brings the file back, take "
                                  f"{first.path} away") if owner is not None else ()
        aside = files.set_aside(m, first.path, "so that all parts of the namespace are found")
        return Finding.error(
            "namespace-split", "certain",
            f"{first.path} makes {head} a regular package, which hides the part of it in {folder}, where "
            f"{wanted} is.",
            (Evidence(f"{first.path} comes first", first.path),
             Evidence(f"{part.path} stands behind it, and is not looked for", part.path)), (aside, *todo))
    return None


def _own_portion(case: Case, head: str, first: Candidate, folder: str, part: str) -> Finding:
    """Say that a folder which comes first is no regular package, and one behind it wins: it needs its start file."""
    owner, start = case.distributions.of(first.path), case.files.path.join(folder, "__init__.py")
    whose = f"{owner.name} {owner.version}" if owner else first.path
    return Finding.error(
        "namespace-split", "certain",
        f"{folder} has no __init__.py, so that the regular package {head} of {whose} wins over it, though it stands "
        "behind it.",
        (Evidence(f"{part} is there, and is not looked for", part),
         Evidence(f"{first.path} is a regular package, which any folder without __init__.py gives way to (PEP 420)",
                  first.path)),
        (Remedy(f"Make {folder} a regular package too, which then comes first.", "edit",
                edits=(Edit(start, None, ""),), changes=f"adds {start}", undoable=True),))


def _declares(case: Case, first: Candidate) -> bool:
    """Whether a package's start file joins the portions by itself, in one of the two old ways."""
    try:
        text = case.files.read_text(first.path, 65536)
    except Unreadable:
        return False
    return "extend_path" in text or "declare_namespace" in text or not text.strip()
