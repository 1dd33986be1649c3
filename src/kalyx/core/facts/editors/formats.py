"""The formats of settings files: text in, what it names out. No files are touched."""

from __future__ import annotations

import json
import re

from kalyx.core.lean.record import record, replace
from kalyx.core.toml import load_toml

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence
    from typing import Any

__all__ = ["FORMATS", "Named", "Said", "line_of_key", "line_with", "parse_env_file", "parse_json_with_comments",
           "read_ini", "read_interpreter_table", "read_json", "read_json_build", "read_json_venv",
           "read_json_workspace", "read_toml", "read_xml_project", "without_comments"]

LONGEST_LINE = 8192  # characters of a line that may hold a path or a command


@record
class Named:
    """A key, its value as written, and the line that it stands on."""

    key: str
    value: str
    line: int | None


@record
class Said:
    """What a settings file says: interpreters by precedence, a variables file, more folders.

    ``members`` are the folders of a workspace that has several: name, and path as written.
    """

    named: tuple[Named, ...] = ()
    env_file: str | None = None
    extra_paths: tuple[str, ...] = ()
    members: tuple[tuple[str, str], ...] = ()


def parse_json_with_comments(text: str) -> Any:
    """Parse JSON that may hold comments and trailing commas.

    Raises:
        ValueError: it is not even that; the message says where.
    """
    plain = without_comments(text)
    if not plain.strip():
        return {}
    try:
        return json.loads(_COMMAS.sub(_blanked_comma, plain))
    except RecursionError:
        raise ValueError("it is nested too deeply") from None
    except ValueError as error:
        raise ValueError(f"it is not JSON: {error}") from None


# Each takes whole texts between quotes as one, so that nothing in them counts; one that is not closed ends
# with its line. Whatever stands there, no place is looked at twice.
_COMMENTS = re.compile(r'"(?:[^"\\\n]|\\.)*"?|//[^\n]*|/\*(?:[^*]|\*(?!/))*(?:\*/)?')
_COMMAS = re.compile(r'"(?:[^"\\\n]|\\.)*"?|,(?=\s*[}\]])')


def without_comments(text: str) -> str:
    """Return JSON with blanks in the place of its comments: every character stays where it stands."""
    return _COMMENTS.sub(_blanked, text) if "/" in text else text


def _blanked(match: re.Match[str]) -> str:
    found = match.group()
    return found if found[0] == '"' else re.sub(r"[^\n]", " ", found)


def _blanked_comma(match: re.Match[str]) -> str:
    return " " if match.group() == "," else match.group()


def _object(text: str) -> dict[str, Any]:
    content = parse_json_with_comments(text)
    if not isinstance(content, dict):
        raise ValueError("it does not hold a JSON object")
    return content


def line_of_key(text: str, key: str) -> int | None:
    """Return the line of a key's last mention outside a comment: the one that counts."""
    plain, quoted = without_comments(text), json.dumps(key)
    place = plain.rfind(quoted)
    while place >= 0 and not plain[place + len(quoted): place + len(quoted) + 100].lstrip().startswith(":"):
        place = plain.rfind(quoted, 0, place)
    return plain.count("\n", 0, place) + 1 if place >= 0 else None


def line_with(text: str, word: str) -> int | None:
    """Return the first line that holds a word."""
    return next((n for n, line in enumerate(text.splitlines(), 1) if word in line), None)


def _from_settings(content: dict[str, Any], text: str, keys: Sequence[str],
                   extra: tuple[str, str]) -> Said:
    named = tuple(Named(k, content[k], line_of_key(text, k)) for k in keys
                  if isinstance(content.get(k), str) and content[k].strip())
    env_file, paths = content.get(extra[0]), content.get(extra[1])
    return Said(named, env_file if isinstance(env_file, str) and env_file else None,
                tuple(p for p in paths if isinstance(p, str)) if isinstance(paths, list) else ())


def read_json(text: str, keys: Sequence[str], extra: tuple[str, str]) -> Said:
    """Read settings with dotted names at the top level."""
    return _from_settings(_object(text), text, keys, extra)


def read_json_workspace(text: str, keys: Sequence[str], extra: tuple[str, str]) -> Said:
    """Read the settings of a multi-root workspace file."""
    content = _object(text)
    settings, folders = content.get("settings"), content.get("folders")
    members = tuple((str(f.get("name") or ""), f["path"]) for f in folders if isinstance(f, dict)
                    and isinstance(f.get("path"), str)) if isinstance(folders, list) else ()
    said = _from_settings(settings, text, keys, extra) if isinstance(settings, dict) else Said()
    return replace(said, members=members)


def read_json_venv(text: str, keys: Sequence[str], extra: tuple[str, str]) -> Said:
    """Read a configuration that names an environment by folder and name."""
    return _venv_of(_object(text), text, lambda key: line_of_key(text, key))


def _venv_of(table: dict[str, Any], text: str, line: Callable[[str], int | None],
             prefix: str = "") -> Said:
    for key in ("pythonPath", "python_executable", "python", "python-interpreter-path"):
        if isinstance(table.get(key), str):
            return Said((Named(prefix + key, table[key], line(key)),))
    venv, folder = table.get("venv"), table.get("venvPath", ".")
    if not isinstance(venv, str) or not isinstance(folder, str):
        return Said()
    return Said((Named(prefix + "venv", f"{folder.rstrip('/')}/{venv}", line("venv")),))


def read_json_build(text: str, keys: Sequence[str], extra: tuple[str, str]) -> Said:
    """Read a build file, or a project file with build systems: a command line names the program."""
    content = _object(text)
    found: list[Named] = []
    settings = content.get("settings")
    if isinstance(settings, dict):
        found += [Named(k, settings[k], line_of_key(text, k)) for k in keys
                  if isinstance(settings.get(k), str)]
    systems = content.get("build_systems", [content])
    for system in systems if isinstance(systems, list) else ():
        if isinstance(system, dict):
            found += _command_of(system, text)
    return Said(tuple(found))


def _command_of(system: dict[str, Any], text: str) -> list[Named]:
    import shlex

    for key in ("cmd", "shell_cmd"):
        command: Any = system.get(key)
        if isinstance(command, str):
            try:
                command = shlex.split(command[:LONGEST_LINE])
            except ValueError:
                command = str(command)[:LONGEST_LINE].split()
        if isinstance(command, list) and command and isinstance(command[0], str) \
                and re.search(r"py(thon|py)[\d.]*w?(\.exe)?$", command[0].lower()):
            return [Named(key, command[0], line_of_key(text, key))]
    return []


def read_ini(text: str, keys: Sequence[str], extra: tuple[str, str]) -> Said:
    """Read an INI file; keys are section.name. A section's ``default = True`` switches it off."""
    import configparser

    parser = configparser.RawConfigParser(strict=False, allow_no_value=True)
    try:
        # no path is longer, and what takes a line apart there takes very long for a long one
        parser.read_string("\n".join(line if len(line) < LONGEST_LINE else "" for line in text.splitlines()))
    except (configparser.Error, ValueError, TypeError, AttributeError) as error:
        raise ValueError(f"it is not INI: {(str(error).splitlines() or ['?'])[0]}") from None
    found = []
    for key in keys:
        section, _, name = key.partition(".")
        value = parser.get(section, name, fallback="") if parser.has_section(section) else ""
        value = (value or "").strip().strip("'\"")
        own = parser.get(section, "default", fallback="False") if value else ""
        if value and (own or "").strip() != "True":
            found.append(Named(key, value, line_with(text, name)))
    return Said(tuple(found))


def read_toml(text: str, keys: Sequence[str], extra: tuple[str, str]) -> Said:
    """Read a TOML file; keys are dotted paths, and a ``venv`` goes with its ``venvPath``."""
    content = load_toml(text)
    for key in keys:
        *tables, last = key.split(".")
        table: Any = content
        for name in tables:
            table = table.get(name) if isinstance(table, dict) else None
        if isinstance(table, dict) and isinstance(table.get(last), str):
            said = _venv_of(table, text, lambda k: line_with(text, k), ".".join(tables) + ".")
            return said if said.named else Said((Named(key, table[last], line_with(text, last)),))
    return Said()


def read_xml_project(text: str, keys: Sequence[str], extra: tuple[str, str]) -> Said:
    """Read the name of a project's interpreter from an XML project file."""
    found = []
    for element in _elements(text):
        kind = element.get("project-jdk-type") or element.get("jdkType") or ""
        for key in keys:
            value = element.get(key)
            if value and "python" in kind.lower():
                found.append(Named(key, value, line_with(text, key)))
    return Said(tuple(found))


def read_interpreter_table(text: str) -> dict[str, str]:
    """Read the table of named interpreters: name to the path of the program.

    Raises:
        ValueError: it is not XML.
    """
    found = {}
    for element in _elements(text):
        if element.tag == "jdk":
            said = {child.tag: child.get("value", "") for child in element}
            if said.get("name") and said.get("homePath"):
                found[said["name"]] = said["homePath"]
    return found


def _elements(text: str) -> list[Any]:
    import xml.etree.ElementTree as Tree

    if "<!ENTITY" in text:  # settings have no entities; a bomb has
        raise ValueError("it declares XML entities, which are not read")
    try:
        return list(Tree.fromstring(text).iter())
    except (Tree.ParseError, ValueError) as error:
        raise ValueError(f"it is not XML: {error}") from None


def parse_env_file(text: str) -> dict[str, str]:
    """Read ``NAME=value`` lines, with or without ``export`` and quotes."""
    found = {}
    for line in text.splitlines():
        name, equals, value = line.partition("=")
        name, value = name.strip().removeprefix("export ").strip(), value.strip()
        if equals and name.isidentifier():
            if len(value) > 1 and value[0] == value[-1] and value[0] in "'\"":
                value = value[1:-1]
            found[name] = value
    return found


FORMATS: dict[str, Callable[[str, Sequence[str], tuple[str, str]], Said]] = {
    "json": read_json, "json-workspace": read_json_workspace, "json-build": read_json_build,
    "json-venv": read_json_venv, "ini": read_ini, "toml": read_toml, "xml-project": read_xml_project,
}
