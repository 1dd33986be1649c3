"""Kalyx's own commands where a remedy names them: carried out as a part of the change that is being made."""

from __future__ import annotations

from itertools import pairwise

from kalyx.core.changes.carry_out import OWN_COMMANDS
from kalyx.core.errors import Refused

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from kalyx.core.changes.entry import Entry
    from kalyx.core.facts.seats.context import SeatContext

    Progress = Callable[[str], object]

__all__ = ["do_own_command"]


def do_own_command(context: SeatContext, entry: Entry, words: Sequence[str], limit: float, progress: Progress) -> None:
    """Do what a command of Kalyx's own would do, as a part of a change.

    Raises:
        KalyxError: it cannot be done; nothing of it is left.
    """
    _COMMANDS[words[0]](context, entry, words[1:], limit, progress)


def _enrol(context: SeatContext, entry: Entry, words: Sequence[str], limit: float, progress: Progress) -> None:
    """Register an environment as a kernel."""
    from kalyx.core.answers.enrol import EnrolOptions, answer_enrol

    given = dict(pairwise(words))
    answer = answer_enrol(context, words[0], EnrolOptions(
        name=given.get("--name"), label=given.get("--label"), scope=given.get("--for", "me"), into=given.get("--into"),
        overwrite="--overwrite" in words, with_package="--with-kernel-package" in words), limit, entry)
    if answer.status != "ok":
        said = answer.findings[0].because if answer.findings else "the kernel did not answer"
        raise Refused(f"It could not be enrolled: {said}", "")


def _make(context: SeatContext, entry: Entry, words: Sequence[str], limit: float, progress: Progress) -> None:
    """Build an environment, or one in another's place."""
    from kalyx.core.answers.make import MakeOptions, answer_make

    given = dict(pairwise(words))
    answer = answer_make(context, MakeOptions(words[0], given.get("--python"), like=given.get("--like"),
                                              anew="--anew" in words), limit, progress, entry)
    if answer.differs:
        raise Refused(f"It is not as it was asked for: {answer.differs[0]}.", "")


def _retire(context: SeatContext, entry: Entry, words: Sequence[str], limit: float, progress: Progress) -> None:
    """Take a kernel out of the menu."""
    from kalyx.core.answers.changes import answer_retire, plan_retire

    plan = plan_retire(context, [w for w in words if not w.startswith("-")], with_env=False, stale=False)
    answer_retire(context, plan, dry_run=False, part_of=entry)


_COMMANDS = dict(zip(OWN_COMMANDS, (_enrol, _make, _retire), strict=True))
