"""The page of `kalyx why --explain`."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.verdicts.explanations import Explanation
    from kalyx.show.page import Page

__all__ = ["lay_out"]


def lay_out(page: Page, answer: Explanation, *, verbose: bool) -> None:
    """Lay out ``why --explain``: one cause in words."""
    page.title("unknown", f"{answer.cause}: {answer.true_when}.")
    for name, text in (("looks like", answer.looks_like), ("why", answer.why),
                       ("how we know", answer.how_we_know), ("what to do", answer.what_to_do)):
        page.part(name)
        page.say(text)
