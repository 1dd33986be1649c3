"""Changes of the person's own code: the line that imports, found and written anew."""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.source_code.cells import place_in_notebook
from kalyx.core.model import Edit, Place, Remedy
from kalyx.core.verdicts.reading.absence import asked_near_home
from kalyx.core.verdicts.reading.asked_part import asked_part
from kalyx.core.verdicts.remedies.unique_edits import edit_line, edit_span

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["as_import", "asking_place", "change_line", "leave_out", "or_written", "write_import", "write_relative"]


def asking_place(case: Case, failure: Failure | None) -> Place | None:
    """Return the line of the person's own code that asked: of the traceback, or of the explained file.

    None where a package asked, whose files are not theirs to change, or no line is known.
    """
    frame = failure.asker if failure is not None else None
    if frame is None:
        return next((p for p in case.asked if p.guard != "file"), None)
    if case.distributions.of(frame.file) is not None or case.modules.layer_of_file(frame.file) in (
            "env", "base", "user", "stdlib"):
        return None
    return Place(frame.file, frame.line, text=case.modules.code_line(frame.file, frame.line))


def change_line(case: Case, place: Place, changed: str) -> Edit | None:
    """Return the edit that writes a line anew, with as much around it as makes it the only one."""
    try:
        text = case.files.read_text(place.path)
    except Unreadable:  # the file went away: the sentence still stands
        return None
    line = place.text
    if place.path.endswith(".ipynb"):
        import json

        for ascii_only in (True, False):
            before, after = (json.dumps(t, ensure_ascii=ascii_only)[1:-1] for t in (line, changed))
            if line and text.count(before) == 1:
                return Edit(place.path, before, after)
            edit = _in_its_cell(place, text, before, after) if line else None
            if edit is not None:
                return edit
        return None
    if not line or "\ufffd" in text:
        return None
    return edit_line(case.files, place.path, place.line, line, changed)


def _in_its_cell(place: Place, text: str, line: str, changed: str) -> Edit | None:
    """Return the edit of a line that a notebook's file holds more than once, by its cell; None if it is not there."""
    span = place_in_notebook(text, place.cell, place.line) if place.cell else None
    if span is None or text[span[0]:span[1]].count(line) != 1:
        return None
    start = text.index(line, span[0], span[1])
    return edit_span(place.path, text, start, start + len(line), changed)


def write_import(case: Case, failure: Failure, wrong: str, right: str, whole: str = "") -> Remedy:
    """Return the remedy that writes another name in the import; an edit where the line is known."""
    place = asking_place(case, failure)
    found = re.search(rf"(?<!\w){re.escape(wrong)}(?!\w)", place.text) if place is not None else None
    if place is not None and found is not None:
        changed = place.text[:found.start()] + right + place.text[found.end():]
        edit = change_line(case, place, changed)
        if edit is not None:
            return Remedy(f"Write: {changed}{_further_down(case, place, wrong, right)}", "edit", edits=(edit,),
                          changes=f"line {place.line} of {place.path}")
    return Remedy(f"Write: {whole or f'import {right}'}", "manual", changes="the import in your code")


def write_relative(case: Case, failure: Failure) -> Remedy | None:
    """Return the edit that imports a neighbour in its package as one: Python 2 found it by its plain name.

    None where the line is not known, is not the person's own, or stands in a file that is run as a script.
    """
    place, m = asking_place(case, failure), case.files
    if place is None or place.path == case.launch.main or not m.is_file(
            m.path.join(m.path.dirname(place.path), "__init__.py")):
        return None
    name = re.escape(failure.top)
    changed = re.sub(rf"^from\s+{name}(?=[\s.])", f"from .{failure.top}", place.text)
    changed = re.sub(rf"^import\s+({name}(?:\s+as\s+\w+)?)\s*$", r"from . import \1", changed)
    edit = change_line(case, place, changed) if changed != place.text else None
    return Remedy(f"Write: {changed}", "edit", edits=(edit,), changes=f"line {place.line} of {place.path}") \
        if edit is not None else None


def _further_down(case: Case, place: Place, wrong: str, right: str) -> str:
    """Say where else a script calls a module by the wrong name, which an import without ``as`` gave it."""
    if not re.fullmatch(rf"import\s+{re.escape(wrong)}", place.text) or place.path.endswith(".ipynb"):
        return ""
    lines = case.files.read_text(place.path).split("\n")
    used = [str(n) for n, line in enumerate(lines, 1)
            if n != place.line and re.search(rf"(?<![\w.]){re.escape(wrong)}\.", line)]
    return f"; and {right} in place of {wrong} in line {', '.join(used[:8])}" if used else ""


def leave_out(module: str, where: str = "there") -> Remedy:
    """Return what to do about a module that only a hosted service brings."""
    return Remedy(f"Run this code {where}; or put the import into a try, with an except ImportError that does "
                  f"without {module}. What an index may have under that name is not the same.", "manual",
                  changes="your code")


def as_import(now: str) -> str:
    """Return the import of a part (``module`` or ``module:name``) as code writes it."""
    module, _, name = now.partition(":")
    if module == "builtins":
        return name
    return f"from {module} import {name}" if name else f"import {module}"


def or_written(case: Case, failure: Failure, name: str) -> list[Remedy]:
    """Return how the person's own code asks any other version of what is not here; nothing where no way is known."""
    part = asked_part(case, name)
    if part is None or not part.now or not part.went or not asked_near_home(case, failure):
        return []
    return [Remedy(f"Or put any version of {name} there, and write: {as_import(part.now)}", "manual",
                   changes="the import in your code")]
