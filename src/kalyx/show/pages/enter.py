"""The page of `kalyx enter`."""

from __future__ import annotations

from kalyx.show.parts import notes, show_findings

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.enter import EnterAnswer
    from kalyx.show.page import Page

__all__ = ["lay_out"]


def lay_out(page: Page, answer: EnterAnswer, *, verbose: bool) -> None:
    """Lay out ``enter``: what to type, what it does, and how to leave again."""
    environment, shell = answer.environment, answer.shell
    if answer.findings and environment is not None:
        page.title("problem", f"{environment.path} cannot be entered.")
        show_findings(page, answer.findings, verbose)
        return
    where = f" ({environment.path})" if environment is not None else ""
    page.title("ok", f"One line enters {environment.name}{where} in this {answer.shell_name}." if environment
               else f"One line leaves {answer.was}, and brings back what was before.")
    word = ("--leave",) if environment is None else (environment.path,)
    page.part("what to do")
    if shell.taken:
        page.say("Type:" if environment is not None else "Type, to leave:", lead="a  ")
        page.typed(shell.taken.format(command=page.quote(("kalyx", "enter", *word))))
    if environment is not None and answer.script is not None:
        page.say("Or read the environment's own script; that line has no way back but deactivate:"
                 if shell.taken else "Type:", lead="b  " if shell.taken else "a  ")
        page.typed(shell.source.format(path=shell.quote(answer.script)))
    elif not shell.taken:
        page.say("Type:", lead="a  ")
        page.typed(answer.line)
    if environment is not None:
        page.say("Or have a new shell started in it, which you leave by exit:",
                 lead="c  " if answer.script is not None and shell.taken else "b  ")
        page.typed(page.quote(("kalyx", "enter", environment.path, "--start")))
        if shell.taken:
            page.blank()
            page.say(f"{shell.taken.format(command='kalyx enter --leave')} leaves it again.", "quiet", 2, "· ")
    if verbose:
        page.part("the line")
        page.typed(answer.line)
    notes(page, answer.notes)
