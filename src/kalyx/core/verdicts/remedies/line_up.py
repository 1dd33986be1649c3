"""Remedies that have a seat use the environment which another one uses."""

from __future__ import annotations

from kalyx.core.facts.kernels.kernelspecs import derive_name, prefix_of_kernel
from kalyx.core.model import Edit, Remedy
from kalyx.core.verdicts.reading.kernel_labels import claimed_version, claims_of, names_of
from kalyx.core.verdicts.reading.seat_names import short_name
from kalyx.core.verdicts.remedies.editor_settings import point_setting
from kalyx.core.verdicts.remedies.kernels import enrol_again, switch_kernel
from kalyx.core.verdicts.remedies.shell_lines import activation

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.seats.context import SeatFacts
    from kalyx.core.model import Environment, Kernel, Seat

__all__ = ["line_up", "use_in_shell"]


def _shebang(facts: SeatFacts, program: str) -> Remedy:
    """Return the edit that makes a script's first line name another interpreter."""
    path = facts.seat.ref.removeprefix("script:")
    return Remedy(f"Have {facts.seat.label} name that interpreter in its first line.", "edit",
                  edits=(Edit(path, facts.script_head, f"#!{program}"),), changes=f"line 1 of {path}",
                  undoable=True)


def _enrol(facts: SeatFacts, environment: Environment, files: Files,
           kernels: Sequence[Kernel]) -> Remedy:
    """Return the command that makes an environment the notebook's kernel, under a free name.

    Where the notebook's own kernel carries the environment's name already, it
    is that one which has to be set right.
    """
    command = (*files.own_command, "enrol", environment.path)
    name = derive_name(environment)
    if facts.kernel is not None and facts.kernel.name == name:
        return enrol_again(environment, facts.kernel, files)
    taken = {k.name for k in kernels}
    if name in taken:
        number = next(n for n in range(2, 1000) if f"{name}-{n}" not in taken)
        command = (*command, "--name", f"{name}-{number}")
    return Remedy(f"Enrol {environment.path} as a kernel, and choose it for {facts.seat.label} "
                  "then.", "command", argv=command, changes="adds a kernel to your own folder",
                  undoable=True)


def line_up(facts: SeatFacts, main: Seat, files: Files,
                   kernels: Sequence[Kernel]) -> Remedy:
    """Return how a seat is brought to use the environment of `main`."""
    environment, interpreter = main.environment, main.interpreter
    assert environment is not None and interpreter is not None
    if facts.setting is not None:
        return point_setting(files, facts.setting, interpreter.path)
    if facts.notebook is not None:
        fitting = next(iter(sorted((k for k in kernels if _runs(k, environment, files)), key=lambda k: not (
            claims_of(k) & names_of(environment)))), None)  # one that carries its name comes first
        if fitting is not None:
            return switch_kernel(facts.notebook.path, fitting, files)
        return _enrol(facts, environment, files, kernels)
    if facts.seat.kind == "script" and facts.script_head:
        return _shebang(facts, interpreter.path)
    if main.is_this_kernel and facts.seat.kind == "shell":
        return Remedy(f"In a cell, write {interpreter.path} -m pip where you would write pip: the bare word is the "
                      "shell's.", "manual", changes="nothing")
    if facts.seat.is_this_kernel:
        return Remedy(f"Choose the kernel of {environment.path} in the notebook's kernel menu, if it should be that "
                      "one.", "manual", changes="which Python the notebook runs")
    if facts.seat.kind == "process":
        return Remedy(f"Start {facts.seat.label} again with {interpreter.path}, if it should be that one.",
                      "manual", changes=f"which Python {short_name(facts.seat)} runs")
    return use_in_shell(environment, interpreter.path, files)


def use_in_shell(environment: Environment, program: str, files: Files) -> Remedy:
    """Return how this shell comes to use an environment: by the line that activates it."""
    line = activation(files, environment)
    return Remedy(f"Activate {environment.path} in the shell" + (", by the line below." if line else
                                                                 f", or start {program}."),
                  "manual", changes="the variables of this shell", typed=line or "")


def _runs(kernel: Kernel, environment: Environment, files: Files) -> bool:
    """Whether a kernel starts an environment's program, and does not claim another version of Python."""
    prefixes = prefix_of_kernel(files, kernel) if kernel.argv and not kernel.trouble else []
    return any(files.same(p, environment.path) for p in prefixes) and not claimed_version(
        kernel, environment.python_version or "0")
