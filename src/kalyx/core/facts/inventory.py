"""What a seat can import, distribution by distribution, in the order of its search path."""

from __future__ import annotations

from collections.abc import Sequence

from kalyx.core.facts.distributions import normal_name, open_shelf
from kalyx.core.facts.layers import Layer
from kalyx.core.machine import Machine
from kalyx.core.model import Distribution
from kalyx.core.record import replace

__all__ = ["read_inventory"]


def read_inventory(machine: Machine, layers: Sequence[Layer], *,
                   sizes: bool = False) -> list[Distribution]:
    """Read every distribution of a search path; each knows what it hides and what hides it."""
    found: list[Distribution] = []
    for layer in layers:
        shelf = open_shelf(machine, layer.path, layer.layer)
        for distribution in shelf.distributions():
            if sizes:
                distribution = replace(distribution, size=shelf.size_of(distribution))
            if layer.layer == "link" and not distribution.editable:
                distribution = replace(distribution, editable=True)  # a linked source folder
            found.append(distribution)
    return mark_hidden(found)


def mark_hidden(distributions: Sequence[Distribution]) -> list[Distribution]:
    """Say of each distribution which ones of its name it hides, or which one hides it.

    The first on the path is the one that importing finds.
    """
    groups: dict[str, list[int]] = {}
    for number, distribution in enumerate(distributions):
        groups.setdefault(normal_name(distribution.name), []).append(number)
    marked = list(distributions)
    for numbers in groups.values():
        first = marked[numbers[0]]
        # two metadata folders in one place are no hiding, but an untidy install
        others = [n for n in numbers[1:] if marked[n].location != first.location]
        if others:
            marked[numbers[0]] = replace(first, hides=tuple(_brief(marked[n]) for n in others))
        for number in others:
            marked[number] = replace(marked[number], hidden_by=_brief(first))
    return marked


def _brief(distribution: Distribution) -> dict[str, str]:
    return {"name": distribution.name, "version": distribution.version,
            "location": distribution.location}
