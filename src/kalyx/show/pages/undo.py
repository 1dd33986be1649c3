"""The page of `kalyx undo`."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.changes import ChangesAnswer
    from kalyx.show.page import Page

__all__ = ["lay_out"]


def lay_out(page: Page, answer: ChangesAnswer, *, verbose: bool) -> None:
    """Lay out ``undo``: what is as it was."""
    change = answer.changes[0]
    page.title("ok", f"Change {change.number} ({change.what}) is taken back.")
    for record in change.files:
        page.whole(f"{'removed' if record['before'] is None else 'restored'} {record['path']}", "path", 4)
    for move in change.moves:
        page.whole(f"{'moved aside' if 'made' in move else 'restored'} {move['path']}", "path", 4)
    for one in change.installed:
        page.whole(f"{one['added']} files taken out and {one['replaced']} put back in {one['prefix']}", "path", 4)
