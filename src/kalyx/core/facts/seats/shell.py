"""The seat of this shell: the python that its PATH, or an alias of it, starts."""

from __future__ import annotations

from kalyx.core.facts.interpreters.path_lookup import find_on_path
from kalyx.core.facts.seats.context import SeatFacts
from kalyx.core.facts.shells import commands
from kalyx.core.lean.record import replace
from kalyx.core.model import Launch, Seat, TrailStep

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.seats.context import SeatContext

__all__ = ["shell_seat"]


def shell_seat(context: SeatContext) -> SeatFacts:
    """Return the shell seat of the folder."""
    python = context.shell_python()
    scripts = []
    version = python[1].interpreter.version_pair if python else None
    exact = (f"pip{version[0]}.{version[1]}",) if version else ()
    for name in (*commands.INSTALLERS, *exact, *commands.TOOLS):
        found = find_on_path(context.machine, name, first_only=True)
        if found:
            scripts.append(commands.read_script(context.examiner, name, found[0], context.folder,
                                              python[1] if python else None))
    if python is None:
        seat = Seat("shell", "shell", "this shell", scripts=tuple(scripts))
        return SeatFacts(seat)
    name, examined, step = python
    said = [TrailStep(0, f"your interactive shell has a function {n.name}, which may run something "
                      "else") for n in context.shell_names if n.kind == "function"]
    said += commands.variable_steps(context.machine.env)
    seat = context.seat_of("shell", "shell", "this shell", examined, [*said, step],
                      Launch((step.leads_to or "",), context.machine.env, context.folder))
    return SeatFacts(replace(seat, scripts=tuple(scripts)), examined, python_name=name)
