"""``kernels``: every registered kernel in search order, what it would run, and what ails it."""

from __future__ import annotations

from kalyx.core.answers.spared import spared
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.kernels import kernelspecs
from kalyx.core.facts.seats.environment import env_seat
from kalyx.core.facts.seats.kernel import seat_of_kernelspec
from kalyx.core.lean.record import record, replace
from kalyx.core.verdicts.seats.judge_seat import judge_seat
from kalyx.core.verdicts.seats.kernel import kernel_hidden

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.seats.context import SeatContext, SeatFacts
    from kalyx.core.model import Interpreter, Kernel, Note, Proof

__all__ = ["KernelsAnswer", "ListedKernel", "answer_kernels", "is_stale"]

MOST_AT_ONCE = 4  # kernels that are started together


@record
class ListedKernel:
    """A kernelspec with what it would run. ``hidden_by`` is the kernel.json that is found first."""

    kernel: Kernel
    hidden_by: str | None = None
    proof: Proof | None = None


@record
class KernelsAnswer:
    """The kernels as one server sees them. ``server`` is its interpreter, None when there is none."""

    kernels: tuple[ListedKernel, ...]
    server: Interpreter | None
    server_how: str
    notes: tuple[Note, ...] = ()
    filtered: bool = False

    @property
    def status(self) -> str:
        """Whether one of them is not well, or does not prove itself."""
        for item in self.kernels:
            if any(f.is_problem for f in item.kernel.all_findings):
                return "problem"
            if item.proof is not None and (not item.proof.answered or item.proof.trouble):
                return "problem"
        return "ok"


def answer_kernels(context: SeatContext, *, server: str | None = None, stale: bool = False,
                   proven: bool = False, limit: float = 60.0) -> KernelsAnswer:
    """List the kernels; with `proven` start each and have it say who it is.

    `server` names the environment of the notebook server to look with.

    Raises:
        NothingToJudge: there is no such environment.
    """
    m = context.machine
    context = context.but(asks_when_read=False)
    if server is not None:
        context = context.but(server=(env_seat(context, server).seat.interpreter, f"the environment {server}"))
    interpreter, how = context.server()
    everything = context.kernels()
    neighbours = Neighbours(m, context)
    first: dict[str, Kernel] = {}
    for kernel in everything:
        first.setdefault(kernel.name, kernel)
    programs = dict.fromkeys(k.argv[0] for k in everything if k.argv and m.path.isabs(k.argv[0]))
    m.in_parallel(lambda p: context.examiner.examine(p, m.cwd), programs)  # many kernels share a few
    names: dict[str, list[Kernel]] = {}
    for kernel in everything:
        names.setdefault(kernel.name, []).append(kernel)

    def judged(kernel: Kernel) -> ListedKernel:
        others = names[kernel.name][1:] if first[kernel.name] is kernel else []
        return _judged(seat_of_kernelspec(context, kernel, others), first, context, neighbours)

    listed = [spared(m, k.spec, lambda k=k: judged(k)) or ListedKernel(k, None)  # type: ignore[misc]
              for k in everything]
    if stale:
        listed = [item for item in listed if is_stale(item.kernel)]
    if proven:
        listed = _prove_all(context, listed, limit)
    return KernelsAnswer(tuple(listed), interpreter, how, filtered=stale)


def is_stale(kernel: Kernel) -> bool:
    """Whether a kernel's interpreter or environment is gone."""
    return any(f.cause == "kernel-interpreter-gone" for f in kernel.findings)


def _judged(facts: SeatFacts, first: dict[str, Kernel], context: SeatContext,
            neighbours: Neighbours) -> ListedKernel:
    kernel = facts.kernel
    assert kernel is not None
    in_front = first[kernel.name]
    hidden = in_front.spec if in_front.spec != kernel.spec else None
    findings = []
    if kernel.language.lower() in ("", "python"):  # others are listed, and left alone
        seat = judge_seat(facts, context.machine, neighbours)
        findings, kernel = list(seat.findings), replace(kernel, environment=seat.environment)
    if hidden is not None:
        findings.append(kernel_hidden(kernel, in_front))
    return ListedKernel(replace(kernel, findings=tuple(findings)), hidden)


def _prove_all(context: SeatContext, listed: list[ListedKernel], limit: float) -> list[ListedKernel]:
    """Start the kernels of Python that are found first, a few at once."""
    from kalyx.core.answers.enrol import prove

    def one(item: ListedKernel) -> ListedKernel:
        kernel = item.kernel
        if item.hidden_by or kernel.trouble or kernel.language.lower() not in ("", "python"):
            return item
        started = replace(kernel, argv=tuple(kernelspecs.started_by_server(
            context.machine, kernel, kernel.interpreter, context.server()[0])))
        return replace(item, proof=prove(context, started, kernel.interpreter, limit))

    proven: list[ListedKernel] = []
    for start in range(0, len(listed), MOST_AT_ONCE):
        proven += context.machine.in_parallel(one, listed[start:start + MOST_AT_ONCE])
    return proven
