"""Have a seat name an environment's own program, where it names a link to it."""

from __future__ import annotations

from kalyx.core.model import Remedy
from kalyx.core.verdicts.remedies.shell_lines import command_line
from kalyx.core.verdicts.remedies.unique_edits import edit_line

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files
    from kalyx.core.model import Seat

__all__ = ["name_own_program"]


def name_own_program(files: Files, seat: Seat, program: str) -> Remedy:
    """Return the edit of the file that names the link, where it stands there once; else the line to type."""
    named = seat.launch.argv[0] if seat.launch else ""
    for step in seat.trail:
        file = step.where
        if file is None or not files.is_file(file) or files.same(file, named):
            continue
        edit = edit_line(files, file, step.line, named, program)
        if edit is not None:
            return Remedy(f"Have {file} name the environment's own program, {program}.", "edit", edits=(edit,),
                          changes=file, undoable=True)
    return Remedy(f"Start the environment's own program, {program}.", "manual", changes="what is started",
                  typed=command_line(files, (program,)))
