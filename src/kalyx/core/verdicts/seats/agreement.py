"""Whether the seats of a folder use the same environment."""

from __future__ import annotations

from kalyx.core.lean.record import replace
from kalyx.core.model import Agreement, Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.reading.seat_names import short_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.seats.context import SeatFacts
    from kalyx.core.model import Kernel, Seat

__all__ = ["judge_agreement"]


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
    from kalyx.core.verdicts.remedies.line_up import line_up

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
        tuple(evidence), (*[line_up(f, main[0], files, kernels) for f in odd[:4]], *_other_way(main, odd, files)))


def _other_way(main: Sequence[Seat], odd: Sequence[SeatFacts], files: Files) -> tuple[Remedy, ...]:
    """Return how the shell comes to use what another seat does, where it is the shell that the others are held against.

    What a project's files name is as likely meant as what happens to be active.
    """
    from kalyx.core.verdicts.remedies.line_up import use_in_shell

    other = next((f.seat for f in odd if f.seat.kind in ("editor", "notebook", "script")
                  and not any(x.is_problem for x in f.seat.findings)), None)
    if other is None or other.environment is None or other.interpreter is None or [s.kind for s in main] != ["shell"]:
        return ()
    back = use_in_shell(other.environment, other.interpreter.path, files)
    return (replace(back, do=f"Or the other way round: {back.do[0].lower()}{back.do[1:]}"),)


def _place(seat: Seat) -> str:
    environment = seat.environment
    assert environment is not None
    return f"{environment.path} (Python {environment.python_version or '?'})"


def _listed(names: list[str]) -> str:
    return names[0] if len(names) == 1 else ", ".join(names[:-1]) + " and " + names[-1]
