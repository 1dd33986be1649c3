"""The page of `kalyx envs`."""

from __future__ import annotations

from kalyx.show.parts import can_mend, human_size, mend_line, show_findings

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.envs import EnvsAnswer, Listed
    from kalyx.show.page import Page

__all__ = ["lay_out"]

LONGEST_USE = 34  # characters of what uses an environment, in its row


def lay_out(page: Page, answer: EnvsAnswer, *, verbose: bool) -> None:
    """Lay out ``envs``: the sum, then each environment, what ails it, and what to do."""
    listed = answer.environments
    ill = [e for e in listed if any(f.is_problem for f in e.environment.findings)]
    count = f"{len(listed)} environment{'s' if len(listed) != 1 else ''}"
    fit = (" that fits" if len(listed) == 1 else " that fit") if answer.filtered else " on this machine"
    page.title(answer.status, f"{count}{fit}" + (f", {len(ill)} of them not well." if ill else "."))
    page.blank()
    page.table([_row(item, ill=item in ill, verbose=verbose) for item in listed])
    for item in listed if verbose else ():
        for line in (*(f"also {other}" for other in item.other_paths),
                     *(["used by " + ", ".join(item.used_by)] if item.used_by else [])):
            page.say(f"{item.environment.name}: {line}", "quiet", 4)
    show_findings(page, tuple(f for e in listed for f in e.environment.findings), verbose)
    for item in (e for e in listed if can_mend(page, e.environment.findings)):
        mend_line(page, ("--at", f"env:{item.environment.path}"), item.environment.findings)
        break
    for note in answer.notes:
        page.blank()
        page.say(note.message, "quiet", 2, "· ")


def _row(item: Listed, *, ill: bool, verbose: bool) -> list[str]:
    """Return the row of an environment: the path stands last."""
    environment = item.environment
    size = [human_size(item.size)] if item.size is not None else []
    said = ["open to its base"] if item.open_to_base else []
    used = ", ".join(item.used_by)
    if used and not verbose:
        more = f" and {len(item.used_by) - 1} more" if len(item.used_by) > 1 else ""
        said.append(f"for {item.used_by[0]}{more}" if len(item.used_by[0]) < LONGEST_USE else
                    f"used {len(item.used_by)} times")
    return ["!" if ill else " ", environment.name, environment.kind, f"Python {environment.python_version or '?'}",
            *size, "; ".join(said), environment.path]
