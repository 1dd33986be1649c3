"""``retire``, ``changes`` and ``undo``: taking registrations away, and taking changes back."""

from __future__ import annotations

from datetime import datetime, timedelta, timezone

from kalyx.core.answers.kernels import answer_kernels, is_stale
from kalyx.core.answers.retire_guard import in_use_by, why_not_taken
from kalyx.core.changes.actions import free_place
from kalyx.core.changes.journal import RETIRED, Journal, kept_beside
from kalyx.core.errors import NothingToJudge, Refused
from kalyx.core.lean.record import record
from kalyx.core.model import Note

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.changes.entry import Change, Entry
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.model import Environment, Kernel

__all__ = ["ChangesAnswer", "RetireAnswer", "RetirePlan", "answer_changes", "answer_retire", "answer_undo",
           "plan_retire"]


OLD_DAYS = 30


@record
class RetirePlan:
    """What would go: kernels, and environments with them; ``places`` says where each is kept."""

    kernels: tuple[Kernel, ...]
    environments: tuple[str, ...]
    notes: tuple[Note, ...] = ()


@record
class RetireAnswer:
    """What went, and the journal's entries; none of them in a dry run."""

    plan: RetirePlan
    changes: tuple[Change, ...] = ()
    dry_run: bool = False
    notes: tuple[Note, ...] = ()
    status: str = "ok"


@record
class ChangesAnswer:
    """Entries of the journal."""

    changes: tuple[Change, ...]
    undone: bool = False
    notes: tuple[Note, ...] = ()
    status: str = "ok"


def plan_retire(context: SeatContext, names: Sequence[str], *, with_env: bool, stale: bool,
                anyway: bool = False) -> RetirePlan:
    """Return what retiring would take away; `anyway` also takes an environment that something uses.

    Raises:
        NothingToJudge: there is no such kernel.
        Refused: an environment must not be moved.
    """
    listed = [item.kernel for item in answer_kernels(context).kernels]
    chosen: list[Kernel] = [k for k in listed if is_stale(k)] if stale else []
    for name in names:
        found = next((k for k in listed if k.name == name.removeprefix("kernel:").lower()), None)
        if found is None:
            known = ", ".join(dict.fromkeys(k.name for k in listed)) or "none"
            raise NothingToJudge(f"There is no kernel {name!r} registered here.", f"Registered: {known}.")
        if found not in chosen:
            chosen.append(found)
    environments: list[str] = []
    notes: list[Note] = []
    for kernel in chosen if with_env else []:
        environment = kernel.environment
        if environment is None:
            notes.append(Note("no-environment", f"The kernel {kernel.name} has no environment that is there.",
                              kernel.spec))
        elif environment.kind == "base":
            raise Refused(f"{environment.path} is an interpreter's own installation, not an environment.",
                          "Retire the kernel alone.")
        elif environment.path not in environments:
            _refuse_more(context, environment, anyway=anyway)
            environments.append(environment.path)
            others = [k.name for k in listed if k not in chosen and k.environment is not None
                      and context.machine.same(k.environment.path, environment.path)]
            if others and not anyway:
                raise Refused(f"{environment.path} is also what the kernel{'s' if len(others) > 1 else ''} "
                              f"{', '.join(others)} runs.", "Name those too, or say --anyway.")
            if others:
                notes.append(Note("also-used", f"{environment.path} is also what the kernel"
                                  f"{'s' if len(others) > 1 else ''} {', '.join(others)} runs.",
                                  environment.path))
    return RetirePlan(tuple(chosen), tuple(environments), tuple(notes))


def _refuse_more(context: SeatContext, environment: Environment, *, anyway: bool) -> None:
    """Refuse to take away more than the environment that was named, or what is in use."""
    why = why_not_taken(context, environment)
    if why:
        raise Refused(f"{why}. It is not taken away.", "Retire the kernel alone, and see to the folder yourself.")
    used = "" if anyway else in_use_by(context, environment)
    if used:
        raise Refused(f"{used}. It is not taken away.", "End it first, or say --anyway.")


def answer_retire(context: SeatContext, plan: RetirePlan, *, dry_run: bool, part_of: Entry | None = None
                  ) -> RetireAnswer:
    """Move kernels, and environments with them, aside; each kernel is one entry of the journal, or a part of one.

    Raises:
        Refused: something cannot be moved.
    """
    if dry_run or not plan.kernels:
        return RetireAnswer(plan, dry_run=dry_run, notes=plan.notes)
    journal = Journal(context.machine)
    changes: list[Change] = []
    left = list(plan.environments)
    for kernel in plan.kernels:
        places = [(kernel.folder, _kept_kernel(context, kernel))]
        if kernel.environment is not None and kernel.environment.path in left:
            path = kernel.environment.path
            left.remove(path)
            places.append((path, kept_beside(path)))
        with journal.change(f"retire {kernel.name}", part_of) as entry:
            known = len(entry.change.actions)
            try:
                for place, kept in places:
                    entry.set_aside(place, kept)
            except Refused:
                while len(entry.change.actions) > known:
                    entry.take_back_last()
                raise
        changes.append(entry.change)
    return RetireAnswer(plan, tuple(changes), notes=plan.notes)


def _kept_kernel(context: SeatContext, kernel: Kernel) -> str:
    """Return where a kernel's folder is kept: beside the kernels, where no server looks."""
    m = context.machine
    kernels = m.path.dirname(kernel.folder)
    return free_place(m.path.join(m.path.dirname(kernels), RETIRED, kernel.name))


def answer_changes(context: SeatContext, forget: int | str | None) -> ChangesAnswer:
    """List the journal; with `forget` delete for good what one change keeps, every one (all), or every old one (old).

    Raises:
        NothingToJudge: there is no such change.
    """
    journal = Journal(context.machine)
    entries, broken = journal.entries()
    if forget is not None:
        chosen = entries if forget == "all" else [c for c in entries if _is_old(c)] if forget == "old" else [
            journal.find(int(forget))]
        for change in chosen:
            if change.state == "done" and (change.moves or change.installed):
                journal.forget(change)
        entries, broken = journal.entries()
    notes = [Note("entry-unreadable", f"{path} cannot be read as an entry of the journal.", path) for path in broken]
    old = [c for c in entries if _is_old(c) and c.bytes_kept]
    if old:
        many = len(old) > 1
        notes.append(Note("old-changes", f"{len(old)} change{'s are' if many else ' is'} older than {OLD_DAYS} days, "
                          f"and keep{'' if many else 's'} something for undo: kalyx changes --forget old frees it."))
    return ChangesAnswer(tuple(entries), notes=tuple(notes))


def _is_old(change: Change) -> bool:
    """Whether a change that stands was made so long ago that nobody will take it back."""
    try:
        made = datetime.fromisoformat(change.when)
    except ValueError:
        return False
    made = made if made.tzinfo else made.replace(tzinfo=timezone.utc)
    return change.state == "done" and datetime.now(timezone.utc) - made > timedelta(days=OLD_DAYS)


def answer_undo(context: SeatContext, number: int | None) -> ChangesAnswer:
    """Take one change back, the latest without a number.

    Raises:
        NothingToJudge: there is none.
        Refused: something was changed since.
    """
    journal = Journal(context.machine)
    return ChangesAnswer((journal.take_back(journal.find(number)),), undone=True)
