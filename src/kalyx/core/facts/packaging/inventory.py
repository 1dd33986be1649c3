"""What a seat can import, distribution by distribution, in the order of its search path."""

from __future__ import annotations

import json

from kalyx.core.errors import Unreadable
from kalyx.core.facts.packaging.distributions import open_shelf
from kalyx.core.facts.packaging.listed_modules import modules_in_record
from kalyx.core.lean.record import replace
from kalyx.core.model import Distribution
from kalyx.core.model.names import normal_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    from kalyx.core.facts.search_path.layers import Layer
    from kalyx.core.machine.interface import Machine

__all__ = ["egg_links", "read_inventory"]

RECORD_LIMIT = 8 * 1024 * 1024  # bytes of one conda record


def read_inventory(machine: Machine, layers: Sequence[Layer], *,
                   sizes: bool = False) -> list[Distribution]:
    """Read every distribution of a search path; each knows what it hides and what hides it."""
    found: list[Distribution] = []
    linked = {machine.key(target) for layer in layers for target in egg_links(machine, layer.path)}
    conda = {key for layer in layers for key in conda_records(machine, layer)}
    prefixes_done: set[str] = set()
    for layer in layers:
        metadata = open_shelf(machine, layer.path, layer.layer)
        for distribution in metadata.distributions():
            if sizes:
                distribution = replace(distribution, size=metadata.size_of(distribution))
            if not distribution.editable and machine.key(layer.path) in linked:
                distribution = replace(distribution, editable=True)  # a source folder with an egg-link
            if (normal_name(distribution.name), distribution.version) in conda:
                distribution = replace(distribution, installer="conda")
            found.append(distribution)
        for record in conda_records(machine, layer).values():
            if record not in prefixes_done:
                prefixes_done.add(record)
                named = {normal_name(d.name) for d in found}
                bare = _without_metadata(machine, layer, record, named)
                found += [bare] if bare is not None else []
    return mark_hidden(found)


def _without_metadata(machine: Machine, layer: Layer, record: str,
                      named: Iterable[str]) -> Distribution | None:
    """Return what conda installed into a site folder without Python metadata of its own."""
    if normal_name(machine.path.basename(record).rsplit("-", 2)[0]) in named:
        return None
    try:
        data = machine.read_whole(record, RECORD_LIMIT)
        if b"site-packages" not in data:
            return None  # a library or a program: nothing that could be imported
        content = json.loads(data)
        files = [str(f).replace("\\", "/") for f in content["files"]]
        name, version = str(content["name"]), str(content["version"])
    except (Unreadable, ValueError, KeyError, TypeError, RecursionError):
        return None
    inside = [f.partition("site-packages/")[2] for f in files if "site-packages/" in f]
    if any(f.split("/")[0].endswith((".dist-info", ".egg-info")) for f in inside):
        return None  # it has metadata, under another name
    modules = sorted(modules_in_record("\n".join(inside)))
    if not modules:
        return None
    return Distribution(name, version, layer.layer, layer.path, "conda", modules=tuple(modules),
                        metadata=record)


def egg_links(machine: Machine, folder: str) -> list[str]:
    """Return the source folders that a site folder's .egg-link files name."""
    found = []
    for name in machine.names_in(folder):
        if name.endswith(".egg-link"):
            try:
                first = machine.read_beginning(machine.path.join(folder, name), 4096).splitlines()[:1]
            except Unreadable:
                continue
            found += [machine.absolute(line.strip(), folder) for line in first if line.strip()]
    return found


def conda_records(machine: Machine, layer: Layer) -> dict[tuple[str, str], str]:
    """Map name and version of what conda installed into a layer's prefix to its record.

    Its records are called ``NAME-VERSION-BUILD.json``; no other file says who
    put a package there when the package's own metadata does not.
    """
    m = machine
    prefix = m.path.dirname(m.path.dirname(m.path.dirname(layer.path)))
    if layer.layer not in ("env", "base"):
        return {}
    if m.platform == "win32":
        prefix = m.path.dirname(m.path.dirname(layer.path))
    found = {}
    for record in m.names_in(m.path.join(prefix, "conda-meta")):
        parts = record.removesuffix(".json").rsplit("-", 2)
        if record.endswith(".json") and len(parts) == 3:
            found[normal_name(parts[0]), parts[1]] = m.path.join(prefix, "conda-meta", record)
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
