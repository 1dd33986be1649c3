"""The page of `kalyx mend`."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.mend import MendAnswer, MendRound
    from kalyx.show.page import Page

__all__ = ["lay_out", "lay_out_round"]

_ENDS = {"well": "nothing is wrong, so there is nothing to mend", "mended": "it is well now",
         "planned": "this would be done first; nothing was changed", "left": "it is not well yet"}


def lay_out(page: Page, answer: MendAnswer, *, verbose: bool) -> None:
    """Lay out ``mend``: each round in short, what is left, and how to take it back."""
    asked = " ".join(answer.asked)
    done = sum(r.done for r in answer.rounds)
    count = f" after {done} remed{'ies' if done != 1 else 'y'}" if done and answer.outcome == "mended" else ""
    says = _ENDS[answer.outcome]
    page.title(answer.status, f"{asked}: {says}{count}." if asked else f"{says[0].upper()}{says[1:]}{count}.")
    for one in answer.rounds:
        page.blank()
        lay_out_round(page, one)
        if answer.outcome != "planned":
            page.say("done" if one.done else f"not done: {one.why_not}", "quiet", 7)
        if one.done and one.why_not:
            page.say(one.why_not, lead="! ")
    if answer.outcome == "planned":
        page.blank()
        page.say("kalyx mend --yes carries it out without asking; at a terminal it asks.", "quiet", 2, "· ")
    if answer.outcome == "left" and answer.left and not (answer.rounds and answer.rounds[-1].finding == answer.left[0]
                                                         and answer.rounds[-1].remedy is not None):
        page.part("what is left")
        page.finding(answer.left[0])
    if answer.change is not None:
        page.blank()
        page.say(f"It is change {answer.change.number} in the journal; this takes all of it back:", indent=2)
        page.command(("kalyx", "undo", str(answer.change.number)), indent=4)


def lay_out_round(page: Page, one: MendRound) -> None:
    """Lay out one round: what was wrong, what is done about it, what that changes."""
    page.say(one.finding.because, lead=f"{one.number}  ")
    if one.remedy is None:
        return
    page.remedy(one.remedy)
    for step in one.plan.steps:
        before = f"{step.before} -> " if step.before else ""
        page.say(f"{step.action:<11} {step.name:<26} {before}{step.after}", indent=7)
    if one.plan.untold:
        page.say(one.plan.untold, "quiet", 7)
    for broken in one.plan.breaks:
        page.say(broken.because, lead="! ", indent=7)
