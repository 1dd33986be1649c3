"""Group B: the module is the person's own code, in a folder or under a name where Python does not find it."""

from __future__ import annotations

import re
from collections.abc import Iterator

from kalyx.core.facts.cases import Case
from kalyx.core.model import Edit, Evidence, Finding, Remedy
from kalyx.core.patterns import pattern
from kalyx.core.record import replace
from kalyx.core.verdicts import remedies
from kalyx.core.verdicts.absence import (
    asked_near_home,
    asked_whole,
    asker_evidence,
    is_absent,
    known_distribution,
    searched,
)
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.failure import Failure

__all__ = ["code_at", "own_code_unreachable", "own_files", "reach"]

# What other names a file may have been given than the one that is imported: by an editor that adds an
# ending, a browser that numbers its downloads, a system that does not care for capital letters
_ENDINGS = pattern(r"(?: \(\d+\)| - Copy)?\.(?:py\.txt|txt\.py|py|pyw|py3|ipynb)\s*$", re.IGNORECASE)
_JOINED = str.maketrans("-. ", "___")
# Writes the code of a notebook's cells into a file
_CELLS = ("import json, pathlib, sys; a, b = map(pathlib.Path, sys.argv[1:]); "
          "b.write_text('\\n\\n'.join(''.join(c['source']) for c in json.loads(a.read_text('utf-8'))['cells'] "
          "if c['cell_type'] == 'code'), 'utf-8')")


@cause("own-code-unreachable", "B", "the module is the person's own in this project, and no "
       "layer holds its folder", rank=40)
def own_code_unreachable(case: Case, failure: Failure | None) -> Finding | None:
    """Look for the module among the person's own files around the start folder.

    Looks like: `No module named ...` for a file of your own project.
    Why: Python looks in the folder of the script that was started, not in the project's other folders;
        -P and -I switch even that off. Or the file has a name that no import can mean: with a dash or
        blank in it, or another ending than .py. Or PYTHONPATH is miswritten: with a `~`, quotes, the wrong
        sign between its entries, or the package itself in place of the folder that holds it.
    How Kalyx knows: The file is found above, beside or below the start folder, and no entry of the path
        holds it; or it is there under another name, or where an entry of PYTHONPATH was meant to lead.
    What to do: Install the project as editable where it has a pyproject.toml; have the environment look
        into the folder by a .pth file; or start Python from the folder that holds the module. Or give the
        file the name that is imported.
    """
    if failure is not None and failure.error.type == "PackageNotFoundError":
        return _not_installed_itself(case, failure)
    if not is_absent(case, failure) or failure is None or not asked_near_home(case, failure):
        return None
    m, name = case.machine, failure.top
    folder = _start_folder(case)
    miswritten = _miswritten(case, failure)
    if miswritten is not None:
        return miswritten
    for place, found in own_files(case, failure):
        todo: list[Remedy] = []
        root = m.path.dirname(place) if m.path.basename(place) == "src" else place
        built = next((f for f in ("pyproject.toml", "setup.py")
                      if m.is_file(m.path.join(root, f))), None)
        command = remedies.pip_command(case)
        if built and command and remedies.managed_marker(case) is None:
            todo.append(Remedy(
                f"Install the project itself, so that it can be imported from anywhere ({built} "
                "is there).", "command", argv=(*command, "install", "-e", root),
                changes=f"links {root} into {case.prefix}"))
        off = _switched_off(case) if m.same(place, folder) else ""
        todo += _let_start_folder_in(case, place, off) if off else reach(case, place, name)
        return Finding(
            "own-code-unreachable", "error", "certain",
            f"{name} is your own code in {found}, and no part of this seat's search path "
            f"holds {place}.",
            (Evidence(f"{found} is there", found),
             _start_evidence(case, folder),
             *searched(case)), tuple(todo))
    return _under_another_name(case, failure, folder)


def _miswritten(case: Case, failure: Failure) -> Finding | None:
    """Find an entry that was meant to lead to the module; looked for only where a person wrote entries."""
    is_set = case.launch.env.get("PYTHONPATH") and not case.obs.who.get("flags", {}).get("ignore_environment")
    if not is_set and not case.asked:
        return None
    from kalyx.core.verdicts.path_entries import meant_by_code, meant_by_variable

    return (meant_by_variable(case, failure) if is_set else None) or meant_by_code(case, failure)


def _imports(case: Case, path: str, name: str) -> bool:
    """Whether a file itself imports a module: then it is about that, and not the module."""
    from kalyx.core.facts.sources import read_source

    return case.machine.is_file(path) and any(
        i.module.split(".")[0] == name for i in read_source(case.machine, path).imports)


def _start_folder(case: Case) -> str:
    return case.start or case.launch.start or case.launch.cwd


def own_files(case: Case, failure: Failure) -> Iterator[tuple[str, str]]:
    """Yield the folders around the start folder that have a missing module, each with its file there."""
    inside = asked_whole(case, failure).split(".")[1:]
    for place in _own_places(case, _start_folder(case)):
        found = code_at(case, place, failure.top, inside)
        if found is not None and not _is_reached(case, place) \
                and case.layer_of_file(found) not in ("stdlib", "env", "base", "user"):
            yield place, found


def _under_another_name(case: Case, failure: Failure, folder: str) -> Finding | None:
    """Find the person's own file, beside the code that asks, whose name no import can mean."""
    m, name = case.machine, failure.top
    if case.elsewhere(name) or known_distribution(case, failure):
        return None
    for file in sorted(case.finder.names(folder)):
        if not file.translate(_JOINED).startswith(name):
            continue
        match = _ENDINGS.search(file)
        stem = file[:match.start()] if match else file
        if stem.translate(_JOINED) != name or file in (name, f"{name}.py"):
            continue
        path = m.path.join(folder, file)
        if (match is None and not m.is_file(m.path.join(path, "__init__.py"))) or _imports(case, path, name):
            continue
        new = m.path.join(folder, name + (".py" if match else ""))
        notebook = file.lower().endswith(".ipynb")
        what = "a notebook is no module" if notebook else "no import can mean a file of that name"
        if notebook:
            todo = Remedy(f"Write the code of its cells into {new}.", "command",
                          argv=(case.python, *remedies.quiet_flags(case), "-c", _CELLS, path, new),
                          changes=f"adds {new}")
        else:
            todo = remedies.rename(m, path, new)
        return Finding(
            "own-code-unreachable", "error", "likely" if notebook else "certain",
            f"{name} is your own code in {path}, and {what}.",
            (Evidence(f"{path} is there", path), *asker_evidence(case, failure), *searched(case)), (todo,))
    return None


def _let_start_folder_in(case: Case, place: str, off: str) -> list[Remedy]:
    """Return how to have the start folder on the path again."""
    from kalyx.core.verdicts.launch_settings import without_flag, without_variable

    if case.launch.env.get("PYTHONSAFEPATH") and not case.launch.argv[1:]:
        return [without_variable(case.machine, case.seat, "PYTHONSAFEPATH")]
    return [without_flag(case.machine, case.seat, "IP") or Remedy(
        f"Start Python without {off}, which keeps {place} off the path.", "manual",
        changes="where imports are looked for")]


def reach(case: Case, place: str, name: str) -> list[Remedy]:
    """Return how to have a folder of the person's own on the path: by a .pth file, or by hand."""
    m = case.machine
    by_hand = Remedy(f"Start Python from {place}, where {name} lies, or add that folder to PYTHONPATH.",
                     "manual", changes="where imports are looked for")
    site = next((x.path for x in case.layers if x.layer == "env"), None)
    if site is None or case.prefix == case.base_prefix or (m.platform == "win32" and not place.isascii()):
        return [by_hand]
    file = m.path.join(site, f"{m.path.basename(place)}-folder.pth")
    if m.exists(file) or not m.may_write(site):
        return [by_hand]
    says = f"Have {case.environment_name} look into {place} too, wherever Python is started from."
    change = Edit(file, None, f"{place}\n")
    return [Remedy(says, "edit", edits=(change,), changes=f"adds {file}", undoable=True),
            replace(by_hand, do=f"Or start{by_hand.do[5:]}")]


def _not_installed_itself(case: Case, failure: Failure) -> Finding | None:
    """A project that asks for its own metadata, and is run from its folder without being installed."""
    m, name = case.machine, failure.top
    command = remedies.pip_command(case)
    if failure.asker is None or command is None or not case.candidates(name):
        return None
    root = m.path.dirname(failure.asker.file)
    for _ in range(4):
        file = m.path.join(root, "pyproject.toml")
        if m.is_file(file):
            break
        root = m.path.dirname(root)
    else:
        return None
    return Finding(
        "own-code-unreachable", "error", "likely",
        f"{name} is your own code in {root}, and asks for its own metadata, which only an installation has.",
        (*_asked(case, failure), Evidence(f"no metadata of {name} in {case.environment_name}"),
         Evidence(f"{file} is there: it can be installed", file)),
        (Remedy("Install the project itself; it stays in its folder.", "command",
                argv=(*command, "install", "-e", root), changes=f"links {root} into {case.prefix}"),))


def _asked(case: Case, failure: Failure) -> list[Evidence]:
    frame = failure.asker
    return [Evidence(case.code_line(frame.file, frame.line), frame.file, frame.line)] if frame else []


def _switched_off(case: Case) -> str:
    """Return what keeps the start folder off the path, empty where nothing does."""
    flags = case.obs.who.get("flags", {})
    if not flags.get("isolated") and not flags.get("safe_path"):
        return ""
    return " ".join(case.launch.argv[1:]) or "the variable PYTHONSAFEPATH"


def _start_evidence(case: Case, folder: str) -> Evidence:
    off = _switched_off(case)
    if off:
        return Evidence(f"{folder} is not on the path, as {off} switches the start folder off", folder)
    return Evidence(f"Python was started with {folder} as its start folder", folder)


def code_at(case: Case, place: str, name: str, inside: list[str]) -> str | None:
    """Return the file that a folder has for a module, by a few looks and not by listing it.

    A folder without ``__init__.py`` counts where it has what is asked for `inside` it (PEP 420).
    """
    m = case.machine
    start = place.rstrip(m.path.sep) + m.path.sep + name
    files = [f"{start}{m.path.sep}__init__.py", start + ".py"]
    if inside:
        part = m.path.join(start, *inside)
        files += [part + ".py", m.path.join(part, "__init__.py")]
    return next((f for f in files if m.is_file(f)), None)


def _own_places(case: Case, folder: str) -> list[str]:
    m = case.machine
    environments = set(case.neighbours.prefixes)
    children = [folder.rstrip(m.path.sep) + m.path.sep + n for n in m.scan(folder)[1]
                if "." not in n and n not in ("node_modules", "__pycache__")]
    places = [folder, m.path.join(folder, "src"), *[c for c in children if c not in environments][:200]]
    above = folder
    for _ in range(3):
        parent = m.path.dirname(above)
        if parent == above or above == m.home or parent == m.path.dirname(m.home):
            break
        above = parent
        if above not in ("/tmp", "/"):
            places += [above, m.path.join(above, "src")]
    return places


def _is_reached(case: Case, place: str) -> bool:
    """Whether a folder is on the path already, or an environment of its own."""
    m = case.machine
    return any(m.same(place, x.path) for x in case.layers) or m.is_file(m.path.join(place, "pyvenv.cfg"))
