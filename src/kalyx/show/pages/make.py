"""The page of `kalyx make`."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.make import MakeAnswer
    from kalyx.show.page import Page

__all__ = ["lay_out"]


def lay_out(page: Page, answer: MakeAnswer, *, verbose: bool) -> None:
    """Lay out ``make``: what was built with what, what is in it, what it says of itself."""
    version = answer.interpreter.version
    if answer.environment is None:
        page.title("ok", f"This would make {answer.folder} with Python {version}.")
        page.part("the plan")
        if answer.anew:
            page.whole(f"set {answer.folder} aside, until it is forgotten", indent=4)
        page.whole(f"{answer.interpreter.path} -m venv {answer.folder}", indent=4)
        for requirement in answer.asked:
            page.whole(f"install {requirement}", indent=4)
    else:
        page.title(answer.status, f"{answer.folder} is an environment of Python {version}"
                   + (", and differs from what was asked." if answer.differs else "."))
        page.part("how we know")
        page.say("its interpreter is", lead="1  ")
        page.whole(answer.environment.interpreter.path if answer.environment.interpreter else "")
        page.say(f"it has {', '.join(f'{n} {v}' for n, v in answer.installed) or 'no packages'}", lead="2  ")
        proof = answer.enrolled.proof if answer.enrolled else None
        if proof is not None and answer.enrolled and answer.enrolled.kernel:
            page.say(f"its kernel {answer.enrolled.kernel.name} was started, and answered in "
                     f"{proof.seconds} s as", lead="3  ")
            page.whole(proof.prefix or "")
        for row in answer.differs:
            page.say(row, lead="!  ")
        page.part("what to do")
        page.say("Install into it with", lead="a  ")
        page.command((*page.own_command, "put", "NAME", "--at", answer.folder))
        if answer.keep_out is not None:
            page.say("Keep it out of version control (make --ignore does that at once).", lead="b  ")
            page.edit(answer.keep_out)
    for note in answer.notes:
        page.blank()
        page.say(note.message, "quiet", 2, "· ")
