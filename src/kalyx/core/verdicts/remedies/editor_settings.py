"""What a settings file is to say so that its editor uses an environment, in the way in which the file is written."""

from __future__ import annotations

import re

from kalyx.core.facts.editors import settings
from kalyx.core.facts.editors.formats import first_word
from kalyx.core.facts.editors.json_text import JsonText
from kalyx.core.facts.interpreters.environment import prefix_of
from kalyx.core.facts.interpreters.path_lookup import is_python_name
from kalyx.core.lean.record import record
from kalyx.core.model import Remedy
from kalyx.core.verdicts.remedies.unique_edits import edit_between

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

    from kalyx.core.facts.editors.settings import EditorSetting
    from kalyx.core.facts.files import Files

    Way = tuple[str | int, ...]

__all__ = ["WrittenSetting", "point_setting", "write_setting"]

BY_FOLDER = ("tool.ty.environment.python",)  # these name an environment by its folder, where nothing is written yet
# these take a program, and no folder in its place
PROGRAMS_ALONE = ("build-files", "desktop-a", "desktop-b", "checker")
_VARIABLE = re.compile(r"\$\{[^}]+\}|\$(?:project_path|folder|file_path)\b|~(?=[/\\]|$)")


@record
class WrittenSetting:
    """All of a settings file as it is to be, and the key with its value before (None: it had none) and after."""

    text: str
    key: str
    before: str | None
    after: str


def write_setting(files: Files, setting: EditorSetting, program: str) -> WrittenSetting:
    """Return what a settings file is to say so that `program` is what its editor uses; all else in it stays.

    Raises:
        ValueError: it cannot be written; the message says why.
    """
    if setting.trouble:
        raise ValueError(setting.trouble)
    kind, last = setting.editor.format, (setting.key or "").rpartition(".")[2]
    if kind == "xml-project":
        return _write_name(files, setting, program)
    way: Way = setting.way
    if kind == "toml" and not setting.key:
        way = _table_key(setting)
        last = str(way[-1])
    if last == "venv" or (kind == "json-venv" and not setting.key):
        return _write_venv(files, setting, program, tuple(str(w) for w in way[:-1]) or (
            ("tool", "pyright") if kind == "toml" else ()))
    if kind == "ini":
        return _write_ini(files, setting, program)
    key = setting.key or ".".join(map(str, way)) or (setting.editor.keys[:1] or ("cmd",))[0]
    value = _spelled(files, setting, _named_by(files, setting, program, key))
    if kind == "toml":
        from kalyx.core.facts.editors.toml_text import TomlText

        text = TomlText(setting.text).with_value(value, *map(str, way))
    else:
        text = _write_json(setting, way, value)
    return WrittenSetting(text, key, setting.value, value)


def point_setting(files: Files, setting: EditorSetting, program: str) -> Remedy:
    """Return the edit that makes a settings file name `program`; what to do by hand, where it cannot be written."""
    try:
        written = write_setting(files, setting, program)
        edit = edit_between(setting.file, setting.text, written.text)
    except ValueError:
        if setting.editor.format == "xml-project":
            return Remedy(f"Choose {program} for this project in the editor, which knows interpreters by names of its "
                          "own.", "manual", changes=setting.file)
        edit, written = None, WrittenSetting("", setting.key or "", setting.value, program)
    if edit is not None:
        return Remedy(f"Set {written.key} to {written.after}.", "edit", edits=(edit,),
                      changes=f"{setting.file}, line {setting.line}", undoable=True)
    return Remedy(f"In {setting.file}, line {setting.line}, set {written.key} to {written.after}.",
                  "manual", changes=setting.file)


# -- how the file writes paths --------------------------------------------------------------------
def _named_by(files: Files, setting: EditorSetting, program: str, key: str) -> str:
    """Return the program, or the environment's folder where that is what the setting names."""
    like = (setting.value or "").strip().rstrip("/\\")
    if like and (setting.editor.family not in PROGRAMS_ALONE or key in BY_FOLDER):
        return program if is_python_name(re.split(r"[/\\]", like)[-1]) else prefix_of(files, program)
    return prefix_of(files, program) if key in BY_FOLDER else program


def _spelled(files: Files, setting: EditorSetting, path: str) -> str:
    """Write a path as the file writes its own: with its variable, relative, with ``~``, with its slashes."""
    m, like = files, (setting.value or "").strip()
    begun = _VARIABLE.match(like)
    usual = [begun[0]] if begun is not None else [] if like else _usual_variables(files, setting)
    upwards = ".." in re.split(r"[/\\]", like)
    members = dict(setting.members)
    for variable in usual:
        folder = m.home if variable == "~" else settings.fill_variables(m, variable, setting.root, members)
        if "$" not in folder and (m.is_within(path, folder) or (upwards and variable != "~")):
            rest = m.path.relpath(path, folder)
            return _slashes(m, variable + ("" if rest == "." else m.path.sep + rest), like)
    is_path = "/" in like or "\\" in like or not is_python_name(like)
    # where a build file's program is looked for depends on the file that is built
    is_relative = bool(like) and not begun and not m.path.isabs(like) and is_path and (
        setting.editor.family in ("code", "checker") or setting.editor.of_project)
    if (is_relative or (not like and setting.editor.format in ("toml", "json-venv"))) and (
            m.is_within(path, setting.root) or upwards):
        rest = str(m.path.relpath(path, setting.root))
        return _slashes(m, f".{m.path.sep}{rest}" if like.startswith(("./", ".\\")) else rest, like)
    return _slashes(m, path, like)


def _usual_variables(files: Files, setting: EditorSetting) -> list[str]:
    """Return what a person would begin a path with where nothing is written yet, the first that fits first."""
    if not files.is_within(setting.file, setting.root) and not setting.members:
        return []  # it is for all projects
    if setting.editor.family == "code":
        names = [f"${{workspaceFolder:{name}}}" for name, _ in setting.members] if len(setting.members) > 1 else []
        return names or ["${workspaceFolder}"]
    return ["$project_path"] if setting.editor.format == "json-build" and setting.editor.keys else []


def _slashes(files: Files, path: str, like: str) -> str:
    """On Windows, write forward slashes, unless the file has the others."""
    return path if files.platform != "win32" or "\\" in like else path.replace("\\", "/")


# -- the formats ------------------------------------------------------------------------------------
def _write_json(setting: EditorSetting, way: Way, value: str) -> str:
    editor, read = setting.editor, JsonText(setting.text)
    if way:
        if way[-1] == "shell_cmd":
            return read.with_value(_with_first_word(_at(read.content, way), value), *way)
        return read.with_value(value, *way)
    if editor.format == "json":
        return read.with_value(value, editor.keys[0])
    if editor.format == "json-workspace" or editor.keys:
        if "folders" not in read.content:
            read = JsonText(read.with_value([{"path": "."}], "folders"))
        return read.with_value(value, "settings", editor.keys[0])
    if "cmd" in read.content or "shell_cmd" in read.content:
        raise ValueError("its command runs no Python")
    return read.with_value([value, "-u", "$file"], "cmd")


def _at(content: Any, way: Way) -> str:
    for key in way:
        content = content[key]
    return str(content)


def _with_first_word(command: str, word: str) -> str:
    """Return a command line with another program, in quotes where it needs them or had them."""
    _, start, end = first_word(command)
    quote = command[start:start + 1] if command[start:start + 1] in ("'", '"') else '"' if " " in word else ""
    return f"{command[:start]}{quote}{word}{quote}{command[end:]}"


def _write_ini(files: Files, setting: EditorSetting, program: str) -> WrittenSetting:
    from kalyx.core.facts.editors.ini_text import IniText

    key = setting.key or setting.editor.keys[0]
    value = _spelled(files, setting, _named_by(files, setting, program, key))
    text = IniText(setting.text).with_value(value, *key.split(".", 1))
    for name, wanted in setting.editor.also:
        read = IniText(text)
        if read.value(*name.split(".", 1)) != wanted:
            text = read.with_value(wanted, *name.split(".", 1))
    return WrittenSetting(text, key, setting.value, value)


def _table_key(setting: EditorSetting) -> tuple[str, ...]:
    """Return the key to write into a TOML file that names nothing: of a tool that has a table there, else the first."""
    from kalyx.core.toml import load_toml

    content = load_toml(setting.text)
    for key in setting.editor.keys:
        first, tool, *_ = key.split(".")
        if isinstance(content.get(first), dict) and tool in content[first]:
            return tuple(key.split("."))
    return tuple(setting.editor.keys[0].split("."))


def _write_venv(files: Files, setting: EditorSetting, program: str, above: tuple[str, ...]) -> WrittenSetting:
    """Write an environment as the name of a folder, and where that folder lies."""
    m, prefix = files, prefix_of(files, program)
    folder, name = m.path.dirname(prefix), m.path.basename(prefix)
    read = _text_of(setting)
    table: Any = read.content
    for key in above:
        table = table.get(key, {}) if isinstance(table, dict) else {}
    there = table.get("venvPath") if isinstance(table, dict) else None
    text = read.with_value(str(name), *above, "venv")
    if not m.same(m.located(there if isinstance(there, str) else ".", setting.root), folder):
        is_relative = m.is_within(folder, setting.root) or (
            isinstance(there, str) and not m.path.isabs(there) and not there.startswith("~"))
        place = str(m.path.relpath(folder, setting.root)) if is_relative else folder
        written = _slashes(m, place, there if isinstance(there, str) else "")
        text = _text_of(setting, text).with_value(written, *above, "venvPath")
        there = written
    key = ".".join((*above, "venv"))
    return WrittenSetting(text, key, setting.value, f"{there}/{name}" if isinstance(there, str) else str(name))


def _text_of(setting: EditorSetting, text: str | None = None) -> Any:
    if setting.editor.format == "toml":
        from kalyx.core.facts.editors.toml_text import TomlText

        return TomlText(setting.text if text is None else text)
    return JsonText(setting.text if text is None else text)


def _write_name(files: Files, setting: EditorSetting, program: str) -> WrittenSetting:
    """Write the name that the editor's own table of interpreters has for a program."""
    from kalyx.core.facts.editors.xml_text import XmlText

    name = next((name for _, table in settings.interpreter_tables(files) for name, value in table.items()
                 if files.same(prefix_of(files, settings.program_of_name(files, value, setting.root)),
                               prefix_of(files, program))), None)
    if name is None:
        raise ValueError(f"the editor's own table of interpreters has none at {program}: add it there first")
    if setting.key is None and not setting.text.strip():
        text = ('<?xml version="1.0" encoding="UTF-8"?>\n<project version="4">\n  <component name="ProjectRootManager" '
                'project-jdk-name="" project-jdk-type="Python SDK" />\n</project>\n')
    else:
        text = setting.text
    read = XmlText(text)
    if setting.way:
        number, key = int(setting.way[0]), str(setting.way[1])
    else:
        found = next((n for n, e in enumerate(read.elements)
                      if e.attributes.get("name") == "ProjectRootManager"), None)
        if found is None:
            raise ValueError("it has no place for an interpreter: choose one in the editor once")
        number, key = found, "project-jdk-name"
        if "project-jdk-type" not in read.elements[number].attributes:
            read = XmlText(read.with_value("Python SDK", number, "project-jdk-type"))
    return WrittenSetting(read.with_value(name, number, key), key, setting.value, name)
