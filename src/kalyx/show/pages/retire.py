"""The page of `kalyx retire`."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.changes import RetireAnswer
    from kalyx.show.page import Page

__all__ = ["lay_out"]


def lay_out(page: Page, answer: RetireAnswer, *, verbose: bool) -> None:
    """Lay out ``retire``: what went, and how to bring it back."""
    plan = answer.plan
    if not plan.kernels:
        page.title("ok", "There is nothing to retire.")
        return
    what = [f"the kernel {k.name}" for k in plan.kernels] + [f"the environment {e}" for e in plan.environments]
    said = ", ".join(what)
    page.title("ok", f"This would take away {said}." if answer.dry_run else
               f"{said[0].upper()}{said[1:]} {'is' if len(what) == 1 else 'are'} gone, and kept aside.")
    page.part("the plan" if answer.dry_run else "because")
    for kernel in plan.kernels:
        page.say(f"{kernel.name} ({kernel.label}) was registered in" if not answer.dry_run else
                 f"{kernel.name} ({kernel.label}), registered in")
        page.whole(kernel.folder)
    for environment in plan.environments:
        page.say("the environment")
        page.whole(environment)
    for note in answer.notes:
        page.blank()
        page.say(note.message, "quiet", 2, "· ")
    if answer.changes:
        page.part("what to do")
        page.say("To have it back:", lead="a  ")
        for change in answer.changes:
            page.command((*page.own_command, "undo", str(change.number)))
        page.say("To delete it for good:", lead="b  ")
        for change in answer.changes:
            page.command((*page.own_command, "changes", "--forget", str(change.number)))
