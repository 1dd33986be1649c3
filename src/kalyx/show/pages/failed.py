"""The page under the traceback of a cell that failed to import: why in a sentence, what shows it, what to do."""

from __future__ import annotations

from kalyx.core.model.names import normal_name, requirement_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.why.module import WhyAnswer
    from kalyx.core.model import Finding, LivePython, Remedy
    from kalyx.show.page import Page

__all__ = ["lay_out"]

MOST_REMEDIES = 2
AGAIN = "Then run the cell again; if it says the same, restart the kernel."
ANEW = "Then restart the kernel: it has the old one loaded."


def lay_out(page: Page, answer: WhyAnswer, live: LivePython) -> None:
    """Lay out why an import failed; nothing where that says no more than the traceback does."""
    report = answer.imports[0]
    if not report.causes or not _adds_something(report.causes[0]):
        return
    first = report.causes[0]
    page.title("problem", first.because)
    for item in page.decisive(first.evidence):
        page.say(item.says, "quiet", 2)
        place = f"{item.path}:{item.line}" if item.path and item.line else item.path
        if place and place not in item.says:
            page.whole(place, "path", 4)
    for remedy in first.remedies[:MOST_REMEDIES]:
        page.remedy(remedy, brief=True)
        if remedy.argv:
            page.say(ANEW if _is_loaded(remedy, live) else AGAIN, "quiet", 7)
    if len(report.causes) > 1 or len(first.remedies) > MOST_REMEDIES:
        page.say(f"%why {report.request} says more.", "quiet", 2, "· ")


def _adds_something(finding: Finding) -> bool:
    """Whether a finding says more than that code raised what the traceback shows."""
    return finding.cause != "raises" or any(r.argv or r.edits for r in finding.remedies)


def _is_loaded(remedy: Remedy, live: LivePython) -> bool:
    """Whether what a line of pip names is loaded already."""
    loaded = {normal_name(top) for top in live.loaded}
    return any(normal_name(requirement_name(word)) in loaded for word in remedy.argv[1:] if word[:1].isalnum())
