"""Which check comes before which: a partial order, as the checks say it of themselves, made a list."""

from __future__ import annotations

import graphlib

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    from kalyx.core.verdicts.catalogue import Check

__all__ = ["in_order", "silenced_by"]


def in_order(checks: Iterable[Check]) -> list[Check]:
    """Return checks in the order in which they are judged; where none is said, by name.

    Raises:
        ValueError: one comes before another and after it, or names what there is not; the message says which.
    """
    known = {c.name: c for c in checks}
    graph = {name: _before(check, known) for name, check in known.items()}
    sorter = graphlib.TopologicalSorter(graph)
    try:
        sorter.prepare()
    except graphlib.CycleError as error:
        circle = error.args[1]
        raise ValueError(f"{circle[0]} is to come before {circle[1]} and after it: "
                         f"{' < '.join(circle)}") from None
    found: list[Check] = []
    while sorter.is_active():
        ready = sorted(sorter.get_ready())
        found += [known[name] for name in ready]
        sorter.done(*ready)
    return found


def _before(check: Check, known: dict[str, Check]) -> set[str]:
    """Return the names of the checks that are judged before one."""
    found = {c.name for word in (*check.after, *check.not_beside) for c in _meant(word, check, known)}
    if check.last_resort:
        found |= {c.name for c in known.values() if not c.last_resort}
    return found - {check.name}


def _meant(word: str, by: Check, known: dict[str, Check]) -> list[Check]:
    """Return what a word of a check means: one check, those of a cause, or those of a family.

    Those of a family or cause are not its last resorts.
    """
    if word in known:
        return [known[word]]
    found = [c for c in known.values() if word in (c.cause, c.family) and not c.last_resort]
    if not found:
        raise ValueError(f"{by.name} names {word}, and there is no such check, cause or family")
    return found


def silenced_by(check: Check, checks: Sequence[Check]) -> list[str]:
    """Return the causes beside which a check says nothing, families as their members.

    Raises:
        ValueError: it names what there is not.
    """
    known = {c.name: c for c in checks}
    return sorted({c.cause for word in check.not_beside for c in _meant(word, check, known)})
