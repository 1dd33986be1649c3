"""The rules of other platforms, on made-up machines."""

from __future__ import annotations

import json
import sys
import types

import pytest

from kalyx.core.answers.here import answer_here
from kalyx.core.facts.editors import settings
from kalyx.core.facts.editors.json_text import JsonText
from kalyx.core.facts.interpreters import version_managers
from kalyx.core.facts.interpreters.environment import name_of
from kalyx.core.facts.interpreters.examiner import Examiner
from kalyx.core.facts.interpreters.installation import read_interpreter
from kalyx.core.facts.interpreters.pyvenv import find_venv_config
from kalyx.core.facts.kernels import data_folders, kernelspecs
from kalyx.core.facts.search_path import site_folders
from kalyx.core.facts.search_path.predicted import read_search_path
from kalyx.core.facts.seats.context import SeatContext
from kalyx.core.facts.shells import commands
from kalyx.core.machine.registry import read_registry
from kalyx.core.model import Environment, Interpreter
from kalyx.core.verdicts.remedies import shell_lines
from tests.support.made_up import MadeUpMachine

BASE = r"C:\Users\ada\AppData\Local\Programs\Python\Python311"
LAB = r"C:\Users\ada\lab\.venv"


def windows() -> MadeUpMachine:
    """Return a Windows machine with an installation, an environment and an editor."""
    who = json.dumps({"kalyx": "1", "executable": rf"{LAB}\Scripts\python.exe",
                      "version": "3.11.4", "implementation": "cpython", "prefix": BASE,
                      "base_prefix": BASE, "path": []})
    return MadeUpMachine("win32", {
        rf"{BASE}\python.exe": b"MZ", rf"{BASE}\Lib\os.py": "",
        rf"{BASE}\Include\patchlevel.h": '#define PY_VERSION "3.11.4"',
        rf"{BASE}\Scripts\pip.exe": b"MZ..." + f"#!{BASE}\\python.exe\r\nPK..".encode(),
        rf"{BASE}\Lib\site-packages\pip\__init__.py": "",
        rf"{LAB}\pyvenv.cfg": f"home = {BASE}\nversion = 3.11.4\n",
        rf"{LAB}\Scripts\python.exe": b"MZ", rf"{LAB}\Lib\site-packages\x.py": "",
        r"C:\Users\ada\lab\.vscode\settings.json":
            '{"python.defaultInterpreterPath": "${workspaceFolder}\\\\.venv\\\\Scripts\\\\python.exe"}',
    }, cwd=r"C:\Users\ada\lab", env={"PATH": rf"{LAB}\Scripts;{BASE}\Scripts;{BASE}",
                                     "APPDATA": r"C:\Users\ada\AppData\Roaming"},
        answers={rf"{LAB}\Scripts\python.exe": who,
                 rf"{BASE}\python.exe": who.replace(json.dumps(rf"{LAB}\Scripts")[1:-1],
                                                    json.dumps(BASE)[1:-1])})


def test_windows_shell_and_editor() -> None:
    """Scripts, PATHEXT, launcher stubs and backslashes come out right; case does not matter."""
    machine = windows()
    answer = answer_here(SeatContext(machine, machine.cwd, r"C:\kalyx\probe"))
    shell, editor = answer.seats
    assert shell.interpreter is not None and shell.environment is not None
    assert (shell.interpreter.prefix, shell.environment.name) == (LAB, "lab/.venv")
    assert [s.interpreter.path if s.interpreter else None for s in shell.scripts] == [
        rf"{BASE}\python.exe"]
    assert [f.cause for f in shell.findings] == ["pip-elsewhere"]
    assert editor.environment is not None and machine.same(editor.environment.path, LAB.upper())
    assert answer.agreement.agree
    found = read_interpreter(machine, rf"{LAB}\Scripts\python.exe",
                             find_venv_config(machine, rf"{LAB}\Scripts\python.exe"))
    assert (found.version, found.prefix, found.base_prefix) == ("3.11.4", LAB, BASE)
    assert site_folders.site_folders(machine, LAB) == [rf"{LAB}\Lib\site-packages"]
    path = read_search_path(machine, found, (), find_venv_config(machine, found.path), machine.env,
                            start=machine.cwd, cwd=machine.cwd)
    assert [(x.layer, x.path) for x in path.layers] == [
        ("start", machine.cwd), ("stdlib", rf"{BASE}\python311.zip"), ("stdlib", rf"{BASE}\DLLs"),
        ("stdlib", rf"{BASE}\Lib"), ("other", BASE), ("other", LAB),
        ("env", rf"{LAB}\Lib\site-packages")]
    machine.registry = [BASE]
    assert {e.path for e in SeatContext(machine, r"D:\elsewhere", r"C:\p").environments()} >= {BASE}


def test_framework_build() -> None:
    """A framework build on macOS: its environments, its user site."""
    frame = "/Library/Frameworks/Python.framework/Versions/3.11"
    user = "/home/ada/Library/Python/3.11/lib/python/site-packages"
    machine = MadeUpMachine("darwin", {
        f"{frame}/bin/python3.11": b"\xcf\xfa", f"{frame}/bin/python3": "->python3.11",
        f"{frame}/lib/python3.11/os.py": "", f"{frame}/lib/python3.11/site-packages/a.py": "",
        f"{frame}/include/python3.11/patchlevel.h": '#define PY_VERSION "3.11.9"',
        f"{user}/b.py": ""}, env={"PATH": f"{frame}/bin"})
    context = SeatContext(machine, "/w", "/p")
    assert [(e.path, e.kind, e.python_version) for e in context.environments()] == [
        (frame, "base", "3.11.9")]
    found = read_interpreter(machine, f"{frame}/bin/python3", None)
    path = read_search_path(machine, found, (), None, {}, start=None, cwd="/w")
    assert [x.path for x in path.layers if x.layer in ("user", "env")] == [
        user, f"{frame}/lib/python3.11/site-packages"]


@pytest.mark.parametrize(("platform", "env", "expected"), [
    ("linux", {}, "/home/ada/.local/share/jupyter"),
    ("linux", {"XDG_DATA_HOME": "/data"}, "/data/jupyter"),
    ("linux", {"JUPYTER_DATA_DIR": "/here"}, "/here"),
    ("darwin", {}, "/home/ada/Library/Jupyter"),
    ("win32", {"APPDATA": r"C:\R"}, r"C:\R\jupyter"),
])
def test_user_data_folder(platform: str, env: dict[str, str], expected: str) -> None:
    """Kernels of the user lie where the platform's rules say."""
    assert data_folders.user_data_folder(MadeUpMachine(platform, {}, env=env)) == expected


def test_kernel_search_order() -> None:
    """JUPYTER_PATH, then user and environment in the order that the server's kind decides."""
    machine = MadeUpMachine("linux", {"/e/bin/python": ""}, env={"JUPYTER_PATH": "/p"})
    base = Interpreter("/usr/bin/python3", "/usr/bin/python3", "3.11.2", "cpython", "/usr", "/usr")
    venv = Interpreter("/e/bin/python", "/usr/bin/python3", "3.11.2", "cpython", "/e", "/usr")
    assert [s for s, _ in data_folders.data_folders(machine, base)][:3] == ["path", "user", "env"]
    assert [s for s, _ in data_folders.data_folders(machine, venv)][:3] == ["path", "env", "user"]
    machine.env["JUPYTER_PREFER_ENV_PATH"] = "0"
    assert [s for s, _ in data_folders.data_folders(machine, venv)][:3] == ["path", "user", "env"]


@pytest.mark.parametrize(("argv", "env", "path", "how"), [
    (["/e/bin/python", "-X", "-m", "k"], {}, "/e/bin/python", "path"),
    (["python3", "-m", "k"], {}, "/s/bin/python", "server"),
    (["python3.11"], {}, "/s/bin/python", "server"),
    (["python3.9"], {"PATH": "/x"}, "/x/python3.9", "PATH"),
    (["python2"], {"PATH": "/x"}, None, "none"),
    (["{resource_dir}/python"], {}, "/k/lab/python", "path"),
    (["bin/python"], {}, "/nb/bin/python", "path"),
    (["mypython"], {"PATH": "/x:${PATH}"}, "/x/mypython", "PATH"),
    (["/usr/bin/env", "mypython"], {"PATH": "/x"}, "/x/mypython", "PATH"),
    (["env", "python3.9"], {"PATH": "/x"}, "/x/python3.9", "PATH"),
    (["env", "python"], {"PATH": "/x"}, None, "none"),
    (["env", "-u", "A", "-C", "/x", "./mypython"], {}, "/x/mypython", "path"),
    (["env", "-i", "--", "PATH=/x", "mypython"], {}, "/x/mypython", "PATH"),
    (["env", "-iS", "PATH=/x mypython -s"], {}, "/x/mypython", "PATH"),
    (["nice", "-n", "5", "/x/mypython"], {}, "/x/mypython", "path"),
    (["timeout", "-k", "5", "10m", "setsid", "-w", "/x/mypython"], {}, "/x/mypython", "path"),
    (["sh", "-c", "exec /x/mypython -m k \"$@\"", "sh", "-f"], {}, "/x/mypython", "path"),
    (["bash", "-lc", "source /x/mypython && exec /x/mypython -m k"], {}, "/x/mypython", "path"),
    (["bash", "-lc", "exec mypython -m k"], {"PATH": "/x"}, None, "unknown"),
    (["sh", "-c", "if true; then exec /x/mypython; fi"], {}, "/x/mypython", "path"),
    (["sh", "-c", "for x in 1; do exec /x/mypython; done"], {}, None, "unknown"),
    (["srun", "-n", "1", "--pty", "/e/bin/python3"], {}, "/e/bin/python3", "path"),
    (["srun", "python"], {}, None, "unknown"),
    (["nix"], {}, None, "none"),
])
def test_kernel_program(argv: list[str], env: dict[str, str], path: str | None, how: str) -> None:
    """A kernelspec's program is what a server starts: its own for its own names, else by PATH or from the folder."""
    machine = MadeUpMachine("linux", {"/x/mypython": "", "/x/python3.9": "", "/k/lab/kernel.json": json.dumps(
        {"argv": argv, "display_name": "L", "language": "python", "env": env})},
        env={"PATH": "/usr/bin"})
    server = Interpreter("/s/bin/python", "/s/bin/python", "3.11.2", "cpython", "/s", "/usr")
    kernel = kernelspecs.read_kernel(machine, "/k/lab/kernel.json", "user")
    program = kernelspecs.program_of(machine, kernel, server, "/nb")
    assert (program.path, program.how) == (path, how), program


@pytest.mark.parametrize(("platform", "env", "expected"), [
    ("linux", {"SHELL": "/bin/zsh"}, ("export P='/a b:/c'", "unset P", ". '/my lab/bin/activate'")),
    ("linux", {}, ("export P='/a b:/c'", "unset P", ". '/my lab/bin/activate'")),
    ("darwin", {"SHELL": "/opt/bin/fish"},
     ("set -gx P '/a b:/c'", "set -e P", "source '/my lab/bin/activate.fish'")),
    ("linux", {"SHELL": "/bin/tcsh"},
     ("setenv P '/a b:/c'", "unsetenv P", "source '/my lab/bin/activate.csh'")),
    ("win32", {"PROMPT": "$P$G", "PSModulePath": "x"},
     ('set "P=/a b:/c"', "set P=", r'"C:\my lab\Scripts\activate.bat"')),
    ("win32", {"PSModulePath": "x"},
     ("$env:P = '/a b:/c'", "Remove-Item Env:P", r"& 'C:\my lab\Scripts\Activate.ps1'")),
])
def test_words_of_each_shell(platform: str, env: dict[str, str], expected: tuple[str, str, str]) -> None:
    """A variable is set and taken away, and an environment made the shell's, in that shell's own words."""
    prefix = r"C:\my lab" if platform == "win32" else "/my lab"
    names = ("Scripts/activate.bat", "Scripts/Activate.ps1") if platform == "win32" else (
        "bin/activate", "bin/activate.fish", "bin/activate.csh")
    machine = MadeUpMachine(platform, {f"{prefix}/{name}": "" for name in names}, env=env)
    lab, conda = (Environment(prefix, "lab", kind, None, None, (), None) for kind in ("venv", "conda"))
    assert (shell_lines.setting(machine, "P", "/a b:/c"), shell_lines.setting(machine, "P", ""),
            shell_lines.activation(machine, lab)) == expected
    assert str(shell_lines.activation(machine, conda)).startswith("conda activate ")
    assert shell_lines.activation(machine, Environment("/nowhere", "no", "venv", None, None, (), None)) is None


@pytest.mark.parametrize(("value", "expected"), [
    ("${workspaceFolder}/e/bin/python", "/w/e/bin/python"),
    ("e/bin/python", "/w/e/bin/python"),
    ("~/e/bin/python", "/home/ada/e/bin/python"),
    ("${userHome}/e", "/home/ada/e/bin/python"),
    ("${env:LAB}/bin/python", "/lab/bin/python"),
    ("python", "/usr/bin/python"),
    ("nix", "/w/nix"),
])
def test_setting_values(value: str, expected: str) -> None:
    """Variables, relative paths, folders and bare names resolve as the editor does it."""
    machine = MadeUpMachine("linux", {"/usr/bin/python": "", "/home/ada/e/bin/python": ""},
                            env={"PATH": "/usr/bin", "LAB": "/lab"})
    assert settings.resolve_value(machine, value, "/w") == expected


def test_settings_text() -> None:
    """Comments, trailing commas and a byte order mark are read; the line is the one that counts."""
    read = JsonText('{\n // "a": 1,\n "a": 2, /* "a" */\n "b": [1,],\n}')
    assert (read.content, read.line("a"), read.line("b", 0), read.line("c")) == ({"a": 2, "b": [1]}, 3, 4, None)
    assert JsonText('{"a": 1, "a": {"é": 2}}').place("a", "é") == (20, 21), "the last of a name counts"
    assert JsonText("").content == {}
    with pytest.raises(ValueError, match="1"):
        JsonText('{"a" 1}')


def test_trust_and_names() -> None:
    """A file that others may write is not run; the usual names carry their parent's."""
    machine = MadeUpMachine("linux", {"/w/.venv/bin/python": "#!/bin/sh\n", "/bin/sh": ""}, cwd="/w")
    examined = Examiner(machine, "/w", "/probe").examine("/w/.venv/bin/python")
    assert machine.ran == [] and examined.interpreter.known_by == "other"
    assert [name_of(machine, p) for p in ("/a/lab", "/a/lab/.venv", "/a/lab/env")] == [
        "lab", "lab/.venv", "lab/env"]
    assert commands.find_python(machine) is None


def test_registry(monkeypatch: pytest.MonkeyPatch) -> None:
    """The registry is read as PEP 514 lays it out: both hives, both views, broken entries skipped."""
    tree = {"cu": {64: {"PythonCore": {"3.11": r"C:\Py311", "3.12": None}, "Empty": {}}},
            "lm": {64: {"PythonCore": {"3.9": r"C:\Py39"}}, 32: {"PythonCore": {"3.9": r"C:\Py39"}}}}

    def open_key(parent: object, name: str, _reserved: int = 0, access: int = 0) -> object:
        node = tree[parent].get(access & ~1) if isinstance(parent, str) else parent.get(name)
        if node is None:
            raise FileNotFoundError(name)
        return node

    def query(top: dict, path: str) -> str:
        company, tag, leaf = path.split("\\")
        if leaf != "InstallPath" or not top[company][tag]:
            raise FileNotFoundError(path)
        return top[company][tag]

    fake = types.SimpleNamespace(
        HKEY_CURRENT_USER="cu", HKEY_LOCAL_MACHINE="lm", KEY_READ=1, KEY_WOW64_64KEY=64,
        KEY_WOW64_32KEY=32, OpenKey=open_key, QueryValue=query,
        QueryInfoKey=lambda key: (len(key), 0, 0), EnumKey=lambda key, n: list(key)[n])
    monkeypatch.setitem(sys.modules, "winreg", fake)
    assert read_registry() == [r"C:\Py311", r"C:\Py39"]


@pytest.mark.parametrize(("picked", "kept"), [("3.9", False), ("3.11", True)])
def test_own_wrapper_is_undone(picked: str, kept: bool) -> None:
    """What a wrapper changed on the way to starting Kalyx is taken back; a person's choice stays."""
    who = json.dumps({"kalyx": "1", "executable": f"/v/versions/{picked}/bin/python",
                      "version": picked + ".1", "implementation": "cpython",
                      "prefix": f"/v/versions/{picked}", "base_prefix": f"/v/versions/{picked}",
                      "path": []})
    machine = MadeUpMachine("linux", {"/v/shims/python": "#!/bin/bash\nexec x exec \"$program\" \"$@\"\n",
                                      f"/v/versions/{picked}/bin/python": "\x7fELF Py_Main",
                                      "/bin/bash": "", f"/v/versions/{picked}/lib/python{picked}/os.py": ""},
                            answers={"/v/shims/python": who, f"/v/versions/{picked}/bin/python": who},
                            env={"PATH": "/v/versions/3.9/bin:/v/libexec:/v/shims:/usr/bin",
                                 "PYENV_ROOT": "/v", "PYENV_DIR": "/", "PYENV_HOOK_PATH": "/h",
                                 "_PYENV_INSTALL_PREFIX": "/v", "PYENV_VERSION": "3.9"})
    env, notes = version_managers.shell_environment(machine, "/probe")
    assert env["PATH"] == "/v/shims:/usr/bin" and [n.note for n in notes] == ["started-by-wrapper"]
    assert ("PYENV_VERSION" in env) is kept and "PYENV_DIR" not in env
    assert version_managers.shell_environment(MadeUpMachine("linux", {}, env=env), "/p") == (env, [])
