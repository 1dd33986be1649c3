"""How an environment is kept out of the version control of the checkout that it lies in."""

from __future__ import annotations

from kalyx.core.errors import Unreadable
from kalyx.core.facts.source_code.ignore_files import checkout_of, ignoring_line, is_ignored
from kalyx.core.facts.source_code.tracked_files import tracked_below
from kalyx.core.model import Edit, Note, Remedy
from kalyx.core.verdicts.remedies.unique_edits import edit_between

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files

__all__ = ["keep_out"]

IGNORE_LIMIT = 1024 * 1024  # bytes of an ignore file


def keep_out(files: Files, folder: str) -> tuple[list[Note], Remedy | None]:
    """Say where the environment lies in a checkout that would take it in, or has it; and how to keep it out."""
    m = files
    around = checkout_of(m, m.path.dirname(folder))
    if around is None:
        return [], None
    notes, held = [], tracked_below(m, around, folder)
    if held:
        takes_out = {"git": "git rm -r --cached", "hg": "hg forget"}[around.program]
        notes.append(Note("tracked", f"{around.program} tracks {len(held)} file{'s' if len(held) != 1 else ''} of "
                          f"{folder} already, {held[0]} first: {takes_out} {m.path.relpath(folder, around.root)} takes "
                          f"{'them' if len(held) != 1 else 'it'} out.", folder))
    ignored = is_ignored(m, around, m.path.join(folder, "pyvenv.cfg"))
    if ignored is None:
        notes.append(Note("not-told-ignored", f"Whether {around.ignore_file} keeps {folder} out of the checkout cannot "
                          "be told by reading.", around.ignore_file))
    if ignored is not False:
        return notes, None
    line = ignoring_line(m, around, folder)
    notes.append(Note("not-ignored", f"{folder} lies in the checkout {around.root}, which does not ignore it.", folder))
    return notes, _edit_to_ignore(m, around.ignore_file, line)


def _edit_to_ignore(files: Files, file: str, line: str) -> Remedy:
    """Return the edit that adds a line at the end of an ignore file, in its own line ends."""
    does = f"Add {line} to {file}."
    try:
        before = files.read_text(file, IGNORE_LIMIT) if files.is_there(file) else None
    except Unreadable:
        return Remedy(does, "manual", changes=file)
    end = "\r\n" if before and "\r\n" in before else "\n"
    if not before:
        return Remedy(does, "edit" if before is None else "manual", changes=file, undoable=before is None,
                      edits=(Edit(file, None, f"{line}{end}"),) if before is None else ())
    after = f"{before}{'' if before.endswith(chr(10)) else end}{line}{end}"
    edit = edit_between(file, before, after)
    return Remedy(does, "edit", edits=(edit,), changes=file, undoable=True) if edit is not None else Remedy(
        does, "manual", changes=file)
