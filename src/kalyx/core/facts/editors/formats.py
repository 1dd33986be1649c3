"""The formats of settings files: text in, what it names and where out. No files are touched."""

from __future__ import annotations

import re

from kalyx.core.facts.editors.json_text import JsonText
from kalyx.core.lean.record import record, replace

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence
    from typing import Any

    Path = tuple[str | int, ...]

__all__ = ["FORMATS", "Named", "Said", "first_word", "parse_env_file", "read_ini", "read_interpreter_table",
           "read_json", "read_json_build", "read_json_venv", "read_json_workspace", "read_toml", "read_xml_project"]

LONGEST_LINE = 8192  # characters of a line that may hold a path or a command
INTERPRETER_KEYS = ("pythonPath", "python_executable", "python", "python-interpreter-path")


@record
class Named:
    """A key, its value as written, the line that it stands on, and the way to it in the file."""

    key: str
    value: str
    line: int | None
    way: Path = ()


@record
class Said:
    """What a settings file says: interpreters by precedence, a variables file, more folders.

    ``members`` are the folders of a workspace that has several: name, and path as written.
    """

    named: tuple[Named, ...] = ()
    env_file: str | None = None
    extra_paths: tuple[str, ...] = ()
    members: tuple[tuple[str, str], ...] = ()


def _object(text: str) -> tuple[JsonText, dict[str, Any]]:
    read = JsonText(text)
    if not isinstance(read.content, dict):
        raise ValueError("it does not hold a JSON object")
    return read, read.content


def _from_settings(read: JsonText, content: dict[str, Any], keys: Sequence[str], extra: tuple[str, str],
                   above: Path = ()) -> Said:
    named = tuple(Named(k, content[k], read.line(*above, k), (*above, k)) for k in keys
                  if isinstance(content.get(k), str) and content[k].strip())
    env_file, paths = content.get(extra[0]), content.get(extra[1])
    return Said(named, env_file if isinstance(env_file, str) and env_file else None,
                tuple(p for p in paths if isinstance(p, str)) if isinstance(paths, list) else ())


def read_json(text: str, keys: Sequence[str], extra: tuple[str, str]) -> Said:
    """Read settings with dotted names at the top level."""
    return _from_settings(*_object(text), keys, extra)


def read_json_workspace(text: str, keys: Sequence[str], extra: tuple[str, str]) -> Said:
    """Read the settings of a multi-root workspace file."""
    read, content = _object(text)
    settings, folders = content.get("settings"), content.get("folders")
    members = tuple((str(f.get("name") or ""), f["path"]) for f in folders if isinstance(f, dict)
                    and isinstance(f.get("path"), str)) if isinstance(folders, list) else ()
    said = _from_settings(read, settings, keys, extra, ("settings",)) if isinstance(settings, dict) else Said()
    return replace(said, members=members)


def read_json_venv(text: str, keys: Sequence[str], extra: tuple[str, str]) -> Said:
    """Read a configuration that names an environment by folder and name."""
    read, content = _object(text)
    return _venv_of(content, read.line)


def _venv_of(table: Mapping[str, Any], line: Callable[..., int | None], above: tuple[str, ...] = ()) -> Said:
    prefix = "".join(f"{name}." for name in above)
    for key in INTERPRETER_KEYS:
        if isinstance(table.get(key), str):
            return Said((Named(prefix + key, table[key], line(*above, key), (*above, key)),))
    venv, folder = table.get("venv"), table.get("venvPath", ".")
    if not isinstance(venv, str) or not isinstance(folder, str):
        return Said()
    return Said((Named(f"{prefix}venv", f"{folder.rstrip('/')}/{venv}", line(*above, "venv"), (*above, "venv")),))


def read_json_build(text: str, keys: Sequence[str], extra: tuple[str, str]) -> Said:
    """Read a build file, or a project file with build systems: a command line names the program."""
    read, content = _object(text)
    settings = content.get("settings")
    found = _from_settings(read, settings, keys, extra, ("settings",)).named if isinstance(settings, dict) else ()
    systems = content.get("build_systems")
    if not isinstance(systems, list):
        return Said((*found, *_command_of(content, read, ())))
    more = [_command_of(s, read, ("build_systems", n)) for n, s in enumerate(systems) if isinstance(s, dict)]
    return Said((*found, *[named for several in more for named in several]))


def _command_of(system: dict[str, Any], read: JsonText, above: Path) -> list[Named]:
    for key in ("cmd", "shell_cmd"):
        command, way = system.get(key), (*above, key)
        if isinstance(command, list) and command:
            command, way = command[0], (*way, 0)
            word = command if isinstance(command, str) else ""
        else:
            word = first_word(command)[0] if isinstance(command, str) else ""
        if re.search(r"py(thon|py)[\d.]*w?(\.exe)?$", word.lower()[-40:]):
            return [Named(key, word, read.line(*way), way)]
    return []


_WORD = re.compile(r"""["]([^"]*)["]|[']([^']*)[']|((?:\\[ ]|\S)+)""")


def first_word(command: str) -> tuple[str, int, int]:
    """Return the first word of a command line, and where it begins and ends, its quotes with it."""
    start = len(command) - len(command.lstrip())
    found = _WORD.match(command[:LONGEST_LINE], start)
    if found is None:
        return "", 0, 0
    word = next(g for g in found.groups() if g is not None)
    return (word.replace("\\ ", " ") if found[3] else word), start, found.end()


def read_ini(text: str, keys: Sequence[str], extra: tuple[str, str]) -> Said:
    """Read an INI file; keys are section.name. A section's ``default = True`` switches it off."""
    from kalyx.core.facts.editors.ini_text import IniText

    read, found = IniText(text), []
    for key in keys:
        section, _, name = key.partition(".")
        value = read.value(section, name)
        if value and read.value(section, "default") != "True":
            found.append(Named(key, value, read.line(section, name), (section, name)))
    return Said(tuple(found))


def read_toml(text: str, keys: Sequence[str], extra: tuple[str, str]) -> Said:
    """Read a TOML file; keys are dotted paths, and a ``venv`` goes with its ``venvPath``."""
    from kalyx.core.facts.editors.toml_text import TomlText

    read = TomlText(text)
    for key in keys:
        *tables, last = key.split(".")
        table: Any = read.content
        for name in tables:
            table = table.get(name) if isinstance(table, dict) else None
        if isinstance(table, dict) and isinstance(table.get(last), str):
            said = _venv_of(table, read.line, tuple(tables))
            way = (*tables, last)
            return said if said.named else Said((Named(key, table[last], read.line(*way), way),))
    return Said()


def read_xml_project(text: str, keys: Sequence[str], extra: tuple[str, str]) -> Said:
    """Read the name of a project's interpreter from an XML project file."""
    from kalyx.core.facts.editors.xml_text import XmlText

    read, found = XmlText(text), []
    for number, element in enumerate(read.elements):
        kind = element.attributes.get("project-jdk-type") or element.attributes.get("jdkType") or ""
        for key in keys:
            value = element.attributes.get(key)
            if value and "python" in kind.lower():
                found.append(Named(key, value, read.line(number, key), (number, key)))
    return Said(tuple(found))


def read_interpreter_table(text: str) -> dict[str, str]:
    """Read the table of named interpreters: name to the path of the program.

    Raises:
        ValueError: it is not XML.
    """
    from kalyx.core.facts.editors.xml_text import XmlText

    said: dict[int, dict[str, str]] = {}
    elements = XmlText(text).elements
    for element in elements:
        if element.above and elements[element.above[-1]].tag == "jdk":
            said.setdefault(element.above[-1], {})[element.tag] = element.attributes.get("value", "")
    return {jdk["name"]: jdk["homePath"] for jdk in said.values() if jdk.get("name") and jdk.get("homePath")}


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
