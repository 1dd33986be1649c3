"""What a seat can import, distribution by distribution, in the order of its search path."""

from __future__ import annotations

from collections.abc import Sequence

from kalyx.core.errors import Unreadable
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
    linked = {machine.key(target) for layer in layers for target in egg_links(machine, layer.path)}
    conda = {key for layer in layers for key in conda_records(machine, layer)}
    for layer in layers:
        shelf = open_shelf(machine, layer.path, layer.layer)
        for distribution in shelf.distributions():
            if sizes:
                distribution = replace(distribution, size=shelf.size_of(distribution))
            if not distribution.editable and (
                    layer.layer == "link" or machine.key(layer.path) in linked):
                distribution = replace(distribution, editable=True)  # a linked source folder
            if (normal_name(distribution.name), distribution.version) in conda:
                distribution = replace(distribution, installer="conda")
            found.append(distribution)
    return mark_hidden(found)


def egg_links(machine: Machine, folder: str) -> list[str]:
    """Return the source folders that a site folder's .egg-link files name."""
    found = []
    for name in machine.names_in(folder):
        if name.endswith(".egg-link"):
            try:
                first = machine.read_text(machine.path.join(folder, name), 4096).splitlines()[:1]
            except Unreadable:
                continue
            found += [machine.absolute(line.strip(), folder) for line in first if line.strip()]
    return found


def conda_records(machine: Machine, layer: Layer) -> list[tuple[str, str]]:
    """Return name and version of what conda installed into a layer's prefix.

    Its records are called ``NAME-VERSION-BUILD.json``; no other file says who
    put a package there when the package's own metadata does not.
    """
    m = machine
    prefix = m.path.dirname(m.path.dirname(m.path.dirname(layer.path)))
    if layer.layer not in ("env", "base"):
        return []
    if m.platform == "win32":
        prefix = m.path.dirname(m.path.dirname(layer.path))
    found = []
    for record in m.names_in(m.path.join(prefix, "conda-meta")):
        parts = record.removesuffix(".json").rsplit("-", 2)
        if record.endswith(".json") and len(parts) == 3:
            found.append((normal_name(parts[0]), parts[1]))
    return found


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
