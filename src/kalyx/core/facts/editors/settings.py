"""Editors as data: settings files that name an interpreter, and how their values resolve.

A row of the table says where a kind of file lies, how it is read, under which
keys it names an interpreter, and its place in the precedence of its family:
of a family's files that name one, the lowest rank wins and the others lose.
"""

from __future__ import annotations

import fnmatch
import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.editors.table import EDITORS
from kalyx.core.facts.interpreters.environment import python_in
from kalyx.core.facts.interpreters.path_lookup import find_on_path, is_python_name
from kalyx.core.lean.record import record, replace

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence
    from typing import Any

    from kalyx.core.facts.editors.formats import Named
    from kalyx.core.facts.editors.table import Editor
    from kalyx.core.facts.files import Files

__all__ = ["EditorSetting", "editor_for", "fill_variables", "find_settings", "interpreter_tables", "program_of_name",
           "read_setting", "resolve_value"]

LEVELS_UP = 4


@record
class EditorSetting:
    """What one settings file says about the interpreter.

    ``value`` is as written, ``program`` what it resolves to (None when the file
    names none); ``loses`` are the settings of the family that this one
    outranks; ``way`` leads to the value in the file, ``members`` are the folders of a
    workspace by name; ``trouble`` says why the file cannot be read, ``untold`` why it cannot be told from files what it
    means, and ``lacks`` which table has not the name that it gives.
    """

    editor: Editor
    file: str
    root: str
    key: str | None = None
    value: str | None = None
    line: int | None = None
    program: str | None = None
    way: tuple[str | int, ...] = ()
    members: tuple[tuple[str, str], ...] = ()
    loses: tuple[EditorSetting, ...] = ()
    env_file: str | None = None
    extra_paths: tuple[str, ...] = ()
    trouble: str = ""
    text: str = ""
    untold: str = ""
    lacks: str = ""


def find_settings(files: Files, folder: str,
                  editors: Iterable[Editor] = EDITORS) -> list[EditorSetting]:
    """Return the settings that win, one for each family, and the files that cannot be read."""
    families: dict[str, list[EditorSetting]] = {}
    for editor in editors:
        for file, root in _files_of(files, editor, folder):
            setting = read_setting(files, editor, file, root, folder)
            if setting.program or setting.trouble or setting.untold or setting.lacks:
                families.setdefault(editor.family, []).append(setting)
    found: list[EditorSetting] = []
    for settings in families.values():
        settings.sort(key=lambda s: s.editor.rank)
        good = [s for s in settings if not s.trouble]
        if good:
            found.append(replace(good[0], loses=tuple(good[1:])))
        found += [s for s in settings if s.trouble]
    return found


def _files_of(m: Files, editor: Editor, folder: str) -> list[tuple[str, str]]:
    """Return (file, workspace root) for each file of this kind that applies to a folder."""
    found = []
    for pattern in editor.files:
        platform, colon, rest = pattern.partition(":")
        if colon and platform in ("linux", "darwin", "win32"):
            if m.platform != platform:
                continue
            pattern = rest
        if pattern.startswith(("~", "$", "/")):
            found += [(f, folder) for f in _expand(m, pattern)]
            continue
        root = folder
        for _ in range(LEVELS_UP):
            files = _match(m, root, pattern.split("/"))
            if files:
                found += [(f, root) for f in files]
                break
            parent = m.path.dirname(root)
            if parent == root or root == m.home or m.exists(m.path.join(root, ".git")):
                break
            root = parent
    return found


def _expand(m: Files, pattern: str) -> list[str]:
    first, *rest = pattern.split("/")
    start = m.home if first == "~" else m.env.get(first[1:], "") if first.startswith("$") else "/"
    return _match(m, start, rest) if start else []


def _match(m: Files, folder: str, parts: Sequence[str]) -> list[str]:
    """Return the files below `folder` that a pattern of path parts fits."""
    if not parts:
        return [folder] if m.is_there(folder) else []
    head, rest = parts[0], parts[1:]
    if "*" not in head:
        inside = m.path.join(folder, head)
        if rest and not m.exists(inside):
            if m.is_there(inside):
                m.report(inside, "it is a link that leads nowhere")
            return []
        return _match(m, inside, rest)
    fits = re.compile(fnmatch.translate(head)).match  # once for thousands of names
    names = [n for n in m.scan(folder)[0] if fits(n)]
    return [f for n in names[:50] for f in _match(m, m.path.join(folder, n), rest)]


def editor_for(files: Files, file: str,
               editors: Iterable[Editor] = EDITORS) -> tuple[Editor, str] | None:
    """Return the kind of settings file that `file` is, and its workspace root."""
    m = files
    for editor in editors:
        for pattern in editor.files:
            platform, colon, rest = pattern.partition(":")
            if colon and platform in ("linux", "darwin", "win32"):
                pattern = rest
            if pattern.startswith(("~", "$", "/")):
                if file in _expand(m, pattern):
                    return editor, m.cwd
                continue
            parts = pattern.split("/")
            root = file
            for _ in parts:
                root = m.path.dirname(root)
            tail = file[len(root):].strip("/\\").replace("\\", "/")
            if fnmatch.fnmatchcase(tail, pattern):
                return editor, root
    return None


def read_setting(files: Files, editor: Editor, file: str, root: str, within: str = "") -> EditorSetting:
    """Read one settings file; what is wrong with it stands in ``trouble``.

    In a workspace of several folders it counts for the one that `within` lies in, else for the first.
    """
    m = files
    try:
        text = m.read_text(file, 4 * 1024 * 1024)
    except Unreadable as error:
        return EditorSetting(editor, file, root, trouble=error.reason)
    from kalyx.core.facts.editors.formats import FORMATS

    try:
        said = FORMATS[editor.format](text, editor.keys, editor.extra)
    except (ValueError, RecursionError) as error:
        return EditorSetting(editor, file, root, trouble=f"{error}", text=text)
    members = {name or m.path.basename(m.located(path, m.path.dirname(file)).rstrip(m.path.sep)):
               m.located(path, m.path.dirname(file)) for name, path in said.members}
    root = _member(m, members, within) or root
    if not said.named:
        return EditorSetting(editor, file, root, members=tuple(members.items()), text=text)
    named = said.named[0]
    if editor.of_project and not _names_interpreter(m, named.value, root):
        return EditorSetting(editor, file, root, trouble=f"what it says as {named.key} is no path of an interpreter",
                             text=text)
    if editor.format == "xml-project":
        return _from_project_folder(m, editor, file, root, named, text)
    env_file = _env_file(m, said.env_file, root, members)
    extra = tuple(m.absolute(fill_variables(m, p, root, members), root) for p in said.extra_paths)
    setting = EditorSetting(editor, file, root, named.key, named.value, named.line, None, named.way,
                            tuple(members.items()), (), env_file, extra, text=text)
    left = _LEFT.search(fill_variables(m, named.value, root, members))
    if left is not None and not left[1].startswith("workspaceFolder:"):
        return replace(setting, untold=f"it has {left[0]} in it, which only the editor can fill in")
    return replace(setting, program=resolve_value(m, named.value, root, members))


_LEFT = re.compile(r"\$\{([^}]+)\}")  # a variable that was not filled in


def _member(m: Files, members: Mapping[str, str], within: str) -> str | None:
    """Return the folder of a workspace that a place lies in, the deepest; else the first; None without any."""
    around = [f for f in members.values() if within and m.is_within(m.real_path(within), m.real_path(f))]
    return max(around, key=len) if around else next(iter(members.values()), None)


def _names_interpreter(m: Files, value: str, root: str) -> bool:
    """Whether a value looks like an interpreter or an environment: by its last part, or as it is there."""
    return is_python_name(value.strip()) or m.exists(resolve_value(m, value, root))


def _env_file(m: Files, named: str | None, root: str, members: Mapping[str, str]) -> str | None:
    file = m.absolute(fill_variables(m, named, root, members), root) if named else m.path.join(root, ".env")
    return file if m.is_there(file) else None


# -- project folders with a table of named interpreters ---------------------------------------
TABLES = (
    "linux:~/.config/JetBrains/*/options/jdk.table.xml",
    "darwin:~/Library/Application Support/JetBrains/*/options/jdk.table.xml",
    "win32:$APPDATA/JetBrains/*/options/jdk.table.xml",
)


def interpreter_tables(files: Files) -> list[tuple[str, dict[str, str]]]:
    """Return the user's tables of named interpreters that can be read, the newest first: file, names and programs."""
    from kalyx.core.facts.editors.formats import read_interpreter_table

    m, found = files, []
    for pattern in TABLES:
        platform, _, rest = pattern.partition(":")
        for table in reversed(_expand(m, rest)) if m.platform == platform else ():
            try:
                found.append((table, read_interpreter_table(m.read_text(table, 8 * 1024 * 1024))))
            except Unreadable:
                continue
            except (ValueError, RecursionError) as error:
                m.report(table, str(error))
    return found


def program_of_name(files: Files, value: str, root: str) -> str:
    """Return the program that an entry of such a table names, its variables filled in."""
    m = files
    return m.absolute(value.replace("$USER_HOME$", m.home).replace("$PROJECT_DIR$", root), root)


def _from_project_folder(m: Files, editor: Editor, file: str, root: str, named: Named,
                         text: str) -> EditorSetting:
    """Look a project's interpreter up by its name in the user's table of interpreters."""
    root = m.path.dirname(m.path.dirname(file)) if "/.idea" in file.replace("\\", "/") else root
    setting = EditorSetting(editor, file, root, named.key, named.value, named.line, way=named.way, text=text)
    read = interpreter_tables(m)
    for _, known in read:
        if named.value in known:
            return replace(setting, program=program_of_name(m, known[named.value], root))
    if "/" in named.value or "\\" in named.value:
        return replace(setting, program=resolve_value(m, named.value, root))
    if not read:
        return replace(setting, untold=f"it names {named.value!r}, and no table of the editor's interpreters could be "
                       "read here")
    return replace(setting, lacks=read[0][0])


# -- values -----------------------------------------------------------------------------------
def resolve_value(files: Files, value: str, root: str, members: Mapping[str, str] | None = None) -> str:
    """Turn a setting's value into the path of a program.

    A folder is taken as an environment, a bare name is looked up on PATH, and
    a relative path starts at the workspace root.
    """
    m = files
    replaced = fill_variables(m, value.strip(), root, members)
    if "/" not in replaced and "\\" not in replaced and not replaced.startswith("~"):
        found = find_on_path(m, replaced, first_only=True)
        if found:
            return found[0].path
    path = m.absolute(replaced, root)
    return python_in(m, path) if m.is_folder(path) else path


def fill_variables(files: Files, value: str, root: str, members: Mapping[str, str] | None = None) -> str:
    """Fill in ``${workspaceFolder}``, ``${userHome}``, ``${env:NAME}`` and their like; others stay as they are.

    `members` are the folders of a workspace by name, for ``${workspaceFolder:NAME}``.
    """
    m = files

    def fill(match: re.Match[str]) -> str:
        name: str = match.group(1) or match.group(2)
        if name.startswith("env:"):
            return m.env.get(name[4:], match.group(0))
        kind, colon, which = name.partition(":")
        if kind == "workspaceFolder" and colon and members:
            return members.get(which, match.group(0))
        if kind in ("workspaceFolder", "workspaceRoot", "cwd", "fileWorkspaceFolder",
                                  "project_path", "folder", "file_path"):
            return root
        known: dict[str, Any] = {
            "userHome": m.home, "pathSeparator": m.path.sep, "/": m.path.sep,
            "workspaceFolderBasename": m.path.basename(root)}
        return str(known.get(name, match.group(0)))

    return re.sub(r"\$\{([^}]+)\}|\$(project_path|folder|file_path)\b", fill, value)
