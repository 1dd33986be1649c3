"""Editors as data: their settings files, keys and precedence."""

from __future__ import annotations

from kalyx.core.lean.record import record

__all__ = ["EDITORS", "Editor"]


@record
class Editor:
    """A kind of settings file.

    ``files`` are patterns: relative to the workspace root, or absolute when
    they start with ``~`` or ``$NAME``; ``linux:``, ``darwin:`` or ``win32:``
    before one keeps it to that platform. ``keys`` are the names of the setting,
    the one that wins first. ``extra`` names what else the file may say:
    env-file and extra-paths keys.
    """

    name: str
    family: str
    files: tuple[str, ...]
    format: str
    keys: tuple[str, ...]
    rank: int = 0
    extra: tuple[str, str] = ("", "")
    also: tuple[tuple[str, str], ...] = ()  # what else has to be said for an interpreter to count
    of_project: bool = False  # a project's own file says so: what is no path is not repeated, it may be a secret


_CODE_KEYS = ("python.defaultInterpreterPath", "python.pythonPath")
_CODE_EXTRA = ("python.envFile", "python.analysis.extraPaths")
_CODE_NAMES = ("Code", "Code - Insiders", "Code - OSS", "VSCodium")
EDITORS: tuple[Editor, ...] = (
    Editor("workspace settings", "code", (".vscode/settings.json",), "json", _CODE_KEYS, 0,
           _CODE_EXTRA),
    Editor("multi-root workspace", "code", ("*.code-workspace",), "json-workspace", _CODE_KEYS, 1,
           _CODE_EXTRA),
    Editor("user settings", "code", (
        *(f"linux:~/.config/{n}/User/settings.json" for n in _CODE_NAMES),
        *(f"darwin:~/Library/Application Support/{n}/User/settings.json" for n in _CODE_NAMES),
        *(f"win32:$APPDATA/{n}/User/settings.json" for n in _CODE_NAMES),
    ), "json", _CODE_KEYS, 2, _CODE_EXTRA),
    Editor("project file", "build-files", ("*.sublime-project",), "json-build",
           ("python_interpreter",), 0),
    Editor("build file", "build-files", (
        "*.sublime-build", "linux:~/.config/sublime-text*/Packages/User/*.sublime-build",
        "darwin:~/Library/Application Support/Sublime Text*/Packages/User/*.sublime-build",
        "win32:$APPDATA/Sublime Text*/Packages/User/*.sublime-build",
    ), "json-build", (), 1),
    Editor("project folder", "project-folder", (".idea/misc.xml", ".idea/*.iml"), "xml-project",
           ("project-jdk-name", "jdkName")),
    Editor("desktop configuration", "desktop-a", (
        "linux:~/.config/spyder-py3/config/spyder.ini", "~/.spyder-py3/config/spyder.ini",
        "darwin:~/.spyder-py3/config/spyder.ini",
    ), "ini", ("main_interpreter.custom_interpreter", "main_interpreter.executable"),
        also=(("main_interpreter.default", "False"), ("main_interpreter.custom", "True"))),
    Editor("desktop configuration", "desktop-b", (
        "linux:~/.config/Thonny/configuration.ini",
        "darwin:~/Library/Thonny/configuration.ini",
        "win32:$APPDATA/Thonny/configuration.ini",
    ), "ini", ("LocalCPython.executable", "CustomInterpreter.path"), also=(("run.backend_name", "LocalCPython"),)),
    Editor("type checker's configuration", "checker", ("pyrightconfig.json",), "json-venv",
           ("pythonPath", "venv"), 0),
    Editor("project's tool table", "checker", ("pyproject.toml",), "toml", (
        "tool.pyright.venv", "tool.basedpyright.venv", "tool.mypy.python_executable",
        "tool.ty.environment.python", "tool.pyrefly.python-interpreter-path",
    ), 1),
)
