"""A seat with its findings."""

from __future__ import annotations

from kalyx.core.lean.record import replace
from kalyx.core.verdicts.catalogue import CATALOGUE
from kalyx.core.verdicts.known import as_known

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.environments.neighbours import Neighbours
    from kalyx.core.facts.files import Files
    from kalyx.core.facts.seats.context import SeatFacts
    from kalyx.core.model import Finding, Seat

__all__ = ["judge_seat"]


def judge_seat(facts: SeatFacts, files: Files, neighbours: Neighbours) -> Seat:
    """Return the seat with all its findings, those of its environment with that."""
    nothing: list[Finding] = []
    found = as_known(files, lambda: _of_kind(facts, files, neighbours), nothing)
    if facts.seat.interpreter is not None and not facts.seat.interpreter.works:
        found = as_known(files, lambda: _of_interpreter(facts, files, neighbours, found), found)
    environment = facts.seat.environment
    if environment is None:
        return replace(facts.seat, findings=tuple(found))
    from kalyx.core.verdicts.seats.environment import judge_environment
    from kalyx.core.verdicts.seats.interpreter import runs_as_base
    from kalyx.core.verdicts.seats.leaks import judge_leaks

    as_base = as_known(files, lambda: runs_as_base(facts, files), None)
    found = [*found, *([as_base] if as_base is not None else [])]
    found += as_known(files, lambda: judge_leaks(facts, files, neighbours), nothing)
    if facts.ran is not None and facts.live is None:  # it ran: what would keep it from that is not asked
        return replace(facts.seat, findings=tuple(found))
    health = as_known(files, lambda: judge_environment(environment, files, lambda: neighbours.bases), nothing)
    return replace(facts.seat, findings=tuple(found), environment=replace(environment, findings=tuple(health)))


def _of_kind(facts: SeatFacts, files: Files, neighbours: Neighbours) -> list[Finding]:
    """Return what the checks of its kind find; only those are loaded."""
    kind = facts.seat.kind
    if kind == "shell":
        from kalyx.core.verdicts.seats.shell import judge_shell

        return list(judge_shell(facts, files, neighbours))
    if kind == "editor":
        from kalyx.core.verdicts.seats.editor import judge_editor

        gone = facts.seat.interpreter is not None and facts.seat.interpreter.known_by == "gone"
        return list(judge_editor(facts, files, neighbours.environments if gone else []))
    if kind in ("kernel", "notebook"):
        from kalyx.core.verdicts.seats.kernel import judge_kernel

        return list(judge_kernel(facts, files, neighbours))
    if facts.live is not None:
        from kalyx.core.verdicts.seats.live import judge_live

        return judge_live(facts, files)
    if kind == "script" and facts.cannot_start:
        from kalyx.core.verdicts.seats.script import judge_script

        return list(judge_script(facts, files))
    return []


def _of_interpreter(facts: SeatFacts, files: Files, neighbours: Neighbours, found: list[Finding]) -> list[Finding]:
    """Return what is wrong with an interpreter that does not work, before what was found of the seat."""
    from kalyx.core.verdicts.seats.interpreter import env_gone, interpreter_broken, interpreter_gone

    general = [interpreter_gone(facts, files, lambda: neighbours.bases, lambda: neighbours.environments),
               interpreter_broken(facts, files)]
    if general[0] is not None:
        found = [*found, *env_gone(facts, files, lambda: neighbours.bases)]
    said_better = {slug for f in found for slug in CATALOGUE[f.cause].instead_of}
    return [f for f in general if f is not None and f.cause not in said_better] + found
