"""The page of `kalyx point`."""

from __future__ import annotations

from kalyx.show.parts import notes, show_findings

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.point import PointAnswer, PointedFile
    from kalyx.show.page import Page

__all__ = ["lay_out"]


def lay_out(page: Page, answer: PointAnswer, *, verbose: bool) -> None:
    """Lay out ``point``: which files name the environment, and what was written in each."""
    changed = [f for f in answer.files if f.differs]
    count = f"{len(changed)} file{'s' if len(changed) != 1 else ''}"
    if answer.findings:
        page.title("problem", f"Nothing was pointed at {answer.environment.path}, and nothing was changed.")
        show_findings(page, answer.findings, verbose)
        return
    if not changed:
        page.title("ok", f"Nothing has to change: all of it uses {answer.environment.path}.")
    elif answer.dry_run:
        page.title("ok", f"This would point {count} at {answer.environment.path}.")
    else:
        page.title("ok", f"{count} use{'s' if len(changed) == 1 else ''} {answer.environment.path} now.")
    for file in answer.files:
        _lay_out_file(page, file)
    if answer.enrolled is not None:
        page.blank()
        page.say(f"The kernel {answer.enrolled.name} ({answer.enrolled.label}) "
                 f"{'would be' if answer.dry_run else 'was'} enrolled for it"
                 f"{'.' if answer.dry_run else ', and answered as itself.'}", indent=2)
    notes(page, answer.notes)
    if answer.change is not None:
        page.blank()
        again = "Reload the notebook, if it is open." if answer.files[-1].kernel else \
            "An editor that is open may have to be told to read its settings again."
        page.say(f"{again} This takes it back:", indent=2)
        page.command(("kalyx", "undo", str(answer.change.number)), indent=4)


def _lay_out_file(page: Page, file: PointedFile) -> None:
    import difflib

    page.blank()
    page.whole(file.path, indent=2)
    if not file.differs:
        page.say(f"{file.key} is {file.after} already", "quiet", 4)
    old, new = (file.was or "").splitlines(), file.text.splitlines()
    for row in difflib.unified_diff(old, new, n=1, lineterm=""):
        if not row.startswith(("---", "+++", "@@")):
            page.literal(row, 4, {"-": "before", "+": "after"}.get(row[:1], "quiet"))
