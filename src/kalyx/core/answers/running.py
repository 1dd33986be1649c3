"""``running``: live Python processes."""

from __future__ import annotations

import os
from functools import partial

from kalyx.core.answers.spared import spared
from kalyx.core.facts.processes.processes import describe_process, python_processes
from kalyx.core.lean.record import record, replace
from kalyx.core.model import Note
from kalyx.core.verdicts.seats.process import judge_process

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.model.process import PythonProcess, RawProcess

__all__ = ["RunningAnswer", "answer_running"]


@record
class RunningAnswer:
    """The Python processes that may be seen, Kalyx itself left out."""

    processes: tuple[PythonProcess, ...]
    notes: tuple[Note, ...] = ()

    @property
    def status(self) -> str:
        """Whether one runs an interpreter that is not there any more."""
        ill = any(f.is_problem for p in self.processes for f in p.findings)
        return "problem" if ill else "ok"


def answer_running(context: SeatContext, kind: str | None = None, under: str | None = None) -> RunningAnswer:
    """Read the process table and say of each Python what it is. Looks only."""
    context = context.but(asks_when_read=False)
    raws = [r for r in python_processes(context.machine) if r.pid != os.getpid()]
    parents = {r.pid: r for r in raws}
    found = []
    closed = [r for r in raws if r.closed] if under is None else []
    for raw in (r for r in raws if not r.closed):
        process = spared(context.machine, f"process {raw.pid}", partial(_judged, context, raw, parents))
        if process is not None and (kind is None or process.kind == kind) and _lies_under(context, process, under):
            found.append(process)
    order = ("kernel", "server", "language-server", "script", "module", "command", "shell")
    found.sort(key=lambda p: (order.index(p.kind), p.pid))
    return RunningAnswer(tuple(found), tuple(_closed_note(closed, context)))


def _judged(context: SeatContext, raw: RawProcess, parents: Mapping[int, RawProcess]) -> PythonProcess:
    process = describe_process(raw, context.examiner, parents)
    return replace(process, findings=tuple(judge_process(process, raw, context.machine)))


def _lies_under(context: SeatContext, process: PythonProcess, under: str | None) -> bool:
    """Whether a process runs in a folder, or an interpreter in it."""
    if under is None:
        return True
    folder = context.machine.absolute(under)
    places = [process.folder, process.interpreter.path if process.interpreter else None]
    return any(p is not None and context.machine.is_within(p, folder) for p in places)


def _closed_note(closed: list[RawProcess], context: SeatContext) -> list[Note]:
    """Say how many processes could not be looked at, and why no one can tell if they are Python."""
    if not closed:
        return []
    users = sorted({r.user for r in closed if r.user})
    whose = f" of {', '.join(users[:5])}" if users else ""
    return [Note("processes-closed", f"{len(closed)} process{'es' if len(closed) > 1 else ''}{whose} may "
                 "not be read by you, so whether a Python is among them is not known.")]
