"""The seat of this shell: the python that its PATH, or an alias of it, starts."""

from __future__ import annotations

from kalyx.core.facts.interpreters.path_lookup import find_on_path
from kalyx.core.facts.seats.context import SeatFacts
from kalyx.core.facts.shells import commands
from kalyx.core.facts.shells.loaded_modules import brought_by
from kalyx.core.lean.record import replace
from kalyx.core.model import Launch, Seat, TrailStep

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.seats.context import SeatContext

__all__ = ["shell_seat"]

MOST_ENTRIES = 20  # of a variable, that are looked for in the files of loaded modules


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
    said += _module_steps(context, step)
    facts = context.facts_of("shell", "shell", "this shell", examined, [*said, step],
                             Launch((step.leads_to or "",), context.machine.env, context.folder))
    return replace(facts, seat=replace(facts.seat, scripts=tuple(scripts)), python_name=name)


def _module_steps(context: SeatContext, python: TrailStep) -> list[TrailStep]:
    """Say which of the cluster's loaded modules have put something where Python is looked for, or looks."""
    m, found = context.machine, []
    if not m.env.get("LOADEDMODULES"):
        return []
    asked = [("PATH", m.path.dirname(python.leads_to or ""))] if python.leads_to else []
    asked += [(name, entry) for name in ("PYTHONPATH", "PYTHONHOME", "PYTHONUSERBASE", "LD_LIBRARY_PATH")
              for entry in m.env.get(name, "").split(m.path_separator)[:MOST_ENTRIES] if entry]
    for name, entry in asked:
        brought = brought_by(m, m.env, name, entry)
        if brought is not None:
            found.append(TrailStep(0, brought.evidence.says, brought.evidence.path, brought.evidence.line))
    return found
