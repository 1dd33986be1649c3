"""``mend``: the remedies of what is wrong, carried out one after the other, until it is well; one change, one undo."""

from __future__ import annotations

import os
from itertools import pairwise

from kalyx.core.answers.mend_plan import Plan, plan_of
from kalyx.core.answers.pip_changes import run_watched
from kalyx.core.answers.put import PIP_LIMIT, what_pip_said
from kalyx.core.changes.carry_out import check_edits, do_edits, do_file_command, is_file_command
from kalyx.core.changes.journal import RETIRED, Journal
from kalyx.core.errors import KalyxError, Refused
from kalyx.core.facts.interpreters.environment import is_environment, name_of, prefix_of
from kalyx.core.lean.record import record, replace
from kalyx.core.model import Environment, Note

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence
    from typing import Literal

    from kalyx.core.changes.journal import Change, Entry
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.machine.interface import Machine
    from kalyx.core.model import Finding, Remedy

    Outcome = Literal["mended", "well", "left", "planned"]
    Ask = Callable[["MendRound"], bool]

__all__ = ["MOST_ROUNDS", "MendAnswer", "MendOptions", "MendRound", "answer_mend"]

MOST_ROUNDS = 8
# What changes the system or permissions, so that Kalyx could not take it back: that is done by the person
_SYSTEMS = ("apt-get", "apt", "dnf", "yum", "brew", "sudo", "conda", "icacls", "cmd", "chmod")


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
    found = _judged(fresh(), wanted)
    if not found:
        return MendAnswer(wanted.what, (), "well")
    mender = _Mender(fresh, wanted, ask, progress)
    if ask is None or wanted.dry_run:
        first = mender.proposed(found, 1)
        return MendAnswer(wanted.what, (first,), "planned", tuple(found))
    with Journal(fresh().machine).change(f"mend {' '.join(wanted.what) or 'what here finds'}") as entry:
        rounds, left = mender.all_rounds(found, entry)
    change = entry.change if entry.change.actions else None
    numbered = tuple(replace(r, change=change.number) if change is not None and r.done else r for r in rounds)
    return MendAnswer(wanted.what, numbered, "left" if left else "mended", tuple(left), change)


def _judged(context: SeatContext, wanted: MendOptions) -> list[Finding]:
    """Return what is wrong now, the most important first; a failing import by its first cause."""
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
            return self._round(number, found[0], found[0].remedies[place])
        passed_over: MendRound | None = None
        for finding in found:
            for remedy in (r for r in finding.remedies if not _why_not(r, self._own)):
                one = self._round(number, finding, remedy)
                if one.plan.breaks and self._wanted.yes:
                    one = replace(one, why_not=f"it would break something: {one.plan.breaks[0].because}")
                if not one.why_not:
                    return one
                passed_over = passed_over or one
        return passed_over or MendRound(number, found[0], None, why_not="what is left is for a person to do")

    def _round(self, number: int, finding: Finding, remedy: Remedy) -> MendRound:
        """Return a round with what its remedy would change."""
        why_not = _why_not(remedy, self._own)
        if why_not:
            return MendRound(number, finding, remedy, why_not=why_not)
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
            own = self._own
            if own == one.remedy.argv[:len(own)]:
                _enrol(self._fresh(), entry, one.remedy.argv[len(own) + 1:], self._wanted.limit)
            else:
                _do(self._fresh().machine, entry, one.remedy, self._what_failed)
        except KalyxError as error:
            return replace(one, why_not=error.message)
        return replace(one, done=True)

    def _what_failed(self, ran: object) -> str:
        return what_pip_said(self._fresh(), ran)[0]  # type: ignore[arg-type]


def _why_not(remedy: Remedy, own: tuple[str, ...]) -> str:
    """Return why a remedy is not carried out by Kalyx; empty where it can be."""
    if remedy.kind == "manual":
        return "it is for a person to do"
    if remedy.is_trial:
        return "it shows the way, and changes nothing"
    if remedy.argv and os.path.basename(remedy.argv[0]) in _SYSTEMS:
        return f"what {remedy.argv[0]} does could not be taken back: that is for you to run"
    if remedy.argv[:2] == ("sh", "-c") and own[0] in remedy.argv[2]:
        return "it makes an environment anew, in more than one step: that is for you to run"
    if own == remedy.argv[:len(own)] and remedy.argv[len(own):len(own) + 1] != ("enrol",):
        return "it is a command of its own: that is for you to run"
    return ""


def _enrol(context: SeatContext, entry: Entry, words: Sequence[str], limit: float) -> None:
    """Register an environment as a kernel, as a remedy's command line says it, as a part of this change.

    Raises:
        Refused: it did not answer, or cannot be registered.
    """
    from kalyx.core.answers.enrol import EnrolOptions, answer_enrol

    given = dict(pairwise(words))
    answer = answer_enrol(context, words[0], EnrolOptions(
        name=given.get("--name"), label=given.get("--label"), scope=given.get("--for", "me"), into=given.get("--into"),
        overwrite="--overwrite" in words, with_package="--with-kernel-package" in words), limit, entry)
    if answer.status != "ok":
        said = answer.findings[0].because if answer.findings else "the kernel did not answer"
        raise Refused(f"It could not be enrolled: {said}", "")


def _do(machine: Machine, entry: Entry, remedy: Remedy, what_failed: Callable[[object], str]) -> None:
    """Carry out one remedy, noted in the journal.

    Raises:
        Refused: it failed; what it had changed is taken back.
    """
    if remedy.kind == "edit":
        do_edits(entry, remedy)
        return
    if is_file_command(remedy.argv):
        kept = os.path.join(Journal(machine).folder, f"{entry.change.number:06d}.kept", RETIRED,
                            str(len(entry.change.actions)))
        do_file_command(entry, remedy.argv, kept)
        return
    env = {**machine.env, **remedy.env, "PIP_DISABLE_PIP_VERSION_CHECK": "1"}
    ran, changed = run_watched(machine, entry, _changed_by(machine, remedy.argv), None,
                               lambda: machine.run(remedy.argv, env=env, cwd=remedy.cwd, limit=PIP_LIMIT))
    if ran.status != 0:
        if changed:
            entry.take_back_last()
        raise Refused(f"It failed: {what_failed(ran)}", "What it had changed was taken back.")


def _changed_by(machine: Machine, argv: Sequence[str]) -> Environment:
    """Return the environment that a command line changes: that of the last program in it that is one's interpreter."""
    m, words = machine, list(argv)
    if words[:2] == ["sh", "-c"]:
        import shlex

        words = shlex.split(words[2])
    if "--python" in words[:-1]:
        words = [words[words.index("--python") + 1]]
    programs = [w for w in words if m.path.isabs(w) and m.is_file(w)]
    folders = [w for w in words if m.path.isabs(w) and m.is_folder(w) and is_environment(m, w)]
    prefix = folders[-1] if folders else prefix_of(m, programs[0]) if programs else m.cwd
    kind = "conda" if m.exists(m.path.join(prefix, "conda-meta")) else "venv"
    return Environment(prefix, name_of(m, prefix), kind, None, None)  # type: ignore[arg-type]
