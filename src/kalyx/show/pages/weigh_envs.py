"""The page of `kalyx weigh --envs`."""

from __future__ import annotations

from kalyx.show.parts import human_size, notes

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.answers.weigh import WeighEnvsAnswer
    from kalyx.core.model import WeighedEnvironment
    from kalyx.show.page import Page

__all__ = ["lay_out"]

MOST_NAMES = 5  # of the environments that have one as their base


def lay_out(page: Page, answer: WeighEnvsAnswer, *, verbose: bool) -> None:
    """Lay out all environments, the biggest first, and what is the same in several."""
    total = sum(e.total for e in answer.environments)
    count = len(answer.environments)
    what = "environments take" if count != 1 else "environment takes"
    page.title(answer.status, f"{count} {what} {human_size(total)} on the disk.")
    page.blank()
    names = {f"env:{e.environment.path}": e.environment.name for e in answer.environments}
    for one in answer.environments if verbose else answer.environments[:answer.most]:
        last = f"perhaps last used on {one.last_used[:10]}" if one.last_used else "never used, as far as files tell"
        version = one.environment.python_version or "?"
        page.say(f"{human_size(one.total):>9}  {one.environment.name:<24} Python {version}", indent=2)
        page.whole(one.environment.path, "path", 13)
        page.say(f"{last}; {_use_of(one, names)}", "quiet", 13)
    if answer.shared:
        page.part("the same in several")
        for row in answer.shared if verbose else answer.shared[:answer.most]:
            page.say(f"{human_size(row.bytes):>9}  {row.name:<24} {row.version or '?':<12} in {len(row.environments)}",
                     indent=2)
    notes(page, answer.notes)


def _use_of(one: WeighedEnvironment, known: Mapping[str, str]) -> str:
    """Say what uses an environment: seats, and those that cease to work without it."""
    names = [known[used] for used in one.used_by if used in known]
    seats = [used for used in one.used_by if used not in known]
    more = f" and {len(names) - MOST_NAMES} more" if len(names) > MOST_NAMES else ""
    said = [f"used by {', '.join(seats)}"] if seats else []
    said += [f"the base of {', '.join(names[:MOST_NAMES])}{more}"] if names else []
    return "; ".join(said) or ("the system's own" if one.environment.path == "/usr" else "no seat uses it")
