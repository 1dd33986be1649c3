"""The page of `kalyx put`."""

from __future__ import annotations

from kalyx.show.parts import show_findings

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.put import PutAnswer
    from kalyx.show.page import Page

__all__ = ["lay_out"]


def lay_out(page: Page, answer: PutAnswer, *, verbose: bool) -> None:
    """Lay out ``put``: where it goes, what changes, what that would break."""
    environment = answer.seat.environment
    place = f"{environment.name} ({environment.path})" if environment else answer.seat.ref
    count = len(answer.steps)
    if any(f.is_problem for f in answer.seat.findings) and answer.seat.environment is None:
        page.title("problem", f"Nothing can be put where {answer.seat.ref} is: it cannot run.")
        show_findings(page, answer.seat.findings, verbose)
        return
    if answer.findings and not answer.done:
        page.title("problem", f"This would break what is installed in {place}; nothing was changed.")
    elif answer.done:
        lost = f"; {len(answer.findings)} of what was there is broken by that" if answer.findings else ""
        page.title(answer.status, f"{count} distribution{'s' if count != 1 else ''} changed in {place}{lost}.")
    else:
        page.title("ok", f"This would change {count} distribution{'s' if count != 1 else ''} in {place}."
                   if count else f"Nothing has to change in {place}: all of it is there.")
    page.part("the plan")
    page.say(f"{answer.seat.ref} runs")
    page.whole(answer.seat.interpreter.path if answer.seat.interpreter else "")
    for step in answer.steps:
        before = f"{step.before} -> " if step.before else ""
        page.say(f"{step.action:<11} {step.name:<26} {before}{step.after}")
    if answer.findings:
        page.findings(answer.findings, verbose=verbose)
        if not answer.done:
            page.blank()
            page.say("--anyway installs it all the same.", "quiet", 2, "· ")
    for row in answer.differs:
        page.say(row, lead="! ")
    for note in answer.notes:
        page.blank()
        page.say(note.message, "quiet", 2, "· ")
