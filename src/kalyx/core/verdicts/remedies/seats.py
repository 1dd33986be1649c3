"""Remedies that use another environment at a seat."""

from __future__ import annotations

from kalyx.core.model import Remedy
from kalyx.core.verdicts.remedies.shell_lines import command_line

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Elsewhere

__all__ = ["as_it_is_called", "move_seat"]


def move_seat(case: Case, elsewhere: Elsewhere, module: str, *, first: bool = False) -> Remedy | None:
    """Return how to make the seat use the environment that has the module already; None where it cannot.

    `first`: it is said before all other remedies, so not as an alternative.
    """
    interpreter = elsewhere.interpreter
    own = case.seat.interpreter
    if interpreter is None or interpreter.known_by == "gone":
        return None
    if own is not None and own.real_path == interpreter.real_path and own.prefix == interpreter.prefix:
        return None  # it runs that one already, and does not look there
    place = f"{elsewhere.environment.name}, which has " + (
        f"{elsewhere.name} {elsewhere.version}" if elsewhere.name and elsewhere.version else module)
    kind, launch = case.seat.kind, case.launch
    if kind in ("shell", "python", "env"):
        from kalyx.core.verdicts.remedies.shell_lines import activation

        typed = activation(case.files, elsewhere.environment) if kind == "shell" else None
        return Remedy(f"{'Use' if first else 'Or use'} {place}: run {interpreter.path} instead"
                      + (", or activate it in this shell:" if typed else "."), "manual",
                      changes="which Python is used", typed=typed or "")
    if kind == "script":
        return Remedy(f"{'Run' if first else 'Or run'} the script with {place}.", "command",
                      argv=(interpreter.path, launch.main or ""), cwd=launch.cwd,
                      changes="nothing is installed; the script is run", is_trial=True)
    if kind in ("notebook", "kernel"):
        moved = as_it_is_called(case, elsewhere) or (
            _switch_notebook(case, elsewhere, first) if kind == "notebook" else None)
        if moved is not None:
            return moved
    if kind in ("notebook", "kernel"):
        return Remedy(f"{'Choose' if first else 'Or choose'} the kernel of {place}, in the notebook's kernel menu. "
                      "If it is not in the menu, enrol it first by the line below.", "manual",
                      changes="which interpreter the notebook runs",
                      typed=command_line(case.files, ("kalyx", "enrol", elsewhere.environment.path)))
    if kind == "process":
        return Remedy(f"{'Run' if first else 'Or run'} it with {place}: start {interpreter.path} instead; of a "
                      "notebook, choose that one's kernel in its kernel menu. If it is not in the menu, enrol it first "
                      "by the line below.", "manual", changes="which interpreter is run",
                      typed=command_line(case.files, ("kalyx", "enrol", elsewhere.environment.path)))
    return Remedy(f"{'Point' if first else 'Or point'} the editor at {place}: {interpreter.path}", "manual",
                  changes="which interpreter the editor runs")


def as_it_is_called(case: Case, elsewhere: Elsewhere) -> Remedy | None:
    """Return how to have a kernel run the environment whose name it carries, where that has the module."""
    from kalyx.core.verdicts.reading.kernel_labels import claims_of, names_of
    from kalyx.core.verdicts.remedies.kernels import run_instead

    places = {s.where for s in case.seat.trail}
    kernel = next((k for k in case.elsewhere.known.kernels if k.spec in places), None)
    if kernel is None or not claims_of(kernel) & names_of(elsewhere.environment):
        return None
    return run_instead(kernel, elsewhere.environment, case.files, case.elsewhere.known,
                       why=", the environment whose name the kernel carries")


def _switch_notebook(case: Case, elsewhere: Elsewhere, first: bool) -> Remedy | None:
    """Return the edit that has a notebook use a registered kernel of an environment."""
    from kalyx.core.verdicts.remedies.kernels import switch_kernel, well_kernels

    m, known = case.files, case.elsewhere.known
    kernel = next((k for k, e in well_kernels(known.kernels, m, known)
                   if m.same(e.path, elsewhere.environment.path)), None)
    if kernel is None:
        return None
    what = f"{elsewhere.name} {elsewhere.version}" if elsewhere.name and elsewhere.version else "it"
    switch = switch_kernel(case.seat.ref.partition(":")[2], kernel, m, other=not first,
                           why=f": {elsewhere.environment.name} has {what}")
    return switch if switch.kind == "edit" else None
