"""The seats of live processes."""

from __future__ import annotations

import os

from kalyx.core.errors import NothingToJudge, WrongUsage
from kalyx.core.facts.interpreters.flags import flags_of
from kalyx.core.facts.interpreters.path_lookup import is_like_python_name, is_python_name
from kalyx.core.facts.kernels.start_folder import starts_behind
from kalyx.core.facts.processes.processes import kind_of, program_of, python_processes, start_of
from kalyx.core.facts.seats.context import SeatFacts
from kalyx.core.lean.record import replace
from kalyx.core.model import Launch, TrailStep

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.machine.interface import Machine
    from kalyx.core.model.process import RawProcess

__all__ = ["process_seat", "processes_here"]


def process_seat(context: SeatContext, number: str) -> SeatFacts:
    """Return the seat of a live process: its program, variables and folder.

    Raises:
        WrongUsage: it is not a number.
        NothingToJudge: there is no such process, or it runs no Python.
    """
    if not number.isdecimal() or len(number) > 9:
        raise WrongUsage(f"{number!r} is not a process number.", "Write process:1234.")
    raw = context.machine.process(int(number))
    if raw is None:
        raise NothingToJudge(f"There is no process {number}.", "kalyx running lists them.")
    if raw.closed:
        raise NothingToJudge(f"What process {number} runs may not be read by you.",
                             "Ask its owner, or run kalyx as that user.")
    m, program = context.machine, program_of(raw, context.machine)
    if program is None or not (is_like_python_name(program) or is_python_name(raw.argv[0])):
        raise NothingToJudge(f"Process {number} runs {program or 'something'}, which is no Python.",
                             "kalyx running lists those that are.")
    _, what, _ = kind_of(raw.argv)
    step = TrailStep(0, f"process {number} was started as {raw.argv[0]}, and runs {program}",
                     f"/proc/{number}/exe" if m.exists(f"/proc/{number}/exe") else None, None,
                     program)
    examined = context.examiner.examine(program, raw.folder)
    env = dict(raw.env) if raw.env is not None else dict(m.env)
    folder = raw.folder or m.cwd
    launch = Launch((program, *flags_of(raw.argv[1:])), env, folder, _start_of(m, raw, folder))
    launch = replace(launch, start_behind=starts_behind(m, raw.argv, launch, examined))
    facts = context.facts_of(f"process:{number}", "process", what, examined, [step], launch)
    return replace(facts, foreign=raw.owner not in (None, m.user_id))


def _start_of(machine: Machine, raw: RawProcess, folder: str) -> str:
    """Return the folder with which the search path of a process began; empty for the one that it was started in."""
    m, (how, what, _) = machine, start_of(raw.argv)
    place = m.real_path(m.located(what, folder)) if how == "script" else ""
    if not place or not m.is_there(place):
        return ""
    return place if m.is_folder(place) or what.endswith((".zip", ".pyz")) else m.path.dirname(place)


def processes_here(context: SeatContext) -> list[SeatFacts]:
    """Return the seats of the live Python processes whose folder is here, Kalyx's own left out."""
    raws = {r.pid: r for r in python_processes(context.machine)}
    ours, pid = set(), os.getpid()
    while pid in raws and pid not in ours:
        ours.add(pid)
        pid = raws[pid].parent or 0
    return [process_seat(context, str(r.pid)) for r in raws.values() if r.pid not in ours
            and r.folder is not None and context.machine.is_within(r.folder, context.folder)]
