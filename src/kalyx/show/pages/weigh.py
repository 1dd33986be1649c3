"""The page of `kalyx weigh`."""

from __future__ import annotations

from kalyx.show.parts import human_size, notes

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.weigh import WeighAnswer
    from kalyx.show.page import Page

__all__ = ["lay_out"]

MOST_LEFT = 5
BAR = 24  # columns


def lay_out(page: Page, answer: WeighAnswer, *, verbose: bool) -> None:
    """Lay out ``weigh``: the sum, each distribution with what would go with it, what nobody owns."""
    place = f"{answer.environment.name} ({answer.environment.path})"
    page.title(answer.status, f"{place} takes {human_size(answer.total)} on the disk.")
    largest = max((d.bytes for d in answer.distributions), default=0) or 1
    shown = answer.distributions if verbose else answer.distributions[:answer.most]
    has_conda = any(d.by_conda for d in answer.distributions)
    if shown:
        page.part("by distribution, and by package of conda's" if has_conda else "by distribution")
    for one in shown:
        bar = "#" * max(1, round(BAR * one.bytes / largest)) if one.bytes else ""
        by = f"{'conda' if one.by_conda else '':<6}" if has_conda else ""
        page.say(f"{human_size(one.bytes):>9}  {one.name:<24} {one.version or '?':<12} {by}{bar}", indent=2)
        said = []
        if one.goes_with:
            said.append(f"{human_size(one.alone)} would go with it: {', '.join(one.goes_with[:4])}"
                        + (" …" if len(one.goes_with) > 4 else ""))
        if one.needed_by:
            said.append(f"needed by {', '.join(one.needed_by[:4])}" + (" …" if len(one.needed_by) > 4 else ""))
        if verbose:
            said.append(f"{one.files} files, {human_size(one.bytecode)} of them bytecode; "
                        f"seems to be {human_size(one.apparent)}")
        for row in said:
            page.say(row, "quiet", 13)
    left = answer.distributions[len(shown):]
    if left:
        page.say(f"{human_size(sum(d.bytes for d in left)):>9}  in {len(left)} more; --most N or --verbose lists them",
                 "quiet", 2)
    if answer.unowned.bytes:
        page.part("of no distribution")
        page.say(f"{human_size(answer.unowned.bytes):>9}  {answer.unowned.files} files: "
                 f"{'' if has_conda else 'Python itself, and '}what no distribution lists", indent=2)
        for path in answer.unowned.paths if verbose else answer.unowned.paths[:MOST_LEFT]:
            page.whole(path, "path", 13)
    if answer.shared:
        page.say(f"{human_size(answer.shared):>9}  more are hard links to what is counted already", "quiet", 2)
    page.remedies(answer.remedies)
    if answer.plot:
        page.blank()
        page.say(f"It is drawn in {answer.plot}", "quiet", 2, "· ")
    notes(page, answer.notes)
