"""Group B: the module is the person's own code, in a folder or under a name where Python does not find it."""

from __future__ import annotations

import re

from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.reading.absence import (
    asked_near_home,
    asker_evidence,
    is_absent,
    known_distribution,
    searched,
)
from kalyx.core.verdicts.reading.own_files import own_files, start_folder
from kalyx.core.verdicts.remedies import files, which_pip
from kalyx.core.verdicts.remedies.search_path import reach, run_as_module
from kalyx.core.verdicts.remedies.source_edits import write_relative

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["own_code_unreachable"]

# What other names a file may have been given than the one that is imported: by an editor that adds an
# ending, a browser that numbers its downloads, a system that does not care for capital letters
_ENDINGS = re.compile(r"(?: \(\d+\)| - Copy)?\.(?:py\.txt|txt\.py|py|pyw|py3|ipynb)\s*$", re.IGNORECASE)
_JOINED = str.maketrans("-. ", "___")
# Writes the code of a notebook's cells into a file
_CELLS = ("import json, pathlib, sys; a, b = map(pathlib.Path, sys.argv[1:]); "
          "b.write_text('\\n\\n'.join(''.join(c['source']) for c in json.loads(a.read_text('utf-8'))['cells'] "
          "if c['cell_type'] == 'code'), 'utf-8')")


@cause("own-code-unreachable", "the module is the person's own in this project, and no layer holds its folder",
       asks="absence", after=("env-version-skew",),
       why_here="what was installed comes before files that only have the same name")
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
    m, name = case.files, failure.top
    folder = start_folder(case)
    miswritten = _miswritten(case, failure)
    if miswritten is not None:
        return miswritten
    for place, found in own_files(case, failure):
        todo = _as_module(case, place, name)
        beside = failure.asker is not None and m.same(place, m.path.dirname(failure.asker.file))
        relative = write_relative(case, failure) if beside else None
        todo += [relative] if relative else []
        root = m.path.dirname(place) if m.path.basename(place) == "src" else place
        built = next((f for f in ("pyproject.toml", "setup.py")
                      if m.is_file(m.path.join(root, f))), None)
        served = which_pip.allowed(case)
        if built and served:
            todo.append(Remedy(
                f"Install the project itself, so that it can be imported from anywhere ({built} "
                "is there).", "command", argv=served.install(root, linked=True),
                changes=f"links {root} into {case.python.prefix}"))
        off = _switched_off(case) if m.same(place, folder) else ""
        todo += _let_start_folder_in(case, place, off) if off else reach(case, place, name)
        return Finding.error(
            "own-code-unreachable", "certain",
            f"{name} is your own code in {found}, and no part of this seat's search path "
            f"holds {place}.",
            (Evidence(f"{found} is there", found),
             _start_evidence(case, folder),
             *searched(case)), tuple(todo))
    return _under_another_name(case, failure, folder)


def _as_module(case: Case, place: str, name: str) -> list[Remedy]:
    """Return how to start a script that lies in the very package which it imports; nothing where it lies in none."""
    from kalyx.core.facts.source_code.scripts import dotted_name

    main = case.launch.main
    folder, dotted = dotted_name(case.files, case.files.real_path(main)) if main else ("", "")
    return [run_as_module(case, folder, dotted)] if dotted.startswith(f"{name}.") and case.files.same(
        folder, place) else []


def _miswritten(case: Case, failure: Failure) -> Finding | None:
    """Find an entry that was meant to lead to the module; looked for only where a person wrote entries."""
    is_set = case.launch.env.get("PYTHONPATH") and not case.python.flags.get("ignore_environment")
    if not is_set and not case.asked:
        return None
    from kalyx.core.verdicts.causes.unreachable.path_entries import meant_by_code, meant_by_variable

    return (meant_by_variable(case, failure) if is_set else None) or meant_by_code(case, failure)


def _imports(case: Case, path: str, name: str) -> bool:
    """Whether a file itself imports a module: then it is about that, and not the module."""
    from kalyx.core.facts.source_code.imports import read_source

    return case.files.is_file(path) and any(
        i.module.split(".")[0] == name for i in read_source(case.files, path).imports)


def _under_another_name(case: Case, failure: Failure, folder: str) -> Finding | None:
    """Find the person's own file, beside the code that asks, whose name no import can mean."""
    m, name = case.files, failure.top
    if case.elsewhere.having(name) or known_distribution(case, failure):
        return None
    for file in sorted(case.modules.finder.names(folder)):
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
                          argv=(case.python.executable, *which_pip.pip_flags(case), "-c", _CELLS, path, new),
                          changes=f"adds {new}")
        else:
            todo = files.rename(m, path, new)
        return Finding.error(
            "own-code-unreachable", "likely" if notebook else "certain",
            f"{name} is your own code in {path}, and {what}.",
            (Evidence(f"{path} is there", path), *asker_evidence(case, failure), *searched(case)), (todo,))
    return None


def _let_start_folder_in(case: Case, place: str, off: str) -> list[Remedy]:
    """Return how to have the start folder on the path again."""
    from kalyx.core.verdicts.remedies.variables import without_flag, without_variable

    if case.launch.env.get("PYTHONSAFEPATH") and not case.launch.argv[1:]:
        return [without_variable(case.files, case.seat, "PYTHONSAFEPATH")]
    return [without_flag(case.files, case.seat, "IP") or Remedy(
        f"Start Python without {off}, which keeps {place} off the path.", "manual",
        changes="where imports are looked for")]


def _not_installed_itself(case: Case, failure: Failure) -> Finding | None:
    """A project that asks for its own metadata, and is run from its folder without being installed."""
    m, name = case.files, failure.top
    served = which_pip.allowed(case)
    if failure.asker is None or served is None or not case.modules.candidates(name):
        return None
    root = m.path.dirname(failure.asker.file)
    for _ in range(4):
        file = m.path.join(root, "pyproject.toml")
        if m.is_file(file):
            break
        root = m.path.dirname(root)
    else:
        return None
    return Finding.error(
        "own-code-unreachable", "likely",
        f"{name} is your own code in {root}, and asks for its own metadata, which only an installation has.",
        (*_asked(case, failure), Evidence(f"no metadata of {name} in {case.environment_name}"),
         Evidence(f"{file} is there: it can be installed", file)),
        (Remedy("Install the project itself; it stays in its folder.", "command",
                argv=served.install(root, linked=True), changes=f"links {root} into {case.python.prefix}"),))


def _asked(case: Case, failure: Failure) -> list[Evidence]:
    frame = failure.asker
    return [Evidence(case.modules.code_line(frame.file, frame.line), frame.file, frame.line)] if frame else []


def _switched_off(case: Case) -> str:
    """Return what keeps the start folder off the path, empty where nothing does."""
    flags = case.python.flags
    if not flags.get("isolated") and not flags.get("safe_path"):
        return ""
    return " ".join(case.launch.argv[1:]) or "the variable PYTHONSAFEPATH"


def _start_evidence(case: Case, folder: str) -> Evidence:
    off = _switched_off(case)
    if off:
        return Evidence(f"{folder} is not on the path, as {off} switches the start folder off", folder)
    return Evidence(f"Python was started with {folder} as its start folder", folder)
