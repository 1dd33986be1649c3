"""The page of `kalyx snapshot`."""

from __future__ import annotations

from kalyx.show.parts import human_size, notes

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.snapshot import SnapshotAnswer
    from kalyx.show.page import Page

__all__ = ["lay_out"]


def lay_out(page: Page, answer: SnapshotAnswer, *, verbose: bool) -> None:
    """Lay out ``snapshot``: where it is, what it holds, and how it is read."""
    page.title(answer.status, f"The snapshot of {answer.seat.ref} on {answer.host} is written "
               f"({human_size(answer.bytes)}):")
    page.whole(answer.path, indent=2)
    page.blank()
    interpreter = answer.seat.interpreter
    distributions = len(answer.packages.distributions) if answer.packages else 0
    rows = [["interpreter", interpreter.named if interpreter else "none", interpreter.path if interpreter else ""],
            ["distributions", str(distributions), ""],
            ["kernels", str(len(answer.kernels.kernels)), ""],
            ["variables", str(len(answer.variables)), ""]]
    rows += [[r.request, {"imports": "imports", "fails": "does not import"}.get(r.outcome, "not tried"), r.origin or ""]
             for r in (answer.why.imports if answer.why else ())]
    page.table(rows)
    page.blank()
    modules = answer.why.imports[0].request if answer.why else "MODULE"
    line = page.quote(("kalyx", "why", modules, "--from", answer.path))
    page.say(f"{line} judges it on any machine.", "quiet", 2, "· ")
    notes(page, answer.notes)
