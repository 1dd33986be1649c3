"""Relative imports in a file that runs as no part of its package."""

from __future__ import annotations

import re

from kalyx.core.facts.source_code.scripts import dotted_name
from kalyx.core.model import Evidence, Finding, Place, Remedy
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.reading.failure import own_frames
from kalyx.core.verdicts.remedies.search_path import run_as_module
from kalyx.core.verdicts.remedies.source_edits import change_line

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Frame
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["relative_import_alone"]


@cause("relative-import-alone", "a file of a package run as a script",
       asks="anything", after=("circular-import",),
       why_here="its message is its own; nothing else is like it")
def relative_import_alone(case: Case, failure: Failure | None) -> Finding | None:
    """Name the package's root and the way to start its module.

    Looks like: `attempted relative import with no known parent package`.
    Why: A file of a package was run as a script, so that Python does not know its package.
    How Kalyx knows: The package's root, found by its `__init__.py` files.
    What to do: Run it as a module: `python -m package.module` from the folder that holds the package.
    """
    error = case.obs.error
    if error is None or "relative import" not in error.message:
        return None
    if not error.frames:
        return _in_its_file(case, case.asked[0]) if case.asked else None
    frame = own_frames(error.frames)[-1]
    if "beyond" in error.message:
        return _beyond_top(case, frame)
    return _in_its_file(case, Place(frame.file, frame.line, text=case.modules.code_line(frame.file, frame.line)))


def _in_its_file(case: Case, place: Place) -> Finding | None:
    """A relative import in a file that was run by itself: part of a package, or of none."""
    folder, dotted = dotted_name(case.files, place.path)
    if "." not in dotted or place.path.endswith(".ipynb"):
        return _without_package(case, place)
    package = dotted.partition(".")[0]
    return Finding.error(
        "relative-import-alone", "certain",
        f"{place.path} is part of the package {package} and uses a relative import, but was loaded "
        "on its own, without its package.",
        (Evidence(place.text or case.modules.code_line(place.path, place.line), place.path, place.line),
         Evidence(f"the package {package} lies in {folder}", folder)),
        (run_as_module(case, folder, dotted),
         Remedy(f"In code: import {dotted}, with {folder} on the path.", "manual",
                changes="the import")))


def _without_package(case: Case, place: Place) -> Finding | None:
    """A relative import of a notebook, or of a file that lies in no package: what is beside it needs no dot."""
    match = re.match(r"from\s+(\.+)([\w.]*)\s+import\s*(\(?\s*(\w*).*)", place.text)
    if match is None:
        return None
    m = case.files
    folder = m.path.dirname(place.path)
    for _ in match[1][1:]:
        folder = m.path.dirname(folder)
    wanted = m.path.join(folder, *(match[2] or match[4]).split("."))
    there = next((p for p in (wanted + ".py", m.path.join(wanted, "__init__.py")) if m.is_file(p)), None)
    plain = f"from {match[2]} import" if match[2] else "import"
    beside = there is not None and len(match[1]) == 1 and (match[2] or "(" not in match[3])
    edit = change_line(case, place, f"{plain} {match[3]}") if beside else None
    todo = [Remedy(f"Write the import without dots: {plain} {match[3]}.", "edit", edits=(edit,),
                   changes=f"line {place.line} of {place.path}")] if edit else []
    stem, above = m.path.splitext(m.path.basename(place.path))[0], m.path.dirname(folder)
    if place.path.endswith(".ipynb"):
        why = "a notebook never is"
        todo.append(Remedy(f"Write the import without dots: {plain} {match[3]}, with {folder} on the search "
                           "path.", "manual", changes="the import"))
    else:
        why = f"{folder} has no __init__.py, and the file was loaded by itself"
        todo.append(Remedy(f"Run it as a module of a package, from {above}.", "command", cwd=above,
                           argv=(case.python.executable, "-m", f"{m.path.basename(folder)}.{stem}"), changes="nothing"))
    return Finding.error(
        "relative-import-alone", "certain",
        f"{place.path} uses a relative import, and is part of no package: {why}.",
        (Evidence(place.text, place.path, place.line),
         *[Evidence(f"what it asks for is {there}", there) for _ in [0] if there]), tuple(todo))


def _beyond_top(case: Case, frame: Frame) -> Finding | None:
    """A relative import with more dots than the package has levels, as Python was started."""
    m = case.files
    line = case.modules.code_line(frame.file, frame.line)
    match = re.match(r"from\s+(\.+)([\w.]*)\s+import\s+(\w+)", line)
    if match is None:
        return None
    folder = m.path.dirname(frame.file)
    for _ in match.group(1)[1:]:
        folder = m.path.dirname(folder)
    wanted = m.path.join(folder, *filter(None, match.group(2).split(".")))
    there = [p for p in (wanted + ".py", m.path.join(wanted, "__init__.py")) if m.is_file(p)]
    if not there and not (match.group(2) == "" and case.modules.finder.find_in(folder, match.group(3))):
        return None
    top, above = m.path.basename(folder), m.path.dirname(folder)
    inside = m.path.relpath(m.path.splitext(frame.file)[0], above).replace(m.path.sep, ".")
    return Finding.error(
        "relative-import-alone", "certain",
        f"{frame.file} imports from {folder}, above the topmost package that Python knows, as it was started "
        f"inside {folder}: {top} itself has to be the package.",
        (Evidence(line, frame.file, frame.line),
         *[Evidence(f"what it asks for is {p}", p) for p in there[:1]]),
        (Remedy(f"Start it from {above}, as part of {top}.", "command",
                argv=(case.python.executable, "-m", inside), cwd=above, changes="nothing"),
         Remedy(f"Or write the import without dots: {match.group(2) or match.group(3)} lies in {folder}.",
                "manual", changes=frame.file)))
