"""What lock files pin, of what is needed on one Python and system: by the graph of their packages.

Read are the locks that tools keep of their own: tables of packages in TOML, and those in JSON that have a default
set and one for development. PEP 751 is read with what else a project says.
"""

from __future__ import annotations

from kalyx.core.facts.packaging.requirements import applies
from kalyx.core.lean.record import record
from kalyx.core.model.names import normal_name, requirement_extras, requirement_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Collection, Iterator, Mapping
    from typing import Any

__all__ = ["Pin", "pins_in_json", "pins_in_toml"]

_MAIN_GROUPS = frozenset({"main", "default"})


@record
class Pin:
    """A distribution that is locked. The version is empty where several are, each for another Python or system."""

    name: str
    version: str
    url: str = ""
    is_optional: bool = False  # of an extra or a group: for development, say


@record
class _Edge:
    """That one package of a lock asks for another."""

    name: str
    marker: str
    extras: tuple[str, ...] = ()


def pins_in_json(content: Any, markers: Mapping[str, str]) -> list[Pin] | None:
    """Return what a lock in JSON pins; None where it is no lock. Without `markers` all of it counts."""
    if not isinstance(content, dict) or "_meta" not in content or not isinstance(content.get("default"), dict):
        return None
    found = {}
    for group in ("develop", "default"):
        for name, said in (content.get(group) or {}).items():
            if isinstance(said, dict) and _applies(said.get("markers"), markers):
                url = next((str(said[k]) for k in ("git", "file", "path") if isinstance(said.get(k), str)), "")
                found[name] = Pin(name, str(said.get("version", "")).removeprefix("=="), url, group != "default")
    return list(found.values())


def pins_in_toml(content: Any, markers: Mapping[str, str], roots: Collection[str] = ()) -> list[Pin] | None:
    """Return what a lock in TOML pins; None where it is no lock. Without `markers` all of it counts.

    `roots` are the names that the project asks for, where the lock does not have the project itself.
    """
    packages = content.get("package") if isinstance(content, dict) else None
    if not isinstance(packages, list) or not all(isinstance(p, dict) and isinstance(p.get("name"), str)
                                                 for p in packages):
        return None
    by_name: dict[str, list[dict[str, Any]]] = {}
    for package in packages:
        if _applies(package.get("marker", package.get("markers")), markers) and _fits(package, markers):
            by_name.setdefault(normal_name(package["name"]), []).append(package)
    own = {name for name, some in by_name.items() if any(_is_own(p) for p in some)}
    main = _reached(by_name, [_Edge(n, "") for n in own or _first(by_name, roots)], markers)
    beside = [edge for n in own for p in by_name[n] for edge in _edges_of_groups(p)]
    others = _reached(by_name, beside, markers)
    found = [Pin(p["name"], "", is_optional=True) for n in sorted(own) for p in by_name[n][:1] if not _is_virtual(p)]
    for name in sorted({*main, *others} - own):
        versions = {str(p.get("version", "")) for p in by_name[name]}
        one = by_name[name][0]
        found.append(Pin(one["name"], versions.pop() if len(versions) == 1 else "", _url_of(one),
                         name not in main or _is_aside(one)))
    return found


def _applies(marker: Any, markers: Mapping[str, str]) -> bool:
    return not isinstance(marker, str) or not marker or not markers or applies(f"x; {marker}", markers)


def _fits(package: dict[str, Any], markers: Mapping[str, str]) -> bool:
    """Whether one of several versions is that for this Python and system."""
    forks = package.get("resolution-markers")
    return not isinstance(forks, list) or any(_applies(marker, markers) for marker in forks)


def _is_own(package: dict[str, Any]) -> bool:
    source = package.get("source")
    if isinstance(source, dict):
        return any(isinstance(source.get(k), str) for k in ("virtual", "editable"))
    return package.get("path") == "." or package.get("path") == "./"


def _is_virtual(package: dict[str, Any]) -> bool:
    """Whether it is a project that is not put into the environment itself."""
    source = package.get("source")
    return isinstance(source, dict) and "virtual" in source


def _is_aside(package: dict[str, Any]) -> bool:
    groups = package.get("groups")
    aside = isinstance(groups, list) and bool(groups) and not _MAIN_GROUPS.intersection(map(str, groups))
    return aside or package.get("optional") is True or package.get("category", "main") != "main"


def _url_of(package: dict[str, Any]) -> str:
    """Return where a package is from, if that is no index."""
    source = package.get("source")
    said = source if isinstance(source, dict) else package
    kind = str(said.get("type", ""))
    if isinstance(said.get("git"), str):
        plain, _, commit = said["git"].partition("#")
        return f"git+{plain.split('?')[0]}{f'@{commit}' if commit else ''}"
    if kind == "git":
        return f"git+{said.get('url', '')}@{said.get('resolved_reference', said.get('reference', ''))}"
    place = said.get("url") if kind in ("", "url", "file", "directory") else None
    return str(place) if isinstance(place, str) else ""


def _edges(package: dict[str, Any], extras: Collection[str] = ()) -> Iterator[_Edge]:
    """Yield what a package asks for, with some of its extras: in rows, by names, or in lines."""
    yield from _listed(package.get("dependencies"))
    of_extras = package.get("optional-dependencies")
    if isinstance(of_extras, dict):
        for extra in extras:
            yield from _listed(of_extras.get(extra))


def _edges_of_groups(package: dict[str, Any]) -> Iterator[_Edge]:
    for key in ("optional-dependencies", "dev-dependencies", "dependency-groups"):
        groups = package.get(key)
        for group in groups.values() if isinstance(groups, dict) else ():
            yield from _listed(group)


def _listed(said: Any) -> Iterator[_Edge]:
    rows = said if isinstance(said, list) else ()
    if isinstance(said, dict):
        rows = [{**(one if isinstance(one, dict) else {}), "name": name} for name, some in said.items()
                for one in (some if isinstance(some, list) else [some])]
    for row in rows:
        if isinstance(row, str):
            yield _Edge(normal_name(requirement_name(row)), row.partition(";")[2].strip(), requirement_extras(row))
        elif isinstance(row, dict) and isinstance(row.get("name"), str):
            marker, extras = row.get("marker", row.get("markers")), row.get("extra", row.get("extras"))
            yield _Edge(normal_name(row["name"]), marker if isinstance(marker, str) else "",
                        tuple(e for e in extras if isinstance(e, str)) if isinstance(extras, list) else ())


def _first(by_name: Mapping[str, list[dict[str, Any]]], roots: Collection[str]) -> set[str]:
    """Return the packages that the project asks for itself, and those that no other of the lock asks for."""
    asked = {edge.name for some in by_name.values() for p in some for edge in (*_edges(p), *_edges_of_groups(p))}
    first = {n for n in by_name if n not in asked or n in roots}
    return first | (by_name.keys() - _reached(by_name, [_Edge(n, "") for n in first], {}))  # some ask for each other


def _reached(by_name: Mapping[str, list[dict[str, Any]]], edges: list[_Edge], markers: Mapping[str, str]) -> set[str]:
    """Return the names that some edges lead to, all the way down, where their markers apply."""
    found: dict[str, set[str]] = {}  # with the extras that were asked for
    queue = list(edges)
    while queue:
        edge = queue.pop()
        if edge.name not in by_name or not _applies(edge.marker, markers) or (
                edge.name in found and found[edge.name].issuperset(edge.extras)):
            continue
        extras = found.setdefault(edge.name, set())
        extras.update(edge.extras)
        queue += [further for p in by_name[edge.name] for further in _edges(p, extras)]
    return set(found)
