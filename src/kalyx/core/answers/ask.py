"""``ask``: a line of code, run exactly where a seat would run it; without one, who it is."""

from __future__ import annotations

import ast
import json
import os
import time

from kalyx.core.answers.live_kernel import connection_of, text_in
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.imports.trial import BOOT, start_word
from kalyx.core.facts.kernels import kernelspecs
from kalyx.core.facts.seats.finder import find_seat_to_run
from kalyx.core.lean.record import record, replace
from kalyx.core.verdicts.seats.judge_seat import judge_seat
from kalyx.core.wire.client import KernelFailed, StartedKernel
from kalyx.core.wire.running import KernelBusy, RunningKernel, parse_connection

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.seats.context import SeatContext, SeatFacts
    from kalyx.core.model import Finding, Kernel, Note

__all__ = ["AskAnswer", "Asked", "Identity", "answer_ask"]

WHO = ("(lambda s, w: __import__('json').dumps({'executable': s.executable, 'prefix': s.prefix, "
       "'version': s.version.split()[0], 'path': s.path[:8], 'pip': w and w('pip')}))"
       "(__import__('sys'), getattr(__import__('shutil'), 'which', None))")
# Runs statements in a live kernel's own namespace and hands back what they print
QUIETLY = ("(lambda i, c, s, g: (c.__enter__(), exec(s, g), c.__exit__(None, None, None), i.getvalue())[3])"
           "(*(lambda i: (i, __import__('contextlib').redirect_stdout(i)))(__import__('io').StringIO()), "
           "{code!r}, globals())")


@record
class Identity:
    """What a seat says of itself: the first entries of its path, the pip that a command would run."""

    executable: str
    prefix: str
    version: str
    path: tuple[str, ...]
    pip: str | None


@record
class Asked:
    """What one seat answered. ``outcome`` is ok, error, timeout, busy or unknown."""

    seat: str
    outcome: str
    output: str = ""
    value: str | None = None
    error: str | None = None
    who: Identity | None = None
    exit: int | None = None
    seconds: float = 0.0
    findings: tuple[Finding, ...] = ()


@record
class AskAnswer:
    """The answers of all seats that were asked."""

    seats: tuple[Asked, ...]
    code: str | None
    notes: tuple[Note, ...] = ()

    @property
    def status(self) -> str:
        """Whether all answered, the code failed somewhere, or a seat could not be asked."""
        outcomes = {a.outcome for a in self.seats}
        if "error" in outcomes or any(f.is_problem for a in self.seats for f in a.findings):
            return "problem"
        return "ok" if outcomes == {"ok"} else "unknown"


def answer_ask(context: SeatContext, refs: Sequence[str], code: str | None, limit: float) -> AskAnswer:
    """Run `code` at each seat, all at once; without code ask each who it is.

    Raises:
        NothingToJudge: there is no such seat.
    """
    context = context.but(asks_when_read=False)
    seats = [find_seat_to_run(context, ref) for ref in refs]
    answers = context.machine.in_parallel(lambda f: _ask(context, f, code, limit), seats)
    return AskAnswer(tuple(answers), code)


def _ask(context: SeatContext, facts: SeatFacts, code: str | None, limit: float) -> Asked:
    began = time.monotonic()
    seat = facts.seat
    if seat.launch is None or seat.interpreter is None or not seat.interpreter.may_start:
        trouble = seat.interpreter.trouble if seat.interpreter else facts.cannot_start or facts.untold
        judged = judge_seat(facts, context.machine, Neighbours(context.machine, context))
        found = tuple(f for f in judged.findings if f.is_problem) if judged.cannot_run else ()
        trouble = trouble or next((f.because for f in found), "")
        return Asked(seat.ref, "unknown", error=trouble or "it has no interpreter that could run it", findings=found)
    try:
        if seat.kind == "process" and (data := connection_of(context, seat.ref)):
            asked = _ask_live(seat.ref, data, code, limit)
        elif facts.kernel is not None:
            asked = _ask_kernel(context, facts, facts.kernel, code, limit)
        else:
            asked = _ask_interpreter(context, facts, code, limit)
    except KernelBusy:
        return Asked(seat.ref, "busy", error="it is at work, and is not to be disturbed; ask again when "
                     "it is idle")
    except KernelFailed as error:
        late = "did not answer within" in str(error) or "no answer within" in str(error)
        asked = Asked(seat.ref, "timeout" if late else "error", error=str(error))
    return replace(asked, seconds=round(time.monotonic() - began, 3))


def _ask_interpreter(context: SeatContext, facts: SeatFacts, code: str | None, limit: float) -> Asked:
    """Run it as a child of the seat's interpreter, from the seat's folder, with no input."""
    seat, launch = facts.seat, facts.seat.launch
    assert launch is not None
    probe = os.path.join(context.examiner.probe_folder, "ask.py")
    ran = context.machine.run((*launch.argv, "-c", BOOT, probe, start_word(launch), code or f"print({WHO})"),
                             env=launch.env, cwd=launch.cwd, limit=limit)
    out = ran.out.decode("utf-8", "replace")
    if ran.timed_out:
        return Asked(seat.ref, "timeout", out, error=f"it did not end within {limit:g} s", exit=ran.status)
    if ran.status != 0:
        said = ran.complaint() or ran.why_not or f"it ended with status {ran.status}"
        return Asked(seat.ref, "error", out, error=said, exit=ran.status)
    if code is None:
        return replace(Asked(seat.ref, "ok", exit=0), who=_identity(out))
    return Asked(seat.ref, "ok", out + ran.err.decode("utf-8", "replace"), exit=0)


def _identity(text: str) -> Identity | None:
    try:
        said = json.loads(text)
        return Identity(said["executable"], said["prefix"], said["version"], tuple(said["path"]), said["pip"])
    except (ValueError, KeyError, TypeError):
        return None


def _ask_kernel(context: SeatContext, facts: SeatFacts, kernel: Kernel, code: str | None,
                limit: float) -> Asked:
    """Start the kernel as a server would, run the code over the protocol, and end it."""
    seat = facts.seat
    if kernel.language.lower() not in ("", "python"):
        return Asked(seat.ref, "unknown", error=f"it is a kernel of the language {kernel.language}")
    argv = kernelspecs.started_by_server(context.machine, kernel, seat.interpreter, context.server()[0])
    env = kernelspecs.kernel_environment(kernel, context.machine.env)
    folder = facts.notebook and context.machine.path.dirname(facts.notebook.path)
    with StartedKernel(argv, env, folder or context.machine.cwd, limit) as started:
        if code is None:
            return replace(Asked(seat.ref, "ok"), who=_identity(text_in(started.evaluate({"who": WHO})["who"])))
        done = started.execute(code)
    error = f"it printed without an end, and was interrupted{': ' + done.error if done.error else ''}" \
        if done.cut else done.error
    return Asked(seat.ref, "error" if error else "ok", done.output, done.value, error)


def _ask_live(ref: str, data: bytes, code: str | None, limit: float) -> Asked:
    """Ask a kernel that is in use: an expression in its own namespace, silent, without history."""
    with RunningKernel(parse_connection(data)) as kernel:
        if code is None:
            return replace(Asked(ref, "ok"), who=_identity(text_in(kernel.evaluate({"who": WHO}, limit)["who"])))
        try:
            ast.parse(code, mode="eval")
            return Asked(ref, "ok", value=kernel.evaluate({"value": code}, limit)["value"])
        except SyntaxError:
            shown = kernel.evaluate({"output": QUIETLY.format(code=code)}, limit)["output"]
            return Asked(ref, "ok", text_in(shown))
