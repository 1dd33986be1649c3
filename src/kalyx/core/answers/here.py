"""``here``: the seats of a folder, and whether they agree."""

from __future__ import annotations

from kalyx.core.answers.spared import spared
from kalyx.core.errors import NothingToJudge
from kalyx.core.facts.editors import settings
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.interpreters.path_lookup import find_on_path
from kalyx.core.facts.kernels import notebooks
from kalyx.core.facts.seats.editor import seat_of_setting
from kalyx.core.facts.seats.kernel import notebook_seat
from kalyx.core.facts.seats.script import script_seat, scripts_here
from kalyx.core.facts.seats.shell import shell_seat
from kalyx.core.facts.shells import commands
from kalyx.core.lean.record import record, replace
from kalyx.core.model import Note
from kalyx.core.verdicts.seats.agreement import judge_agreement
from kalyx.core.verdicts.seats.judge_seat import judge_seat

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable

    from kalyx.core.facts.seats.context import SeatContext, SeatFacts
    from kalyx.core.model import Agreement, Finding, Seat

__all__ = ["HereAnswer", "answer_here"]


@record
class HereAnswer:
    """The seats of a folder. ``status`` is ok, problem or unknown."""

    folder: str
    seats: tuple[Seat, ...]
    agreement: Agreement
    findings: tuple[Finding, ...]
    notes: tuple[Note, ...] = ()

    @property
    def status(self) -> str:
        """Whether anything is wrong, or nothing could be found out."""
        found = [*self.findings, *[f for s in self.seats for f in s.all_findings]]
        if any(f.is_problem for f in found):
            return "problem"
        return "ok" if any(s.environment for s in self.seats) else "unknown"


def answer_here(context: SeatContext, *, ask_shell: bool = False, running: bool = False) -> HereAnswer:
    """Find the seats of the finder's folder and judge them.

    With `ask_shell` the user's interactive shell is started and asked for its
    aliases and functions; with `running` the live processes of the folder are
    seats too.

    Raises:
        NothingToJudge: the folder does not exist.
    """
    m, folder = context.machine, context.folder
    if not m.is_folder(folder):
        trouble = "is not a folder" if m.exists(folder) else m.trouble_at(folder)
        raise NothingToJudge(f"{folder} {trouble}.", "Name a folder that you can look into.")
    notes = list(context.notes)
    closed = m.why_not_listed(folder)
    if closed:
        notes.append(Note("folder-unreadable", f"{folder} cannot be read: {closed}.", folder))
    if ask_shell:
        names, trouble = commands.ask_shell(m, 10.0)
        context = context.but(shell_names=names)
        if trouble:
            notes.append(Note("shell-not-asked", f"The interactive shell could not be asked: {trouble}."))
    neighbours = Neighbours(m, context)
    gathered = _gather(context, notes)
    if running:
        from kalyx.core.facts.seats.process import processes_here

        gathered += processes_here(context)

    def judged(one: SeatFacts) -> SeatFacts:
        return replace(one, seat=spared(m, one.seat.ref, lambda: judge_seat(one, m, neighbours)) or one.seat)

    facts = [judged(f) for f in gathered]
    kernels = context.kernels() if any(f.notebook for f in facts) else []
    agreement = judge_agreement(facts, m, kernels)
    return HereAnswer(folder, tuple(f.seat for f in facts), agreement, agreement.findings, tuple(notes))


def _other_python3(context: SeatContext) -> list[Note]:
    """Say that the commands python and python3 are not the same Python, where both are on PATH."""
    own, m = context.shell_python(), context.machine
    if own is None or m.platform == "win32":
        return []
    found = next((f.path for f in find_on_path(m, "python3", first_only=True)), "")
    mine = own[1].interpreter
    other = context.examiner.examine(found, context.folder, ask=False).interpreter if found else None
    if not found or other is None or not other.works or not mine.works or m.path.basename(own[0]) == "python3" or (
            m.same(other.prefix or "", mine.prefix or "")):
        return []
    return [Note("python3-elsewhere", f"python3 is another Python than python: {found} is {other.named} in "
                 f"{other.prefix}, and python runs {mine.named} in {mine.prefix}.", found)]


def _gather(context: SeatContext, notes: list[Note]) -> list[SeatFacts]:
    m = context.machine
    files, cut = notebooks.find_notebooks(m, context.folder)
    if cut:
        notes.append(Note("notebooks-cut", f"{context.folder} holds more files, folders or notebooks "
                          f"than are looked at; {len(files)} notebooks were.", context.folder))
    found_settings = settings.find_settings(m, context.folder, context.config.editors)
    notes += _other_python3(context)  # the shell's python is asked once, before several are asked at once
    scripts = scripts_here(context)
    jobs: list[Callable[[], SeatFacts]] = [
        lambda: shell_seat(context), *[lambda s=s: seat_of_setting(context, s) for s in found_settings],
        *[lambda f=f: script_seat(context, f) for f in scripts]]
    named = [context.folder, *[s.file for s in found_settings], *scripts]
    found = m.in_parallel(lambda one: spared(m, *one), list(zip(named, jobs, strict=True)))
    if files:
        context.kernels()
        found += m.in_parallel(lambda f: spared(m, f, lambda: notebook_seat(context, f)), files)
    facts = [*([context.live] if context.live is not None else []), *[f for f in found if f is not None]]
    notes += [Note("seat-untold", f"What {f.seat.ref} runs cannot be told: {f.why_untold}.",
                   f.seat.ref.partition(":")[2] or (f.seat.interpreter.path if f.seat.interpreter else None))
              for f in facts if f.why_untold]
    for fact in facts:
        if fact.notebook is not None and not fact.notebook.trouble and fact.notebook.name is None:
            notes.append(Note("notebook-names-no-kernel", f"{fact.notebook.path} names no kernel: "
                              "the server asks, or takes its default.", fact.notebook.path))
    return facts
