"""The page of ``ask``."""

from __future__ import annotations

from kalyx.show.parts import show_findings

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.ask import AskAnswer, Asked
    from kalyx.show.page import Page

__all__ = ["lay_out"]

SAYS = {"error": "it failed", "timeout": "the time was up", "busy": "it is busy",
        "unknown": "it could not be asked"}


def lay_out(page: Page, answer: AskAnswer, *, verbose: bool) -> None:
    """Lay out ``ask``: what each seat said; of several, side by side question by question."""
    if answer.code is None and len(answer.seats) > 1:
        _side_by_side(page, answer)
        return
    for asked in answer.seats:
        page.blank()
        _one(page, asked, answer.code)


def _one(page: Page, asked: Asked, code: str | None) -> None:
    mark = {"ok": "ok", "error": "problem"}.get(asked.outcome, "unknown")
    if asked.outcome != "ok":
        page.title(mark, f"{asked.seat}: {SAYS[asked.outcome]}.")
        page.say(asked.error or "", indent=4)
        if asked.findings:
            show_findings(page, asked.findings, False)
    elif asked.who is not None:
        page.title(mark, f"{asked.seat} is Python {asked.who.version} in {asked.who.prefix}.")
        page.whole(f"sys.executable  {asked.who.executable}", indent=4)
        page.whole(f"sys.prefix      {asked.who.prefix}", indent=4)
        for number, entry in enumerate(asked.who.path):
            page.whole(f"{'sys.path' if number == 0 else '':<15} {entry or '(the working folder)'}", indent=4)
        page.whole(f"pip goes to     {asked.who.pip or 'nothing: no pip is on its PATH'}", indent=4)
    else:
        page.title(mark, f"{asked.seat} answered" + (":" if asked.output or asked.value else " nothing."))
    for row in (*asked.output.splitlines(), *(asked.value or "").splitlines()):
        page.literal(row)


def _side_by_side(page: Page, answer: AskAnswer) -> None:
    prefixes = {a.who.prefix for a in answer.seats if a.who}
    known = [a for a in answer.seats if a.who]
    if len(known) == len(answer.seats):
        said = "are the same environment" if len(prefixes) == 1 else (
            f"are {len(prefixes)} different environments")
        page.title("ok", f"These {len(answer.seats)} seats {said}.")
    else:
        page.title("unknown", f"{len(known)} of these {len(answer.seats)} seats answered.")
    width = max(len(page.short(a.seat)) for a in answer.seats)
    for question in ("executable", "prefix", "version", "pip"):
        page.part(question)
        for asked in known:
            page.whole(f"{page.short(asked.seat):<{width}}  {getattr(asked.who, question) or 'none'}", indent=4)
    for asked in answer.seats:
        if asked.who is None:
            page.blank()
            page.say(f"{asked.seat}: {asked.error or SAYS.get(asked.outcome, '')}", "quiet", 2, "· ")
