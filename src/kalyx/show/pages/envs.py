"""The page of `kalyx envs`."""

from __future__ import annotations

from kalyx.show.parts import can_mend, human_size, mend_line, show_findings

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.envs import EnvsAnswer
    from kalyx.show.page import Page

__all__ = ["lay_out"]


def lay_out(page: Page, answer: EnvsAnswer, *, verbose: bool) -> None:
    """Lay out ``envs``: the sum, then each environment, what ails it, and what to do."""
    listed = answer.environments
    ill = [e for e in listed if any(f.is_problem for f in e.environment.findings)]
    count = f"{len(listed)} environment{'s' if len(listed) != 1 else ''}"
    fit = (" that fits" if len(listed) == 1 else " that fit") if answer.filtered else " on this machine"
    page.title(answer.status, f"{count}{fit}" + (f", {len(ill)} of them not well." if ill else "."))
    page.blank()
    for item in listed:
        environment = item.environment
        mark = "!" if item in ill else " "
        size = f"  {human_size(item.size)}" if item.size is not None else ""
        page.say(f"{mark} {environment.name:<26} {environment.kind:<6} Python "
                 f"{environment.python_version or '?':<9}{size}"
                 + ("  open to its base" if item.open_to_base else ""), indent=2)
        page.whole(environment.path, "path", 4)
        for other in item.other_paths:
            page.whole(f"also {other}", "path", 4)
        if item.used_by:
            page.say("used by " + ", ".join(item.used_by), "quiet", 4)
    show_findings(page, tuple(f for e in listed for f in e.environment.findings), verbose)
    for item in (e for e in listed if can_mend(page, e.environment.findings)):
        mend_line(page, ("--at", f"env:{item.environment.path}"), item.environment.findings)
        break
    for note in answer.notes:
        page.blank()
        page.say(note.message, "quiet", 2, "· ")
