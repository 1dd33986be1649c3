"""``point``: each format of settings written as a person would, all else to the byte; notebooks; all files or none."""

from __future__ import annotations

import json
import os

import pytest

from kalyx.core.facts.editors import settings
from kalyx.core.verdicts.remedies.editor_settings import write_setting
from tests.answers.test_kernels import with_sprig
from tests.support.build import World, kernelspec, make_venv, notebook, python_of, write
from tests.support.made_up import MadeUpMachine
from tests.support.thorough import first_of_each

KEY = '"python.defaultInterpreterPath"'
TABLE = """<application><component name="ProjectJdkTable"><jdk version="2"><name value="Python 3 (new)"/>
<homePath value="$USER_HOME$/project/.venv/bin/python"/></jdk></component></application>"""

# name: (file below the home folder, text (None: it is not there), what stands there afterwards).
# NEW is the program of project/.venv, HOME the home folder; the text keeps its line ends and its other bytes.
WRITTEN = {
    "variable": ("project/.vscode/settings.json",
                 "// mine\n{\n\t" + KEY + ': "${workspaceFolder}/old/bin/python", // here\n\t"a": [1, 2,],\n}',
                 "// mine\n{\n\t" + KEY + ': "${workspaceFolder}/.venv/bin/python", // here\n\t"a": [1, 2,],\n}'),
    "folder": ("project/.vscode/settings.json", "{" + KEY + ': "../old"}', "{" + KEY + ': ".venv"}'),
    "relative": ("project/.vscode/settings.json", "{" + KEY + ': "./old/bin/python3"}',
                 "{" + KEY + ': "./.venv/bin/python"}'),
    "home": ("project/.vscode/settings.json", "{" + KEY + ': "~/envs/old/bin/python"}',
             "{" + KEY + ': "~/project/.venv/bin/python"}'),
    "absolute": ("project/.vscode/settings.json", "{" + KEY + ': "/opt/old/bin/python"}', "{" + KEY + ': "NEW"}'),
    "the key that counts": ("project/.vscode/settings.json",
                            "{" + KEY + ': "a", /* "b": */ ' + KEY + ': "/b/python", "python.pythonPath": "b"}',
                            "{" + KEY + ': "a", /* "b": */ ' + KEY + ': "NEW", "python.pythonPath": "b"}'),
    "no key": ("project/.vscode/settings.json", '{\r\n  "python.x": 1, // why\r\n  "z": {}\r\n}\r\n',
               '{\r\n  "python.x": 1, // why\r\n  '
               + KEY + ': "${workspaceFolder}/.venv/bin/python",\r\n  "z": {}\r\n}\r\n'),
    "a mark, nothing else": ("project/.vscode/settings.json", "\ufeff{}",
                             "\ufeff{\n    " + KEY + ': "${workspaceFolder}/.venv/bin/python"\n}'),
    "not there": ("project/.vscode/settings.json", None,
                  "{\n    " + KEY + ': "${workspaceFolder}/.venv/bin/python"\n}\n'),
    "for all projects": (".config/Code/User/settings.json", '{"é": "\\u00e9"}', '{"é": "\\u00e9", ' + KEY + ': "NEW"}'),
    "several folders": ("project/all.code-workspace",
                        '{"folders": [{"path": "lib"}, {"path": ".", "name": "main"}], "settings": {}}',
                        '{"folders": [{"path": "lib"}, {"path": ".", "name": "main"}], "settings": {\n    ' + KEY
                        + ': "${workspaceFolder:main}/.venv/bin/python"\n}}'),
    "project file": ("project/x.sublime-project",
                     '{"settings": {"python_interpreter": "$project_path/../e/bin/python"}}',
                     '{"settings": {"python_interpreter": "$project_path/.venv/bin/python"}}'),
    "build file": ("project/run.sublime-build", '{"shell_cmd": "\\"/o/bin/python\\" -u \\"$file\\"", "x": 1}',
                   '{"shell_cmd": "\\"NEW\\" -u \\"$file\\"", "x": 1}'),
    "build system": ("project/x.sublime-project", '{"build_systems": [{"cmd": ["/o/bin/python", "-u"]}, {}]}',
                     '{"build_systems": [{"cmd": ["NEW", "-u"]}, {}]}'),
    "build system, a bare name": ("project/x.sublime-project", '{"build_systems": [{"shell_cmd": "o/python -u"}]}',
                                  '{"build_systems": [{"shell_cmd": "NEW -u"}]}'),
    "new build file": ("project/run.sublime-build", None,
                       '{\n    "cmd": [\n        "NEW",\n        "-u",\n        "$file"\n    ]\n}\n'),
    "desktop": (".config/spyder-py3/config/spyder.ini",
                "[main]\nx = 1\n\n[main_interpreter]\ndefault = True\ncustom = False\n"
                "# mine\nexecutable = /o/python\n\n[z]\n",
                "[main]\nx = 1\n\n[main_interpreter]\ndefault = False\ncustom = True\n"
                "# mine\nexecutable = /o/python\n"
                "custom_interpreter = NEW\n\n[z]\n"),
    "desktop, lines that go on": (
        ".config/Thonny/configuration.ini", "[LocalCPython]\nother = a\n  b\n[run]\nbackend_name = Local\n CPython\n",
        "[LocalCPython]\nother = a\n  b\nexecutable = NEW\n[run]\nbackend_name = LocalCPython\n"),
    "desktop, other": (".config/Thonny/configuration.ini", "[LocalCPython]\r\nexecutable=/o/python\r\n",
                       "[LocalCPython]\r\nexecutable=NEW\r\n\r\n[run]\r\nbackend_name=LocalCPython\r\n"),
    "checker": ("project/pyrightconfig.json", '{"venvPath": "/o", "venv": "old", "z": 1}',
                '{"venvPath": ".", "venv": ".venv", "z": 1}'),
    "new checker": ("project/pyrightconfig.json", None, '{\n    "venv": ".venv"\n}\n'),
    "tool table": ("project/pyproject.toml", '# x\r\n[tool.pyright]\r\nvenv = "old" # y\r\n\r\n[tool.z]\r\na = 1\r\n',
                   '# x\r\n[tool.pyright]\r\nvenv = ".venv" # y\r\n\r\n[tool.z]\r\na = 1\r\n'),
    "tool table, other": ("project/pyproject.toml", "[tool.mypy]\nstrict = true\n\n[tool.z]\na = 1\n",
                          '[tool.mypy]\nstrict = true\npython_executable = ".venv/bin/python"\n\n[tool.z]\na = 1\n'),
    "tool table, inline": ("project/pyproject.toml", "tool = {mypy = {python_executable='x', z = 1}} # c",
                           'tool = {mypy = {python_executable=".venv/bin/python", z = 1}} # c'),
    "tool table, new": ("project/pyproject.toml", '[project]\nname = "x"\n',
                        '[project]\nname = "x"\n\n[tool.pyright]\nvenv = ".venv"\n'),
    "tool table, folder": ("project/pyproject.toml", "[tool.ty.environment]\npython = './old'\n",
                           '[tool.ty.environment]\npython = "./.venv"\n'),
    "project folder": ("project/.idea/misc.xml", '<project>\n  <component name="ProjectRootManager" version="2"\n'
                       '   project-jdk-name="a &gt; b" project-jdk-type="Python SDK"/>\n</project>',
                       '<project>\n  <component name="ProjectRootManager" version="2"\n'
                       '   project-jdk-name="Python 3 (new)" project-jdk-type="Python SDK"/>\n</project>'),
}


@pytest.mark.parametrize("name", first_of_each(WRITTEN, lambda n: WRITTEN[n][0], 3))
def test_written_as_a_person_would(name: str, world: World, validate) -> None:
    """Only the value's own bytes change; `here` agrees afterwards; the plan changes nothing; undo brings all back."""
    relative, text, expected = WRITTEN[name]
    new = make_venv(world.project / ".venv")
    world.activate(new)
    write(world.home / ".config/JetBrains/T2026.1/options/jdk.table.xml", TABLE)
    file = world.home / relative
    if text is not None:
        write(file, text.encode())
        file.chmod(0o640)
    words = ("point", str(new), "--file", str(file))
    planned = world.answer(*words, "--dry-run")
    validate(planned)
    assert (file.read_bytes() if text is not None else file.exists()) == (text.encode() if text is not None else False)
    document = world.answer(*words)
    validate(document)
    assert document["status"] == "ok", document
    done = document["result"]["files"][0]
    assert ("for-all-projects" in [n["note"] for n in planned["notes"]]) == relative.startswith(".config")
    assert planned["result"]["files"] == document["result"]["files"] and planned["result"]["change"] is None
    assert file.read_bytes().decode() == expected.replace("NEW", python_of(new)).replace("HOME", str(world.home))
    assert text is None or file.stat().st_mode & 0o777 == 0o640
    here = world.answer("here")
    seat = next(s for s in here["result"]["seats"] if s["ref"] == f"editor:{file}")
    assert (seat["interpreter"]["prefix"], seat["findings"]) == (str(new), []) and here["result"]["agreement"]["agree"]
    assert done["after"] and world.answer(*words)["result"]["change"] is None, "it is so already"
    assert world.answer("undo")["exit"] == 0
    assert (file.read_bytes().decode() if text is not None else file.exists()) == (text or False)


def test_notebooks_and_the_folder(world: World, validate) -> None:
    """A notebook gets a kernel, enrolled first where there is none; without files, what `here` shows is pointed."""
    lab, old = with_sprig(world), world.venv("lab-old")
    world.activate(lab)
    cells = {"cells": [{"source": ["é"]}], "metadata": {"language_info": {"name": "python"}}, "nbformat": 4}
    bare = write(world.project / "bare.ipynb", json.dumps(cells, indent=1, ensure_ascii=False) + "\n")
    tab = write(world.project / "tab.ipynb", json.dumps({**cells, "metadata": {"kernelspec": {
        "name": "old", "display_name": "Old", "language": "python", "more": {"a": [1]}}}}, indent="\t"))
    files = ("--file", str(bare), "--file", str(tab))
    planned = world.answer("point", "lab", *files, "--dry-run")
    assert [f["kernel"] for f in planned["result"]["files"]] == ["lab", "lab"]
    assert not (world.home / ".local/share/jupyter").exists()
    document = world.answer("point", "lab", *files)
    validate(document)
    assert [(f["before"], f["after"]) for f in document["result"]["files"]] == [(None, "lab"), ("old", "lab")]
    assert ' },\n  "kernelspec": {\n   "display_name": "lab (Python' in bare.read_text() and "é" in bare.read_text()
    assert '"more": {\n\t\t\t\t"a": [\n' in tab.read_text() and '"display_name": "lab (Python' in tab.read_text()
    here = world.answer("here")["result"]
    assert here["agreement"]["agree"] and {s["kind"] for s in here["seats"]} == {"shell", "notebook"}
    assert world.answer("undo")["exit"] == 0
    assert json.loads(bare.read_text()) == cells and not (world.home / ".local/share/jupyter/kernels/lab").exists()
    assert (nothing := world.answer("point", "lab"))["exit"] == 3 and "--file" in nothing["result"]["hint"]
    write(world.project / ".vscode/settings.json", json.dumps({"python.defaultInterpreterPath": python_of(old)}))
    write(world.project / "pyrightconfig.json", '{"venv": "x"}')
    assert len(world.answer("point", "lab")["result"]["files"]) == 2
    assert all(s["interpreter"]["prefix"] == str(lab) for s in world.answer("here")["result"]["seats"]
               if s["kind"] == "editor")
    kernelspec(world.home, "mine", [python_of(old), "-m", "not_there"])
    refused = world.answer("point", "lab-old", "--file", str(notebook(world.project / "n.ipynb", "other")))
    assert (refused["status"], refused["result"]["findings"][0]["cause"]) == ("problem", "kernel-cannot-start")


REFUSED = {
    "broken": ("pyrightconfig.json", b"{", "JSON"), "of no encoding": ("pyrightconfig.json", b'{"a": "\xff"}', "UTF-8"),
    "no object": ("pyrightconfig.json", b"[1]", "object"), "no table": (".idea/misc.xml", b"<project/>", "table"),
    "a notebook without metadata": ("x.ipynb", b"{}", "metadata"), "no text": ("x.ipynb", b"\x00", "no text"),
    "another program": ("x.sublime-build", b'{"cmd": ["make"]}', "no Python"),
    "a list in the way": (".vscode/settings.json", b"[]", "object"), "toml": ("pyproject.toml", b"[tool", "TOML"),
    "a value in the way": ("pyproject.toml", b"tool = 1\n", "cannot"),
    "not to be written": ("pyrightconfig.json", b"{}", "may not"),
}


@pytest.mark.parametrize("name", REFUSED)
def test_all_files_or_none(name: str, world: World) -> None:
    """A file that is broken or may not be written is named and left alone, and so are the others; a link stays one."""
    relative, data, says = REFUSED[name]
    world.activate(lab := with_sprig(world))
    bad = write(world.project / relative, data)
    if name == "not to be written":
        bad.chmod(0o444)
    kept = write(world.home / "dotfiles/settings.json", "{}")
    good = world.project / ".vscode" / "good" / ".vscode" / "settings.json"
    good.parent.mkdir(parents=True)
    good.symlink_to(os.path.relpath(kept, good.parent))
    both = world.answer("point", "lab", "--file", str(good), "--file", str(bad))
    assert (both["exit"], both["status"]) == (1, "problem") and says in both["result"]["message"], both
    assert str(bad) in both["result"]["message"] and "Nothing was changed" in both["result"]["message"]
    assert (bad.read_bytes(), kept.read_text()) == (data, "{}")
    assert not world.answer("changes")["result"]["changes"]
    written = world.answer("point", str(lab), "--file", str(good))
    assert (written["exit"], [n["note"] for n in written["notes"]]) == (0, ["link-followed"])
    assert good.is_symlink() and python_of(lab) in kept.read_text()


WINDOWS = {
    "forward": ('{"python.defaultInterpreterPath": "C:/o/python.exe"}', "C:/w/.venv/Scripts/python.exe"),
    "backward": (
        '{"python.defaultInterpreterPath": "C:\\\\o\\\\python.exe"}', "C:\\w\\.venv\\Scripts\\python.exe"),
    "variable": ("{}", "${workspaceFolder}/.venv/Scripts/python.exe"),
    "relative": (
        '{"python.defaultInterpreterPath": ".\\\\o\\\\Scripts\\\\python.exe"}', ".\\.venv\\Scripts\\python.exe"),
    "home": ('{"python.defaultInterpreterPath": "${userHome}/o/python.exe"}', "C:/w/.venv/Scripts/python.exe"),
}


@pytest.mark.quick
@pytest.mark.parametrize("name", WINDOWS)
def test_windows_paths(name: str) -> None:
    """The slashes are those that the file has, forward ones where it has none."""
    text, expected = WINDOWS[name]
    file, program = "C:\\w\\.vscode\\settings.json", "C:\\w\\.venv\\Scripts\\python.exe"
    machine = MadeUpMachine("win32", {file: text, program: "", "C:\\w\\.venv\\pyvenv.cfg": "home = C:\\py\n"},
                            cwd="C:\\w", home="C:\\Users\\ada")
    editor, root = settings.editor_for(machine, file) or pytest.fail()
    written = write_setting(machine, settings.read_setting(machine, editor, file, root), program)
    assert (written.after, json.loads(written.text)["python.defaultInterpreterPath"]) == (expected, expected)
    assert settings.resolve_value(machine, written.after, root) == program


@pytest.mark.thorough
def test_megabytes_take_no_minutes(world: World) -> None:
    """Settings of a few megabytes, with comments throughout, are read and written in seconds."""
    world.activate(lab := world.venv("lab"))
    rows = "".join(f'  "key{n}": "value", // a comment, "with" quotes\n' for n in range(60_000))
    file = write(world.project / ".vscode/settings.json", "{\n" + rows + f'  {KEY}: "x/bin/python",\n}}\n')
    assert world.answer("point", "lab", "--file", str(file))["exit"] == 0
    assert file.read_text() == "{\n" + rows + f'  {KEY}: "{python_of(lab)}",\n}}\n'
