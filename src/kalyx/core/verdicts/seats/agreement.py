"""Whether the seats of a folder use the same environment."""

from __future__ import annotations

from kalyx.core.facts.kernels.kernelspecs import derive_name
from kalyx.core.model import Agreement, Edit, Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.remedies.kernels import enrol_again, switch_kernel
from kalyx.core.verdicts.seats.editor import point_setting

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.seats.context import SeatFacts
    from kalyx.core.model import Environment, Kernel, Seat

__all__ = ["judge_agreement", "short_name"]


def judge_agreement(seats: Sequence[SeatFacts], files: Files,
                    kernels: Sequence[Kernel]) -> Agreement:
    """Group the seats by environment; name those that differ from the rest.

    The largest group is taken as the home; of equal ones, that of the first
    seat, which is the shell.
    """
    groups: dict[str, list[SeatFacts]] = {}
    for facts in seats:
        environment = facts.seat.environment
        if environment is not None:
            groups.setdefault(files.key(environment.path), []).append(facts)
    ordered = sorted(groups.values(), key=lambda g: -len(g))
    refs = tuple(tuple(f.seat.ref for f in group) for group in ordered)
    if not ordered:
        return Agreement(None)
    finding = seats_disagree(ordered, files, kernels)
    return Agreement(len(ordered) == 1, refs, (finding,) if finding else ())


@cause("seats-disagree", "two seats of one folder use different environments",
       brief="the seats do not agree")
def seats_disagree(groups: list[list[SeatFacts]], files: Files,
                   kernels: Sequence[Kernel]) -> Finding | None:
    """Name the odd ones out and how to bring each in line.

    Looks like: It works in the terminal and not in the notebook, or the other way round.
    Why: Two seats of one folder use different environments.
    How Kalyx knows: The trail of each seat to its interpreter.
    What to do: Bring the odd one in line, by the edit or command that is given.
    """
    if len(groups) < 2:
        return None
    main = [f.seat for f in groups[0]]
    odd = [facts for group in groups[1:] for facts in group]
    said = " and ".join(f"{short_name(f.seat)} uses {_place(f.seat)}" for f in odd[:3])
    if len(odd) > 3:
        said += f" and {len(odd) - 3} more use others"
    evidence = [Evidence(f"{short_name(f.seat)} runs {f.seat.interpreter.path}",
                         f.seat.interpreter.path)
                for group in groups for f in group if f.seat.interpreter is not None]
    because = (f"{said}, while {_listed([short_name(s) for s in main])} "
               f"{'uses' if len(main) == 1 else 'use'} {_place(main[0])}.")
    return Finding.warning(
        "seats-disagree", "certain", because[0].upper() + because[1:],
        tuple(evidence), tuple(_bring_in_line(f, main[0], files, kernels) for f in odd[:4]))


def _place(seat: Seat) -> str:
    environment = seat.environment
    assert environment is not None
    return f"{environment.path} (Python {environment.python_version or '?'})"


def _listed(names: list[str]) -> str:
    return names[0] if len(names) == 1 else ", ".join(names[:-1]) + " and " + names[-1]


def short_name(seat: Seat) -> str:
    """Name a seat in a sentence."""
    return {"shell": "the shell", "editor": f"the editor ({seat.label})"}.get(
        seat.kind, f"the {seat.kind} {seat.label}")


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


def _bring_in_line(facts: SeatFacts, main: Seat, files: Files,
                   kernels: Sequence[Kernel]) -> Remedy:
    environment, interpreter = main.environment, main.interpreter
    assert environment is not None and interpreter is not None
    if facts.setting is not None:
        return point_setting(files, facts.setting, interpreter.path)
    if facts.notebook is not None:
        fitting = next((k for k in kernels if k.argv and files.same(
            files.path.dirname(files.path.dirname(k.argv[0])), environment.path)), None)
        if fitting is not None:
            return switch_kernel(facts.notebook.path, fitting, files)
        return _enrol(facts, environment, files, kernels)
    if facts.seat.kind == "script" and facts.script_head:
        return _shebang(facts, interpreter.path)
    if facts.seat.kind == "process":
        return Remedy(f"Start {facts.seat.label} again with {interpreter.path}, if it should be that one.",
                      "manual", changes=f"which Python {short_name(facts.seat)} runs")
    return Remedy(f"Activate {environment.path} in the shell, or start {interpreter.path}.",
                  "manual", changes="the variables of this shell")
