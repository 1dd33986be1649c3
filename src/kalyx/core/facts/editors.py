"""Editors as data: settings files that name an interpreter, and how their values resolve."""

from __future__ import annotations

import json
import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.interpreters import python_in
from kalyx.core.facts.launchers import find_on_path
from kalyx.core.machine import Machine
from kalyx.core.record import TYPE_CHECKING, dataclass

if TYPE_CHECKING:
    from typing import Any

__all__ = ["EDITORS", "Editor", "EditorSetting", "find_settings", "read_setting"]


@dataclass(frozen=True)
class Editor:
    """A kind of settings file.

    ``file`` is relative to the workspace root; ``keys`` are the names of the
    setting, the one that wins first; values may hold ``${...}`` variables and
    are relative to the root.
    """

    name: str
    file: str
    format: str
    keys: tuple[str, ...]


EDITORS: tuple[Editor, ...] = (
    Editor("workspace settings", ".vscode/settings.json", "json-with-comments",
           ("python.defaultInterpreterPath", "python.pythonPath")),
)
LEVELS_UP = 4


@dataclass(frozen=True)
class EditorSetting:
    """What one settings file says about the interpreter.

    ``value`` is as written, ``program`` what it resolves to (None when the
    file names none); ``trouble`` says why the file cannot be read.
    """

    editor: Editor
    file: str
    root: str
    key: str | None = None
    value: str | None = None
    line: int | None = None
    program: str | None = None
    loses: tuple[str, ...] = ()
    trouble: str = ""
    text: str = ""


def find_settings(machine: Machine, folder: str) -> list[EditorSetting]:
    """Return the settings of the folder and of the nearest parent that has any."""
    m = machine
    found = []
    for editor in EDITORS:
        root = folder
        for _ in range(LEVELS_UP):
            file = m.path.join(root, *editor.file.split("/"))
            if m.exists(file):
                setting = read_setting(m, editor, file, root)
                if setting.program or setting.trouble:
                    found.append(setting)
                break
            parent = m.path.dirname(root)
            if parent == root or root == m.home or m.exists(m.path.join(root, ".git")):
                break
            root = parent
    return found


def editor_for(machine: Machine, file: str) -> tuple[Editor, str] | None:
    """Return the editor that a settings file belongs to and its workspace root."""
    parts = file.replace("\\", "/")
    for editor in EDITORS:
        if parts.endswith("/" + editor.file):
            root = file[: len(file) - len(editor.file) - 1]
            return editor, root
    return None


def read_setting(machine: Machine, editor: Editor, file: str, root: str) -> EditorSetting:
    """Read one settings file; what is wrong with it stands in ``trouble``."""
    m = machine
    try:
        text = m.read_text(file, 4 * 1024 * 1024)
    except Unreadable as error:
        return EditorSetting(editor, file, root, trouble=error.reason)
    try:
        content = parse_json_with_comments(text)
    except ValueError as error:
        return EditorSetting(editor, file, root, trouble=f"it is not JSON: {error}")
    if not isinstance(content, dict):
        return EditorSetting(editor, file, root, trouble="it does not hold a JSON object")
    named = [k for k in editor.keys if isinstance(content.get(k), str) and content[k].strip()]
    if not named:
        return EditorSetting(editor, file, root, text=text)
    value = content[named[0]]
    return EditorSetting(editor, file, root, named[0], value, line_of_key(text, named[0]),
                         resolve_value(m, value, root), tuple(named[1:]), text=text)


def parse_json_with_comments(text: str) -> Any:
    """Parse JSON that may hold comments and trailing commas.

    Raises:
        ValueError: it is not even that; the message says where.
    """
    if not text.strip():
        return {}
    try:
        return json.loads(text)
    except (ValueError, RecursionError):
        pass
    import json5

    try:
        return json5.loads(text)
    except RecursionError:
        raise ValueError("it is nested too deeply") from None
    except ValueError as error:
        message = str(error).replace("<string>:", "line ")
        raise ValueError(message) from None


def line_of_key(text: str, key: str) -> int | None:
    """Return the line of a key's last mention outside a comment: the one that counts."""
    found = None
    for number, line in enumerate(text.splitlines(), 1):
        at = line.find(json.dumps(key))
        if at >= 0 and "//" not in line[:at] and not line.lstrip().startswith(("*", "/*")):
            found = number
    return found


def resolve_value(machine: Machine, value: str, root: str) -> str:
    """Turn a setting's value into the path of a program.

    A folder is taken as an environment, a bare name is looked up on PATH, and
    a relative path starts at the workspace root.
    """
    m = machine
    replaced = fill_variables(m, value.strip(), root)
    if "/" not in replaced and "\\" not in replaced and not replaced.startswith("~"):
        found = find_on_path(m, replaced, first_only=True)
        if found:
            return found[0].path
    path = m.absolute(replaced, root)
    return python_in(m, path) if m.is_folder(path) else path


def fill_variables(machine: Machine, value: str, root: str) -> str:
    """Fill in ``${workspaceFolder}``, ``${userHome}``, ``${env:NAME}`` and their like."""
    m = machine

    def fill(match: re.Match[str]) -> str:
        name = match.group(1)
        if name.startswith("env:"):
            return m.env.get(name[4:], "")
        if name.split(":")[0] in ("workspaceFolder", "workspaceRoot", "cwd", "fileWorkspaceFolder"):
            return root
        known = {"userHome": m.home, "pathSeparator": str(m.path.sep), "/": str(m.path.sep),
                 "workspaceFolderBasename": str(m.path.basename(root))}
        return known.get(name, match.group(0))

    return re.sub(r"\$\{([^}]+)\}", fill, value)
