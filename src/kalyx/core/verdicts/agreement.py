"""Whether the seats of a folder use the same environment."""

from __future__ import annotations

from collections.abc import Sequence

from kalyx.core.machine import Machine
from kalyx.core.model import Agreement, Evidence, Finding, Remedy, Seat
from kalyx.core.verdicts.catalogue import cause

__all__ = ["judge_agreement"]


def judge_agreement(seats: Sequence[Seat], machine: Machine) -> Agreement:
    """Group the seats by environment; name those that differ from the rest."""
    groups: dict[str, list[Seat]] = {}
    for seat in seats:
        if seat.environment is not None:
            groups.setdefault(machine.key(seat.environment.path), []).append(seat)
    ordered = sorted(groups.values(), key=lambda g: (-len(g), seats.index(g[0])))
    refs = tuple(tuple(s.ref for s in group) for group in ordered)
    if not ordered:
        return Agreement(None)
    finding = seats_disagree(ordered)
    return Agreement(len(ordered) == 1, refs, (finding,) if finding else ())


@cause("seats-disagree", "G", "two seats of one folder use different environments")
def seats_disagree(groups: list[list[Seat]]) -> Finding | None:
    """Name the odd ones out and how to bring each in line."""
    if len(groups) < 2:
        return None
    main = groups[0]
    odd = [seat for group in groups[1:] for seat in group]
    home = main[0].environment
    assert home is not None
    said = " and ".join(f"{short_name(s)} uses {_place(s)}" for s in odd[:3])
    if len(odd) > 3:
        said += f" and {len(odd) - 3} more use others"
    evidence = [Evidence(f"{short_name(s)}: {_place(s)}", s.interpreter.path if s.interpreter
                         else None) for group in groups for s in group]
    return Finding(
        "seats-disagree", "warning", "certain",
        f"{said}, while {_listed([short_name(s) for s in main])} "
        f"{'uses' if len(main) == 1 else 'use'} {_place(main[0])}.",
        tuple(evidence), tuple(_bring_in_line(s, main[0]) for s in odd[:4]))


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


def _bring_in_line(seat: Seat, main: Seat) -> Remedy:
    environment, interpreter = main.environment, main.interpreter
    assert environment is not None and interpreter is not None
    if seat.kind == "shell":
        return Remedy(f"Activate {environment.path} in the shell, or start {interpreter.path}.",
                      "manual", changes="the variables of this shell")
    if seat.kind == "editor":
        return Remedy(f"Choose {interpreter.path} as the editor's interpreter.", "manual",
                      changes=seat.ref.removeprefix("editor:"))
    return Remedy(f"Choose a kernel of {environment.path} for {seat.label}; where there is none, "
                  f"enrol it: kalyx enrol {environment.path}", "manual",
                  changes=f"the kernel that {seat.label} names")
