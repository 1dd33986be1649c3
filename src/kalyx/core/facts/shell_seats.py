"""The seat of this shell: the python that its PATH, or an alias of it, starts."""

from __future__ import annotations

from kalyx.core.facts import shells
from kalyx.core.facts.interpreters import Examined
from kalyx.core.facts.launchers import find_on_path
from kalyx.core.facts.seats import SeatFacts
from kalyx.core.model import Launch, Seat, TrailStep
from kalyx.core.record import TYPE_CHECKING, replace

if TYPE_CHECKING:
    from kalyx.core.facts.seats import SeatFinder

__all__ = ["python_of_shell", "shell_seat"]


def python_of_shell(finder: SeatFinder) -> tuple[str, Examined, TrailStep] | None:
    """Return the shell's Python: command name, what it is, the PATH step."""
    alias = _aliased_python(finder)
    if alias is not None:
        return alias
    found = shells.find_python(finder.machine)
    if found is None:
        return None
    name, place = found
    return name, finder.examiner.examine(place.path, finder.folder), shells.path_step(name, place)


def _aliased_python(finder: SeatFinder) -> tuple[str, Examined, TrailStep] | None:
    """Return what an alias of the interactive shell makes of python, when it was asked."""
    for known in finder.shell_names or ():
        if known.kind != "alias" or known.name not in shells.PYTHON_NAMES[:2]:
            continue
        word = known.text.split()[0] if known.text.split() else ""
        path = finder.machine.absolute(word)
        if "/" not in word:
            found = find_on_path(finder.machine, word, first_only=True)
            if not found:
                continue
            path = found[0].path
        step = TrailStep(0, f"your interactive shell has the alias {known.name}={known.text!r}",
                         None, None, path)
        return known.name, finder.examiner.examine(path, finder.folder), step
    return None


def shell_seat(finder: SeatFinder) -> SeatFacts:
    """Return the shell seat of the folder."""
    python = finder.shell_python()
    scripts = []
    for name in shells.SCRIPT_NAMES:
        found = find_on_path(finder.machine, name, first_only=True)
        if found:
            scripts.append(shells.read_script(finder.examiner, name, found[0], finder.folder,
                                              python[1] if python else None))
    if python is None:
        seat = Seat("shell", "shell", "this shell", scripts=tuple(scripts))
        return SeatFacts(seat)
    name, examined, step = python
    said = [TrailStep(0, f"your interactive shell has a function {n.name}, which may run something "
                      "else") for n in finder.shell_names or () if n.kind == "function"]
    said += shells.variable_steps(finder.machine.env)
    seat = finder.seat_of("shell", "shell", "this shell", examined, [*said, step],
                      Launch((step.leads_to or "",), finder.machine.env, finder.folder))
    return SeatFacts(replace(seat, scripts=tuple(scripts)), examined, python_name=name)
