"""``mend``: the remedies of what is wrong, carried out one after the other, until it is well; one change, one undo."""

from __future__ import annotations

import os

from kalyx.core.answers.do_remedy import do_remedy
from kalyx.core.answers.mend_plan import Plan, installed_at, plan_of, what_happened
from kalyx.core.changes.carry_out import check_edits, why_not_carried_out
from kalyx.core.changes.journal import Journal
from kalyx.core.errors import KalyxError, NothingToJudge
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.seats.finder import find_seat
from kalyx.core.lean.record import record, replace
from kalyx.core.model import Note
from kalyx.core.verdicts.seats.judge_seat import judge_seat

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence
    from typing import Literal

    from kalyx.core.changes.entry import Change, Entry
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.model import Finding, Remedy

    Outcome = Literal["mended", "well", "left", "planned"]
    Ask = Callable[["MendRound"], bool]

__all__ = ["MOST_ROUNDS", "MendAnswer", "MendOptions", "MendRound", "answer_mend"]

MOST_ROUNDS = 8


@record
class MendOptions:
    """What is to be mended: modules, files, or what ``here`` finds; and how."""

    what: tuple[str, ...] = ()
    at: str | None = None
    choose: str = ""
    yes: bool = False  # nobody is asked: what would break something is not taken unless it was chosen
    dry_run: bool = False
    rounds: int = MOST_ROUNDS
    limit: float = 60.0


@record
class MendRound:
    """One finding, the remedy that was taken, what it would change, and what became of it."""

    number: int
    finding: Finding
    remedy: Remedy | None
    done: bool = False
    why_not: str = ""
    change: int | None = None
    plan: Plan = Plan()


@record
class MendAnswer:
    """The rounds, how it ended, and what is left for a person."""

    asked: tuple[str, ...]
    rounds: tuple[MendRound, ...]
    outcome: Outcome
    left: tuple[Finding, ...] = ()
    change: Change | None = None
    notes: tuple[Note, ...] = ()

    @property
    def status(self) -> str:
        """Whether it is well now."""
        return "ok" if self.outcome in ("mended", "well") else "problem"


def answer_mend(fresh: Callable[[], SeatContext], wanted: MendOptions, ask: Ask | None,
                progress: Callable[[str], object] = bool) -> MendAnswer:
    """Judge, take a remedy, carry it out, judge again, until nothing is wrong or nothing more can be done.

    `fresh` gives what judging needs, anew each time. `ask` is told each round before it is carried out, and says
    whether it is to be; without it nothing is carried out: the first round is planned.

    Raises:
        KalyxError: what is to be mended is not there; another Kalyx is changing something.
    """
    found, asked = _judged(fresh(), wanted), wanted.what or ((wanted.at,) if wanted.at else ())
    if not found:
        return MendAnswer(asked, (), "well")
    mender = _Mender(fresh, wanted, ask, progress)
    if ask is None or wanted.dry_run:
        first = mender.proposed(found, 1)
        return MendAnswer(asked, (first,), "planned", tuple(found))
    with Journal(fresh().machine).change(f"mend {' '.join(asked) or 'what here finds'}") as entry:
        rounds, left = mender.all_rounds(found, entry)
    change = entry.change if entry.change.actions else None
    numbered = tuple(replace(r, change=change.number) if change is not None and r.done else r for r in rounds)
    return MendAnswer(asked, numbered, "left" if left else "mended", tuple(left), change)


def _judged(context: SeatContext, wanted: MendOptions) -> list[Finding]:
    """Return what is wrong now, the most important first; a failing import by its first cause."""
    if not wanted.what and wanted.at:
        return _at_seat(context, wanted.at)
    if not wanted.what:
        from kalyx.core.answers.here import answer_here

        here = answer_here(context)
        found = [*(f for s in here.seats for f in s.all_findings), *here.findings]
        return list({(f.cause, f.because): f for f in found if f.is_problem}.values())
    if any(w.endswith((".py", ".ipynb")) or "/" in w or os.sep in w or w in (".", "..") for w in wanted.what):
        from kalyx.core.answers.why.files import answer_files

        answer = answer_files(context, wanted.what, wanted.at, wanted.limit)
        firsts = [(g, next((r.causes[0] for r in answer.imports if r.request in g.imports and r.causes), None))
                  for g in answer.groups]
        return [replace(first, because=g.because, remedies=g.remedies) for g, first in firsts if first]
    from kalyx.core.answers.why.module import answer_why

    reports = answer_why(context, wanted.what, wanted.at or "shell", wanted.limit).imports
    return [next(f for f in r.causes if f.is_problem) for r in reports if any(f.is_problem for f in r.causes)]


def _at_seat(context: SeatContext, ref: str) -> list[Finding]:
    """Return what is wrong with a seat itself, and with what is installed there."""
    from kalyx.core.answers.packages import answer_packages

    facts = find_seat(context, ref)
    seat = judge_seat(facts, context.machine, Neighbours(context.machine, context))
    found = list(seat.all_findings)
    if not seat.cannot_run:
        try:
            found += answer_packages(context, ref, conflicts=True).all_findings
        except NothingToJudge:  # what it can import cannot be told: what is known of it stands
            pass
    return list({(f.cause, f.because): f for f in found if f.is_problem}.values())


class _Mender:
    """Goes through the rounds."""

    def __init__(self, fresh: Callable[[], SeatContext], wanted: MendOptions, ask: Ask | None,
                 progress: Callable[[str], object]) -> None:
        self._fresh = fresh
        self._wanted = wanted
        self._ask = ask
        self._progress = progress
        self._tried: list[tuple[str, str]] = []
        self._own = fresh().machine.own_command  # how remedies start Kalyx itself

    def all_rounds(self, found: list[Finding], entry: Entry) -> tuple[list[MendRound], list[Finding]]:
        """Carry out remedies until it is well; return the rounds, and what is left."""
        rounds: list[MendRound] = []
        while found and len(rounds) < self._wanted.rounds:
            one = self.proposed(found, len(rounds) + 1)
            if one.remedy is not None and not one.why_not:
                one = self._carried_out(one, entry)
            rounds.append(one)
            if not one.done:
                return rounds, found
            self._tried.append((one.finding.cause, one.finding.because))
            self._progress("looking whether it is well now …")
            found = _judged(self._fresh(), self._wanted)
            same = next((f for f in found if (f.cause, f.because) in self._tried), None)
            if same is not None:
                rounds[-1] = replace(rounds[-1], why_not="that remedy did not help: the same is found again")
                return rounds, found
        return rounds, found

    def proposed(self, found: Sequence[Finding], number: int) -> MendRound:
        """Return the round that comes next: the first finding that has a remedy which can be carried out."""
        letters = self._wanted.choose
        chosen = letters[min(number, len(letters)) - 1] if letters else ""
        if chosen:
            place = "abcdefghijklmnopqrstuvwxyz".find(chosen)
            if not 0 <= place < len(found[0].remedies):
                return MendRound(number, found[0], None, why_not=f"it has no remedy {chosen}")
            return self._round(number, found[0], found[0].remedies[place], is_settled=self._wanted.yes)
        passed_over: MendRound | None = None
        for finding in found:
            for remedy in (r for r in finding.remedies if not why_not_carried_out(r, self._own)):
                one = self._round(number, finding, remedy)
                if one.plan.breaks and self._wanted.yes:
                    one = replace(one, why_not=f"it would break something: {one.plan.breaks[0].because}")
                if not one.why_not:
                    return one
                passed_over = passed_over or one
        return passed_over or MendRound(number, found[0], None, why_not="what is left is for a person to do")

    def _round(self, number: int, finding: Finding, remedy: Remedy, *, is_settled: bool = False) -> MendRound:
        """Return a round with what its remedy would change; where it is settled, that is seen afterwards."""
        why_not = why_not_carried_out(remedy, self._own)
        if why_not:
            return MendRound(number, finding, remedy, why_not=why_not)
        if is_settled and not self._wanted.dry_run:
            return MendRound(number, finding, remedy)
        if remedy.argv:
            self._progress("working out what would change …")
        plan = plan_of(self._fresh(), self._wanted.at, remedy)
        return MendRound(number, finding, remedy, why_not=plan.trouble, plan=plan)

    def _carried_out(self, one: MendRound, entry: Entry) -> MendRound:
        """Ask, and carry a remedy out; return the round with what became of it."""
        assert one.remedy is not None and self._ask is not None
        try:
            check_edits(one.remedy)
            if not self._ask(one):
                return replace(one, why_not="it was not wanted")
            self._progress(f"{one.remedy.do} …")
            is_seen_after = self._wanted.yes and bool(self._wanted.choose)
            before = installed_at(self._fresh(), self._wanted.at, one.remedy) if is_seen_after else []
            do_remedy(self._fresh(), entry, one.remedy, self._wanted.limit, self._progress)
            if is_seen_after:
                after = installed_at(self._fresh(), self._wanted.at, one.remedy)
                one = replace(one, plan=what_happened(before, after))
        except KalyxError as error:
            return replace(one, why_not=error.message)
        return replace(one, done=True)
