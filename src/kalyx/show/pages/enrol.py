"""The page of `kalyx enrol`."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.enrol import EnrolAnswer
    from kalyx.show.page import Page

__all__ = ["lay_out"]


def lay_out(page: Page, answer: EnrolAnswer, *, verbose: bool) -> None:
    """Lay out ``enrol``: what was registered, and the proof."""
    kernel, proof = answer.kernel, answer.proof
    if answer.findings:
        page.title("problem", answer.findings[0].because)
        page.finding(answer.findings[0], because=False)
        return
    assert kernel is not None
    if answer.dry_run:
        page.title("ok", f"This would register the kernel {kernel.name} ({kernel.label}).")
        page.part("the plan")
        page.whole(kernel.spec, indent=4)
        for row in answer.text.splitlines():
            page.whole(row, "after", 4, "+ ")
        return
    assert proof is not None
    page.title("ok", f"{kernel.label} is a notebook kernel now, and it answered as itself.")
    page.part("because")
    scope = {"user": "for you", "env": "in the environment",
             "system": "for everyone"}.get(kernel.scope, "there")
    page.say(f"The kernel {kernel.name} was registered {scope}, started, and asked who it is over "
             "the kernel messaging protocol. Its answer is the environment that you named.")
    page.part("how we know")
    page.say("registered in", lead="1  ")
    page.whole(kernel.spec)
    page.say(f"asked for {proof.asked}; it answered in {proof.seconds} s:", lead="2  ")
    page.whole(f"sys.executable  {proof.executable}")
    page.whole(f"sys.prefix      {proof.prefix}")
    if proof.pip:
        page.whole(f"pip in a cell   {proof.pip}")
    page.say("that is the interpreter of the environment:", lead="3  ")
    page.whole(kernel.interpreter.path if kernel.interpreter else "")
    page.part("what to do")
    page.say(f"Choose {kernel.label} in the notebook's kernel menu; reload the page if it was "
             "open.", lead="a  ")
