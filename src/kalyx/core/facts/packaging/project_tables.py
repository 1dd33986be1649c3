"""The tables in which projects say what they need, and what tools keep of their own, read as requirements (PEP 508)."""

from __future__ import annotations

import re

from kalyx.core.model.names import requirement_name
from kalyx.core.tables.import_names import distribution_by_conda
from kalyx.core.toml import load_toml

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator
    from typing import Any

__all__ = ["READERS", "Extra", "OfConda", "of_lock"]

LONGEST_LINE = 8192  # characters


class Extra(str):
    """A requirement that not everybody needs."""

    __slots__ = ()


class OfConda(str):
    """A package of conda's, by the name of the distribution in it; ``written`` is its own."""

    written = ""


def _of_pyproject(text: str) -> Iterator[str]:
    """Yield what pyproject.toml asks for: PEP 621, the groups of PEP 735, and a tool's own table."""
    content = load_toml(text)
    project = content.get("project", {})
    yield from _texts(project.get("dependencies", []), "project.dependencies")
    for name, group in (*project.get("optional-dependencies", {}).items(),
                        *content.get("dependency-groups", {}).items()):
        yield from map(Extra, _texts(group, f"the group {name}"))
    own = content.get("tool", {}).get("poetry", {})
    yield from _of_names(own.get("dependencies", {}))
    for table in (own.get("dev-dependencies", {}), *[g.get("dependencies", {}) for g in own.get("group", {}).values()]):
        yield from map(Extra, _of_names(table))


def _texts(said: object, name: str) -> Iterator[str]:
    """Yield what is text in a list; a group may also hold tables, which name another one.

    Raises:
        ValueError: it is no list. A text by itself is none, either: it would be one of single letters.
    """
    if not isinstance(said, list):
        raise ValueError(f"{name} is no list of requirements")
    yield from (item for item in said if isinstance(item, str))


def _of_pipfile(text: str) -> Iterator[str]:
    content = load_toml(text)
    yield from _of_names(content.get("packages", {}))
    yield from map(Extra, _of_names(content.get("dev-packages", {})))


def _of_names(table: dict[str, Any]) -> Iterator[str]:
    """Yield the requirements of a table of names and versions, or of tables that say more of them."""
    for name, said in table.items():
        for one in said if isinstance(said, list) else [said]:
            more = one if isinstance(one, dict) else {"version": one}
            version = more.get("version", "*") if isinstance(more.get("version", "*"), str) else "*"
            if name.lower() != "python":
                whole = f"{name}{_extras_of(more)}{_specifier(version)}{_marker_of(more)}"
                yield Extra(whole) if more.get("optional") is True else whole


def _extras_of(said: dict[str, Any]) -> str:
    extras = said.get("extras")
    extras = [e for e in extras if isinstance(e, str)] if isinstance(extras, list) else []
    return f"[{','.join(extras)}]" if extras else ""


def _marker_of(said: dict[str, Any]) -> str:
    """Return where alone it is asked for, as a marker (PEP 508)."""
    parts = [f"({said['markers']})"] if isinstance(said.get("markers"), str) else []
    if isinstance(said.get("python"), str):
        bounds = re.findall(r"(<=|>=|==|!=|<|>)\s*(\d+(?:\.\d+)?)", _specifier(said["python"]))
        parts += [f"python_version {sign} '{version}'" for sign, version in bounds]
    parts += [f"sys_platform == '{said['platform']}'"] if isinstance(said.get("platform"), str) else []
    return f"; {' and '.join(parts)}" if parts else ""


def _specifier(version: str) -> str:
    """Put a version with ``^`` or ``~`` before it, or nothing, into the words of PEP 440."""
    parts = re.fullmatch(r"([\^~]?)\s*(\d{1,9}(?:\.\d{1,9}){0,9})", version.strip())
    if parts is None:
        return "" if version.strip() == "*" else version.strip()
    sign, numbers = parts[1], [int(n) for n in parts[2].split(".")]
    if not sign:
        return f"=={parts[2]}"
    kept = next((n for n, part in enumerate(numbers) if part), len(numbers) - 1) if sign == "^" else (
        min(1, len(numbers) - 1))
    above = [*numbers[:kept], numbers[kept] + 1]
    return f">={parts[2]},<{'.'.join(map(str, above))}"


def _of_setup(text: str) -> Iterator[str]:
    import configparser

    parser = configparser.ConfigParser(interpolation=None)
    try:
        parser.read_string("\n".join(line if len(line) < LONGEST_LINE else "" for line in text.splitlines()))
    except configparser.Error as error:
        raise ValueError(f"it is not INI: {str(error).splitlines()[0]}") from None
    wanted = parser.get("options", "install_requires", fallback="")
    yield from _lines_of(wanted)
    if parser.has_section("options.extras_require"):
        extras = [value for _, value in parser.items("options.extras_require")]
        yield from (Extra(line) for text in extras for line in _lines_of(text))


def _of_setup_script(text: str) -> Iterator[str]:
    """Yield what is written out in a setup.py."""
    from kalyx.core.facts.packaging.setup_script import handed_to_setup

    said = handed_to_setup(text)
    yield from _lines_of(said.get("install_requires"))
    extras = said.get("extras_require")
    for group in extras.values() if isinstance(extras, dict) else ():
        yield from map(Extra, _lines_of(group))


def _lines_of(said: object) -> list[str]:
    """Return the requirements in a text or a list, without comments; ``file:`` names a list that is read by itself."""
    lines = said.splitlines() if isinstance(said, str) else said if isinstance(said, list) else ()
    plain = [re.sub(r"(?:^|\s)#.*", "", line).strip() for line in lines if isinstance(line, str)]
    return [line for line in plain if line and not line.startswith("file:")]


def of_lock(text: str) -> Iterator[str]:
    """Yield what a lock file pins (PEP 751).

    Raises:
        ValueError, TypeError, AttributeError, KeyError: it is none.
    """
    for package in load_toml(text).get("packages", ()):
        if not isinstance(package["name"], str):
            raise ValueError("a package that it pins has no name")
        marker = f"; {package['marker']}" if package.get("marker") else ""
        pin = f"=={package['version']}" if package.get("version") else ""
        yield f"{package['name']}{pin}{marker}"


def _of_conda(text: str) -> Iterator[str]:
    """Yield what the list of a conda environment asks for, and the list for pip in it."""
    inside = for_pip = False
    alone = re.search(r"^dependencies:[ \t]*(?!#)(\S.*)$", text, re.MULTILINE)
    if alone is not None:  # all of it in one line
        if not (alone[1].startswith("[") and alone[1].rstrip().endswith("]")):
            raise ValueError("its dependencies are no list, or one that goes on after its first line")
        text = "dependencies:\n" + "".join(f"  - {word.strip()}\n" for word in alone[1].strip()[1:-1].split(","))
    for line in text.splitlines():
        plain = line.split(" #")[0].rstrip()
        if plain and not plain[0].isspace() and not plain.startswith("-"):
            inside, for_pip = plain.startswith("dependencies:"), False
        item = re.match(r"(?<!\s)\s*-\s+[\"']?([^\"']+)", plain)
        if not inside or item is None:
            continue
        word = item[1].strip()
        if word == "pip:":
            for_pip = True
        elif for_pip:  # as in pip's own lists: options, and places, which mostly have no name
            if not word.startswith(("-", ".", "/", "~")) and "://" not in word.split("@")[0]:
                yield word
        elif requirement_name(word := word.rpartition("::")[2]) not in ("python", "pip", ""):
            yield _as_distribution(word)


def _as_distribution(word: str) -> OfConda:
    name, said = requirement_name(word), _of_conda_words(word)
    found = OfConda(distribution_by_conda(name.lower()) + said[len(name):] if said.startswith(name) else said)
    found.written = name
    return found


def _of_conda_words(word: str) -> str:
    """Put ``name=1.2``, which is any 1.2 to conda, ``name 1.2`` and ``name=1.2.3=build`` into the words of PEP 440."""
    alone = re.fullmatch(r"([\w.-]+)\s+([\w.*]+)(?:\s+\S+)?", word)
    if alone is not None:
        return f"{alone[1]}=={alone[2]}"
    parts = re.fullmatch(r"([\w.-]+)\s*=\s*([\w.*]+)(=\S+)?", word)
    if parts is None:
        return word
    version = parts[2] if parts[3] or parts[2].endswith("*") else f"{parts[2]}.*"
    return f"{parts[1]}=={version}"


READERS: dict[str, Callable[[str], Iterable[str]]] = {
    "pyproject.toml": _of_pyproject, "setup.cfg": _of_setup, "setup.py": _of_setup_script, "Pipfile": _of_pipfile,
    "environment.yml": _of_conda, "environment.yaml": _of_conda,
}
