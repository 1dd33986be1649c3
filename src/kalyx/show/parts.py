"""Parts that several pages share."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.model import Finding, Note, Seat
    from kalyx.show.page import Page

__all__ = ["LAYER_NAMES", "can_mend", "human_size", "mend_line", "notes", "seat_name", "show_findings", "trail"]


LAYER_NAMES = {"stdlib": "the standard library", "env": "the environment", "base": "the base installation",
               "user": "the user site", "start": "files of your own beside it",
               "link": "linked folders", "pythonpath": "PYTHONPATH", "other": "a folder that code adds to the path"}


def seat_name(seat: Seat, folder: str) -> str:
    """Name a seat as it is typed, relative to the folder where that is shorter."""
    if seat.is_this_kernel:
        return seat.label
    kind, colon, rest = seat.ref.partition(":")
    if colon and rest.startswith((folder.rstrip("/") + "/", folder.rstrip("\\") + "\\")):
        rest = rest[len(folder.rstrip("/\\")) + 1:]
    return kind + colon + rest


def notes(page: Page, notes: tuple[Note, ...]) -> None:
    for note in notes:
        page.blank()
        page.say(note.message, "quiet", 2, "· ")


def can_mend(page: Page, findings: Sequence[Finding]) -> bool:
    """Whether a remedy of a problem is one that Kalyx can carry out."""
    from kalyx.core.changes.carry_out import why_not_carried_out

    return not page.elsewhere and not page.in_cell and any(
        not why_not_carried_out(r, page.own_command) for f in findings if f.is_problem for r in f.remedies)


def mend_line(page: Page, words: tuple[str, ...], findings: Sequence[Finding]) -> None:
    """Say in a quiet line how the remedies of findings are carried out, where one can be."""
    if can_mend(page, findings):
        page.blank()
        line = page.quote(("kalyx", "mend", *words))
        page.say(f"{line} does that, and what comes after it; it can be undone.", "quiet", 2, "· ")


def human_size(size: int | None) -> str:
    """Write a number of bytes with a unit; ``?`` when unknown."""
    if size is None:
        return "?"
    number = float(size)
    for unit in ("B", "kB", "MB"):
        if number < 1000:
            return f"{number:.0f} {unit}" if unit == "B" else f"{number:.1f} {unit}"
        number /= 1000
    return f"{number:.1f} GB"


def show_findings(page: Page, findings: tuple[Finding, ...], verbose: bool) -> None:
    """Add the problems in three parts, and the notes as single lines."""
    problems = [f for f in findings if f.is_problem]
    if len(problems) == 1:
        page.finding(problems[0])
    elif problems:
        page.findings(problems, verbose=verbose)
    for note in (f for f in findings if not f.is_problem):
        page.blank()
        page.say(note.because, "quiet", 2, "· ")


def trail(page: Page, seat: Seat) -> None:
    for step in seat.trail:
        page.say(step.says, indent=6, lead=f"{step.step}  ")
        if step.where and (step.line or step.where not in step.says):
            page.whole(f"{step.where}:{step.line}" if step.line else step.where, indent=9)
