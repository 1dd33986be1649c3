"""A seat with its findings."""

from __future__ import annotations

from kalyx.core.lean.record import replace
from kalyx.core.verdicts.catalogue import CATALOGUE

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.environments.neighbours import Neighbours
    from kalyx.core.facts.files import Files
    from kalyx.core.facts.seats.context import SeatFacts
    from kalyx.core.model import Finding, Seat

__all__ = ["judge_seat"]


def judge_seat(facts: SeatFacts, files: Files, neighbours: Neighbours) -> Seat:
    """Return the seat with all its findings, those of its environment with that."""
    found: list[Finding] = []
    if facts.seat.kind == "shell":  # only the checks of its kind are loaded
        from kalyx.core.verdicts.seats.shell import judge_shell

        found += judge_shell(facts, files, neighbours)
    elif facts.seat.kind == "editor":
        from kalyx.core.verdicts.seats.editor import judge_editor

        gone = facts.seat.interpreter is not None and facts.seat.interpreter.known_by == "gone"
        found += judge_editor(facts, files, neighbours.environments if gone else [])
    elif facts.seat.kind in ("kernel", "notebook"):
        from kalyx.core.verdicts.seats.kernel import judge_kernel

        found += judge_kernel(facts, files, neighbours)
    elif facts.seat.kind == "script" and facts.cannot_start:
        from kalyx.core.verdicts.seats.script import judge_script

        found += judge_script(facts, files)
    if facts.seat.interpreter is not None and not facts.seat.interpreter.works:
        from kalyx.core.verdicts.seats.interpreter import env_gone, interpreter_broken, interpreter_gone

        general = [interpreter_gone(facts, files, lambda: neighbours.bases, lambda: neighbours.environments),
                   interpreter_broken(facts, files)]
        if general[0] is not None:
            found += env_gone(facts, files, lambda: neighbours.bases)
        said_better = {slug for f in found for slug in CATALOGUE[f.cause].instead_of}
        found = [f for f in general if f is not None and f.cause not in said_better] + found
    if facts.seat.environment is None:
        return replace(facts.seat, findings=tuple(found))
    from kalyx.core.verdicts.seats.environment import judge_environment
    from kalyx.core.verdicts.seats.interpreter import runs_as_base
    from kalyx.core.verdicts.seats.leaks import judge_leaks

    as_base = runs_as_base(facts, files)
    found += [as_base] if as_base is not None else []

    found += judge_leaks(facts, files, neighbours)
    health = judge_environment(facts.seat.environment, files, lambda: neighbours.bases)
    environment = replace(facts.seat.environment, findings=tuple(health))
    return replace(facts.seat, findings=tuple(found), environment=environment)
