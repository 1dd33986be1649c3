"""The pages of `here`, `why` and `packages` for places elsewhere: who says what, then each answer as ever."""

from __future__ import annotations

from kalyx.show.parts import notes

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.from_elsewhere import ElsewhereAnswer
    from kalyx.core.answers.why.module import WhyAnswer
    from kalyx.core.model import ImportReport, Places
    from kalyx.show.page import Page

__all__ = ["lay_out"]

SAYS = {"imports": "imports", "fails": "does not import", "unknown": "could not be told"}


def lay_out(page: Page, answer: ElsewhereAnswer, *, verbose: bool) -> None:
    """Lay out the answers: of several the summary first, each under the hosts that gave it."""
    of_command = __import__(f"kalyx.show.pages.{answer.command}", fromlist=["lay_out"])
    page.elsewhere = True
    total = sum(p.count for p in answer.places)
    if not answer.answers:
        page.title("unknown", "Nothing could be found out.")
    elif len(answer.answers) > 1:
        page.title(answer.status, _summary(answer, total))
        page.blank()
        page.table([[f"{p.count} of {total}", _in_short(answer, n), p.label] for n, p in enumerate(answer.places)])
    for places, one in answer.answers:
        page.blank()
        if len(answer.answers) > 1 or places.count > 1:
            page.part(f"{places.count} of {total}: {places.label}" if total > 1 else places.label)
        of_command.lay_out(page, one, verbose=verbose)
    notes(page, answer.notes)


def _summary(answer: ElsewhereAnswer, total: int) -> str:
    """Return the sum of several answers in one sentence."""
    if answer.command != "why":
        return f"{total} places say {len(answer.answers)} different things."
    why: list[tuple[Places, WhyAnswer]] = list(answer.answers)  # type: ignore[arg-type]
    well = sum(p.count for p, a in why if all(r.outcome == "imports" for r in a.imports))
    names = ", ".join(r.request for r in why[0][1].imports)
    if well == total:
        return f"All {total} places import {names}, and not the same."
    return f"{well or 'None'} of {total} places import{'s' if well == 1 else ''} {names}" + (
        f"; {total - well} do{'es' if total - well == 1 else ''} not." if well else ".")


def _in_short(answer: ElsewhereAnswer, number: int) -> str:
    """Return what one of the answers says, in a few words."""
    found = answer.answers[number][1]
    if answer.command == "why":
        return _imports_in_short(found)  # type: ignore[arg-type]
    return {"problem": "something is wrong", "ok": "nothing is wrong"}.get(found.status, "could not be told")


def _imports_in_short(answer: WhyAnswer) -> str:
    failing = [r for r in answer.imports if r.outcome != "imports"]
    if not failing:
        return "imports" if len(answer.imports) == 1 else "all import"
    return "; ".join(_import_in_short(r, alone=len(answer.imports) == 1) for r in failing[:3])


def _import_in_short(report: ImportReport, *, alone: bool) -> str:
    says = SAYS[report.outcome] if report.error is None else str(report.error["message"]).split("\n")[0]
    return says if alone else f"{report.request}: {says}"
