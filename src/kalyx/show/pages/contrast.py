"""The page of `kalyx contrast`."""

from __future__ import annotations

from kalyx.show.parts import notes, show_findings

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.answers.contrast import ContrastAnswer
    from kalyx.core.model import Listed
    from kalyx.show.page import Page

__all__ = ["lay_out"]

MOST_ROWS = 12


def lay_out(page: Page, answer: ContrastAnswer, *, verbose: bool) -> None:
    """Lay out ``contrast``: the sum, what matters, Python, distributions, search path and variables."""
    a, b, found = answer.a, answer.b, answer.differences
    names = f"A ({a.label}) and B ({b.label})"
    if answer.same:
        python = f", Python {a.python or b.python}" if a.python or b.python else ""
        page.title("ok", f"{names} are the same: {found.same} distributions{python}.")
        notes(page, answer.notes)
        return
    kinds = ((found.only_a, "in A alone"), (found.only_b, "in B alone"),
             (found.differ, "in another version or from elsewhere"))
    counts = [f"{len(rows)} {what}" for rows, what in kinds if rows]
    page.title(answer.status, f"{names} differ: " + (", ".join(counts) or "not in their distributions") + ".")
    show_findings(page, answer.findings, verbose)
    if not (answer.same_python and answer.same_platform):
        page.part("Python")
        page.say(f"A: {a.python or '?'}, {a.platform or 'of a platform that is not known'}", indent=4)
        page.say(f"B: {b.python or '?'}, {b.platform or 'of a platform that is not known'}", indent=4)
    if found.differ:
        page.part("in both, and not the same")
        for one in found.differ if verbose else found.differ[:MOST_ROWS]:
            page.say(f"{one.name:<26} A {one.a or '?':<16} B {one.b or '?'}", indent=4)
            if one.newer is None or "your code" in one.because:
                page.say(one.because, "quiet", 6)
        _more(page, found.differ, verbose=verbose)
    for rows, what in ((found.only_a, "in A alone"), (found.only_b, "in B alone")):
        _list(page, rows, what, verbose=verbose)
    for paths, what in ((found.path_only_a, "on the search path of A alone"),
                        (found.path_only_b, "on the search path of B alone")):
        if paths:
            page.part(what)
            for path in paths:
                page.whole(path, "path", 4)
    if found.variables:
        page.part("variables")
        for name, mine, theirs in found.variables:
            values = ["not set" if value is None else value for value in (mine, theirs)]
            page.say(f"{name}: A {values[0]}, B {values[1]}", indent=4)
    page.remedies(answer.remedies)
    notes(page, answer.notes)


def _list(page: Page, rows: Sequence[Listed], what: str, *, verbose: bool) -> None:
    if not rows:
        return
    page.part(what)
    for one in rows if verbose else rows[:MOST_ROWS]:
        page.say(f"{one.name:<26} {one.shown}", indent=4)
    _more(page, rows, verbose=verbose)


def _more(page: Page, rows: Sequence[object], *, verbose: bool) -> None:
    if len(rows) > MOST_ROWS and not verbose:
        page.say(f"and {len(rows) - MOST_ROWS} more; --verbose lists them", "quiet", 4)
