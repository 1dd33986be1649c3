"""The page of `kalyx changes`."""

from __future__ import annotations

from kalyx.show.parts import human_size, notes

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.changes import ChangesAnswer
    from kalyx.core.changes.entry import Change
    from kalyx.show.page import Page

__all__ = ["change_lines", "lay_out"]


def lay_out(page: Page, answer: ChangesAnswer, *, verbose: bool) -> None:
    """Lay out ``changes``: the journal, the latest last."""
    count = len(answer.changes)
    page.title("ok", f"Kalyx made {count} change{'s' if count != 1 else ''}." if count else
               "Kalyx has changed nothing.")
    for change in answer.changes:
        page.blank()
        change_lines(page, change)
    kept = sum(c.bytes_kept for c in answer.changes)
    if kept:
        page.blank()
        page.say(f"{human_size(kept)} are kept for undo; kalyx changes --forget N frees what change N keeps.", "quiet",
                 2, "· ")
    notes(page, answer.notes)


def change_lines(page: Page, change: Change) -> None:
    state = {"begun": "cut short; undo puts it right", "done": "", "undoing": "its undo was cut short; undo ends it",
             "undone": "taken back",
             "forgotten": "its remains were deleted"}.get(change.state, change.state)
    page.say(f"{change.number:<4} {change.what:<34}  {change.when}" + (f"  {state}" if state else ""), indent=2)
    for record in change.files:
        how = "created" if record["before"] is None else "took away" if record["after"] is None else "replaced"
        page.whole(f"{how} {record['path']}", "path", 7)
    for move in change.moves:
        page.whole(f"{'made' if 'made' in move else 'moved aside'} {move['path']}", "path", 7)
    for one in change.installed:
        page.whole(f"{one['added']} files added and {one['replaced']} replaced or gone in {one['prefix']}", "path", 7)
