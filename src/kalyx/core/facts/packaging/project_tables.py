"""The tables in which projects say what they need, and what tools keep of their own, read as requirements (PEP 508)."""

from __future__ import annotations

import re

from kalyx.core.facts.packaging.conda_lists import as_distribution, of_environment
from kalyx.core.facts.packaging.requirement_rows import Row
from kalyx.core.facts.packaging.tool_tables import place_of, rows_of_names
from kalyx.core.lean.record import replace
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.toml import load_toml

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator
    from typing import Any

__all__ = ["READERS", "of_lock"]

LONGEST_LINE = 8192  # characters


def _of_pyproject(text: str) -> Iterator[Row]:
    """Yield what pyproject.toml asks for: PEP 621, the groups of PEP 735, and tools' own tables."""
    content = load_toml(text)
    project, tools = content.get("project", {}), content.get("tool", {})
    sources = tools.get("uv", {}).get("sources", {})
    for row in _of_project(project, content.get("dependency-groups", {})):
        yield from _from_sources(row, sources) if sources else [row]
    yield from _of_lists(project.get("dynamic", ()), tools.get("setuptools", {}).get("dynamic", {}))
    hooks = tools.get("hatch", {}).get("metadata", {}).get("hooks", {})
    yield from (Row("", pip_list=file) for file in hooks.get("requirements_txt", {}).get("files", ()))
    old = tools.get("flit", {}).get("metadata", {})
    yield from _texts(old.get("requires", []), "tool.flit.metadata.requires")
    own = tools.get("poetry", {})
    yield from rows_of_names(own.get("dependencies", {}))
    for table in (own.get("dev-dependencies", {}), *[g.get("dependencies", {}) for g in own.get("group", {}).values()]):
        yield from rows_of_names(table, is_optional=True)
    yield from _of_pixi(tools.get("pixi", {}))


def _of_project(project: dict[str, Any], groups: dict[str, Any]) -> Iterator[Row]:
    yield from _texts(project.get("dependencies", []), "project.dependencies")
    for name, group in (*project.get("optional-dependencies", {}).items(), *groups.items()):
        yield from _texts(group, f"the group {name}", is_optional=True)


def _texts(said: object, name: str, *, is_optional: bool = False) -> Iterator[Row]:
    """Yield what is text in a list; a group may also hold tables, which name another one.

    Raises:
        ValueError: it is no list. A text by itself is none, either: it would be one of single letters.
    """
    if not isinstance(said, list):
        raise ValueError(f"{name} is no list of requirements")
    yield from (Row(item, is_optional) for item in said if isinstance(item, str))


def _from_sources(row: Row, sources: dict[str, Any]) -> Iterator[Row]:
    """Yield a row with the place from which a table of sources has its distribution, if it has; by markers of these."""
    name = normal_name(requirement_name(row.requirement))
    said = next((said for key, said in sources.items() if normal_name(key) == name), None)
    found = [s for s in (said if isinstance(said, list) else [said]) if isinstance(s, dict)]
    if "@" in row.requirement or not any(map(place_of, found)):
        yield row
        return
    plain, _, marker = row.requirement.partition(";")
    for one in found:
        markers = [f"({m.strip()})" for m in (marker, one.get("marker", "")) if isinstance(m, str) and m.strip()]
        placed = plain.strip() if not place_of(one) else re.split(r"[\s<>=!~(]", plain.strip())[0]
        yield replace(row, requirement=placed, place=place_of(one), marker=" and ".join(markers))


def _of_lists(dynamic: object, table: dict[str, Any]) -> Iterator[Row]:
    """Yield the lists of pip's from which a build takes what is asked for."""
    words = dynamic if isinstance(dynamic, list) else []
    for name, is_optional in (("dependencies", False), ("optional-dependencies", True)):
        said = table.get(name, {}) if name in words else {}
        for one in said.values() if is_optional else [said]:
            files = one.get("file", []) if isinstance(one, dict) else []
            for file in [files] if isinstance(files, str) else files:
                yield Row("", is_optional, pip_list=file)


def _of_pixi(table: dict[str, Any]) -> Iterator[Row]:
    """Yield what a table asks conda for, and pip, for all platforms."""
    for name, said in table.get("dependencies", {}).items():
        version = said.get("version", "*") if isinstance(said, dict) else said
        if name.lower() not in ("python", "pip") and isinstance(version, str):
            plain = re.fullmatch(r"\d[\w.*]*", version)
            yield as_distribution(name if version == "*" else f"{name}=={version}" if plain else f"{name}{version}")
    yield from rows_of_names(table.get("pypi-dependencies", {}))


def _of_pixi_file(text: str) -> Iterator[Row]:
    yield from _of_pixi(load_toml(text))


def _of_pipfile(text: str) -> Iterator[Row]:
    content = load_toml(text)
    yield from rows_of_names(content.get("packages", {}))
    yield from rows_of_names(content.get("dev-packages", {}), is_optional=True)


def _of_setup(text: str) -> Iterator[Row]:
    import configparser

    parser = configparser.ConfigParser(interpolation=None)
    try:
        parser.read_string("\n".join(line if len(line) < LONGEST_LINE else "" for line in text.splitlines()))
    except configparser.Error as error:
        raise ValueError(f"it is not INI: {str(error).splitlines()[0]}") from None
    yield from _rows_of(parser.get("options", "install_requires", fallback=""))
    if parser.has_section("options.extras_require"):
        extras = [value for _, value in parser.items("options.extras_require")]
        yield from (row for text in extras for row in _rows_of(text, is_optional=True))


def _of_setup_script(text: str) -> Iterator[Row]:
    """Yield what is written out in a setup.py."""
    from kalyx.core.facts.packaging.setup_script import handed_to_setup

    said = handed_to_setup(text)
    yield from _rows_of(said.get("install_requires"))
    extras = said.get("extras_require")
    for name, group in extras.items() if isinstance(extras, dict) else ():
        extra, _, marker = name.partition(":")  # without a name all need it, where the marker holds
        for row in _rows_of(group, is_optional=bool(extra)):
            yield replace(row, marker=marker)


def _rows_of(said: object, *, is_optional: bool = False) -> Iterator[Row]:
    """Yield the requirements in a text or a list, without comments, and the lists of pip's that ``file:`` names."""
    lines = said.splitlines() if isinstance(said, str) else said if isinstance(said, list) else ()
    for line in (re.sub(r"(?:^|\s)#.*", "", line).strip() for line in lines if isinstance(line, str)):
        if line.startswith("file:"):
            yield from (Row("", is_optional, pip_list=file.strip()) for file in line[5:].split(",") if file.strip())
        elif line:
            yield Row(line, is_optional)


def of_lock(text: str) -> Iterator[Row]:
    """Yield what a lock file pins (PEP 751).

    Raises:
        ValueError, TypeError, AttributeError, KeyError: it is none.
    """
    for package in load_toml(text).get("packages", ()):
        if not isinstance(package["name"], str):
            raise ValueError("a package that it pins has no name")
        pin = f"=={package['version']}" if package.get("version") else ""
        yield Row(f"{package['name']}{pin}", marker=package.get("marker") or "")


READERS: dict[str, Callable[[str], Iterable[Row]]] = {
    "pyproject.toml": _of_pyproject, "setup.cfg": _of_setup, "setup.py": _of_setup_script, "Pipfile": _of_pipfile,
    "pixi.toml": _of_pixi_file, "environment.yml": of_environment, "environment.yaml": of_environment,
}
