"""The seats of notebook kernels, and of the notebooks that name one."""

from __future__ import annotations

from kalyx.core.errors import NothingToJudge
from kalyx.core.facts.interpreters.examiner import numbered
from kalyx.core.facts.interpreters.path_lookup import is_python_name
from kalyx.core.facts.kernels import kernelspecs, notebooks
from kalyx.core.facts.kernels.start_folder import starts_behind
from kalyx.core.facts.seats.context import SeatFacts
from kalyx.core.lean.record import replace
from kalyx.core.model import Launch, Seat, TrailStep

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.model import Kernel
    from kalyx.core.model.kinds import SeatKind

__all__ = ["kernel_seat", "notebook_seat", "seat_of_kernelspec"]


def kernel_seat(context: SeatContext, name: str) -> SeatFacts:
    """Return the seat of a registered kernel, by name."""
    if name.lower() not in {k.name for k in context.kernels()}:
        near = ", ".join(dict.fromkeys(k.name for k in context.kernels())) or "none"
        raise NothingToJudge(f"There is no kernel {name!r} registered here.",
                             f"Registered: {near}.")
    return _named_seat(context, name, f"kernel:{name.lower()}", "kernel", None, [])


def _named_seat(context: SeatContext, name: str, ref: str, kind: SeatKind,
                 notebook: notebooks.NotebookKernel | None,
                 steps: list[TrailStep]) -> SeatFacts:
    m = context.machine
    same = [k for k in context.kernels() if k.name == name.lower()]
    label = m.path.basename(notebook.path) if notebook else name
    if not same:
        return SeatFacts(Seat(ref, kind, label, trail=numbered(steps)), notebook=notebook,
                         others=tuple(context.kernels()))
    return _kernel_facts(context, same[0], ref, kind, str(label), notebook, steps, tuple(same[1:]))


def seat_of_kernelspec(context: SeatContext, kernel: Kernel, others: list[Kernel]) -> SeatFacts:
    """Return the seat of one kernelspec, whether it is the first of its name or hidden behind one."""
    return _kernel_facts(context, kernel, f"kernel:{kernel.name}", "kernel", kernel.name, None, [],
                              tuple(others))


def _kernel_facts(context: SeatContext, kernel: Kernel, ref: str, kind: SeatKind, label: str,
                  notebook: notebooks.NotebookKernel | None, steps: list[TrailStep],
                  others: tuple[Kernel, ...]) -> SeatFacts:
    m, server = context.machine, context.server()
    steps.append(TrailStep(0, f"the kernel {kernel.name} is registered ({kernel.scope} scope)"
                           f" as {kernel.label!r}", kernel.spec, None, kernel.spec))
    facts = SeatFacts(Seat(ref, kind, label, trail=numbered(steps)), kernel=kernel,
                      notebook=notebook, others=others)
    if kernel.trouble:
        return facts
    cwd = str(m.path.dirname(notebook.path)) if notebook else m.cwd
    program = kernelspecs.program_of(m, kernel, server[0], cwd)
    through = f", through {', '.join(program.through)}" if program.through else ""
    if program.path is None or not _may_be_python(context, kernel, program):
        if program.how == "unknown":
            steps.append(TrailStep(0, f"its program is {kernel.argv[0]}, and what that starts cannot be told: "
                                   f"{program.trouble}", kernel.spec))
        return replace(facts, seat=replace(facts.seat, trail=numbered(steps)), kernel_how=program.how,
                       kernel_word=program.word, cannot_start=program.trouble if program.how == "refused" else "",
                       untold=program.trouble if program.how == "unknown" else "")
    says = f"its program is {program.word}{through}"
    if program.how == "server":
        says = (f"its program is the bare word {kernel.argv[0]}: the interpreter of the "
                f"notebook server that starts it ({server[1]})")
    elif program.how == "PATH":
        says = f"its program {program.word} is looked up on PATH{through}"
    # what stands in front may be a script of the folder, or read one
    examined = context.examiner.examine(program.path, program.folder, env=program.env, by_folder=bool(program.through))
    if examined.interpreter.known_by == "other":
        steps += [TrailStep(0, says, kernel.spec, None, program.path),
                  TrailStep(0, f"{program.path} is no Python that can be read: what it starts cannot be told",
                            program.path)]
        return replace(facts, seat=replace(facts.seat, trail=numbered(steps)), kernel_how="unknown",
                       kernel_word=program.word, untold=f"{program.path} is no Python that can be read")
    steps += _before_it(program)
    steps.append(TrailStep(0, says, kernel.spec, None, program.path))
    launch = Launch((program.path, *program.flags), dict(program.env), program.folder)
    launch = replace(launch, start_behind=starts_behind(m, program.words, launch, examined))
    started = context.facts_of(ref, kind, label, examined, steps, launch)
    kernel = replace(kernel, interpreter=started.seat.interpreter, environment=started.seat.environment)
    return replace(facts, seat=started.seat, examined=started.examined, kernel=kernel, kernel_how=program.how,
                   kernel_word=program.word, kernel_command=program.words)


def _before_it(program: kernelspecs.KernelProgram) -> list[TrailStep]:
    """Say what is done before an interpreter is started."""
    script = program.through[-1] if program.through else ""
    return [*[TrailStep(0, f"{script} runs {words} before, and what that sets is not known", script)
              for words in program.unread],
            *[TrailStep(0, f"{script} activates {p}", script, None, p) for p in program.entered]]


def _may_be_python(context: SeatContext, kernel: Kernel, program: kernelspecs.KernelProgram) -> bool:
    """Whether a kernelspec is for Python, by its language or the program's name: others are left alone."""
    return kernel.language.lower() in ("", "python") or is_python_name(program.word)


def notebook_seat(context: SeatContext, file: str) -> SeatFacts:
    """Return the seat of a notebook: the kernel that it names."""
    m = context.machine
    path = m.absolute(file)
    if not m.is_there(path):
        raise NothingToJudge(f"{path} does not exist.", "Check the path.")
    context.examiner.trust.distrust(m.path.dirname(path))
    named = notebooks.read_notebook(m, path)
    ref = f"notebook:{path}"
    if named.trouble or named.name is None:
        return SeatFacts(Seat(ref, "notebook", m.path.basename(path)), notebook=named)
    shown = f" ({named.label})" if named.label and named.label != named.name else ""
    step = TrailStep(0, f"{path} names the kernel {named.name!r}{shown}", path, named.line)
    return _named_seat(context, named.name, ref, "notebook", named, [step])
