"""The page of `kalyx report`."""

from __future__ import annotations

from kalyx.show.parts import human_size, notes

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.report import ReportAnswer
    from kalyx.show.page import Page

__all__ = ["lay_out"]


def lay_out(page: Page, answer: ReportAnswer, *, verbose: bool) -> None:
    """Lay out ``report``: where it is, and how much is wrong."""
    count = len(answer.findings)
    wrong = "nothing is wrong" if not count else f"{count} thing{'s are' if count > 1 else ' is'} wrong"
    page.title(answer.status, f"The report is written ({human_size(answer.bytes)}); {wrong}:")
    page.whole(answer.path, indent=2)
    for number, finding in enumerate(answer.findings if verbose else answer.findings[:5], 1):
        page.say(finding.because, lead=f"{number}  ")
    if count > 5 and not verbose:
        page.say(f"and {count - 5} more, in the report", "quiet", 7)
    if verbose:
        notes(page, answer.notes)
