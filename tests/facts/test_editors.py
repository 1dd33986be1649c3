"""Editors as data: every kind of settings file, which one wins, and what the user adds."""

from __future__ import annotations

import json
import os
from pathlib import Path

import pytest

from tests.support.build import World, kernelspec, notebook, python_of, site_of, write

CODE = "python.defaultInterpreterPath"
XML_TABLE = """<application><component name="ProjectJdkTable"><jdk version="2">
<name value="Python 3 (lab)"/><type value="Python SDK"/><homePath value="$USER_HOME$/envs/lab/bin/python"/>
</jdk></component></application>"""
XML_PROJECT = """<?xml version="1.0"?>
<project version="4">
  <component name="ProjectRootManager" project-jdk-name="Python 3 (lab)" project-jdk-type="Python SDK"/>
</project>"""

# name: (file below the home folder, text); LAB stands for the environment
FILES = {
    "workspace settings": ("project/.vscode/settings.json",
                           '{"python.defaultInterpreterPath": "LAB/bin/python"}'),
    "legacy key": ("project/.vscode/settings.json", '{"python.pythonPath": "~/envs/lab/bin/python"}'),
    "multi-root workspace": ("project/all.code-workspace", '{"folders": [{"path": "."}], "settings": {'
                             '"python.defaultInterpreterPath": "${workspaceFolder}/../envs/lab"}}'),
    "user settings": (".config/Code/User/settings.json",
                      '// mine\n{"python.defaultInterpreterPath": "${userHome}/envs/lab/bin/python",}'),
    "project file": ("project/x.sublime-project",
                     '{"settings": {"python_interpreter": "$project_path/../envs/lab/bin/python"}}'),
    "build system": ("project/x.sublime-project",
                     '{"build_systems": [{"cmd": ["LAB/bin/python", "-u", "$file"]}]}'),
    "build file": ("project/run.sublime-build", '{"shell_cmd": "\\"LAB/bin/python\\" -u \\"$file\\""}'),
    "own build file": (".config/sublime-text/Packages/User/mine.sublime-build",
                       '{"cmd": ["LAB/bin/python"]}'),
    "desktop": (".config/spyder-py3/config/spyder.ini",
                "[main_interpreter]\ndefault = False\ncustom = True\nexecutable = LAB/bin/python\n"),
    "desktop, other": (".config/Thonny/configuration.ini",
                       "[LocalCPython]\nexecutable = LAB/bin/python\n"),
    "checker": ("project/pyrightconfig.json", '{"venvPath": "../envs", "venv": "lab"}'),
    "tool table": ("project/pyproject.toml",
                   '[project]\nname = "x"\n\n[tool.pyright]\nvenvPath = "../envs"\nvenv = "lab"\n'),
    "tool table, other": ("project/pyproject.toml",
                          '[tool.mypy]\npython_executable = "../envs/lab/bin/python"\n'),
    "project folder": ("project/.idea/misc.xml", XML_PROJECT),
}


def put(world: World, file: str, text: str) -> Path:
    """Write a settings file with the placeholders filled in."""
    lab = world.home / "envs" / "lab"
    return write(world.home / file, text.replace("LAB", str(lab)))


@pytest.mark.parametrize("name", FILES)
def test_every_kind_of_file(name: str, world: World, validate) -> None:
    """The file is an editor seat, its value resolved, its line named; it runs what it says."""
    lab = world.venv("lab")
    world.activate(lab)
    file = put(world, *FILES[name])
    put(world, ".config/JetBrains/Tool2026.1/options/jdk.table.xml", XML_TABLE)
    document = world.answer("here")
    validate(document)
    seats = {s["ref"]: s for s in document["result"]["seats"]}
    seat = seats[f"editor:{file}"]
    assert (seat["interpreter"]["prefix"], document["result"]["agreement"]["agree"]) == (str(lab), True)
    step = seat["trail"][0]
    assert step["where"] == str(file) and step["line"], step
    assert world.answer("why", "json", "--at", f"editor:{file}")["exit"] == 0


def test_precedence_is_said(world: World) -> None:
    """The folder's settings win over the workspace's and the user's; the losers are named."""
    world.activate(world.venv("lab"))
    for name in ("user settings", "multi-root workspace", "workspace settings"):
        put(world, *FILES[name])
    seats = [s for s in world.answer("here")["result"]["seats"] if s["kind"] == "editor"]
    assert [s["label"] for s in seats] == ["workspace settings"]
    says = [t["says"] for t in seats[0]["trail"]]
    assert "multi-root" not in says[0] and says[1].startswith("it wins over")
    assert ".code-workspace" in says[1] and ".config/Code" in says[2]


def test_env_file_and_extra_paths(world: World) -> None:
    """An editor's seat gets the variables of its env file and the folders that it adds."""
    world.activate(world.venv("lab"))
    write(world.home / "more" / "frommore.py", "")
    write(world.home / "libs" / "fromenv.py", "")
    write(world.project / ".env", f"# for the editor\nexport PYTHONPATH='{world.home / 'libs'}'\n")
    file = put(world, "project/.vscode/settings.json",
               '{"python.defaultInterpreterPath": "LAB/bin/python",\n'
               ' "python.analysis.extraPaths": ["../more"]}')
    document = world.answer("why", "frommore", "fromenv", "--at", f"editor:{file}")
    assert [(r["outcome"], r["layer"]) for r in document["result"]["imports"]] == [
        ("imports", "pythonpath")] * 2
    assert world.answer("why", "fromenv")["exit"] == 1


BROKEN = {
    "json": (".vscode/settings.json", '{"python.defaultInterpreterPath" "x"}'),
    "not an object": (".vscode/settings.json", "[1]"),
    "deep": (".vscode/settings.json", "[" * 100_000),
    "xml": (".idea/misc.xml", "<project><component"),
    "xml bomb": (".idea/misc.xml", '<!DOCTYPE x [<!ENTITY a "b">]><x>&a;</x>'),
    "toml": ("pyproject.toml", "[tool.pyright\n"),
    "binary": ("pyrightconfig.json", b"\x00\xff\xfe{"),
}


@pytest.mark.parametrize("name", BROKEN)
def test_broken_files_cost_nothing_else(name: str, world: World) -> None:
    """A broken settings file is one finding, and the rest of the answer is there."""
    world.activate(world.venv("lab"))
    file, text = BROKEN[name]
    write(world.project / file, text)
    document = world.answer("here")
    found = [(s["ref"], f["cause"]) for s in document["result"]["seats"] for f in s["findings"]
             if s["kind"] == "editor"]
    assert found == [(f"editor:{world.project / file}", "setting-unreadable")]
    assert document["result"]["seats"][0]["environment"] and document["exit"] == 1


def test_configuration_adds_places_and_editors(world: World) -> None:
    """kalyx.toml, the user's and the project's; a broken one is a note."""
    far = world.root / "far" / "lab"
    from tests.support.build import make_venv

    make_venv(far)
    own = write(world.home / ".config/kalyx/kalyx.toml", f"[search]\nroots = ['{world.root / 'far'}']\n")
    write(world.project / "kalyx.toml", '[[editors]]\nname = "fern"\nfiles = [".fern/conf.ini"]\n'
          'format = "ini"\nkeys = ["run.python"]\n[[editors]]\nname = "bad"\n')
    write(world.project / ".fern" / "conf.ini", f"[run]\npython = {far}/bin/python\n")
    document = world.answer("here")
    assert document["result"]["seats"][1]["environment"]["path"] == str(far)
    assert [n["note"] for n in document["notes"]] == ["config-unreadable"]
    assert str(far) in {e["path"] for e in world.answer("envs")["result"]["environments"]}
    own.write_text("[search")
    assert "not TOML" in json.dumps(world.answer("here")["notes"])


def test_interactive_shell_is_asked_on_request(world: World) -> None:
    """Aliases and functions count only when asked for, and then they do."""
    lab = world.venv("lab")
    write(world.home / ".bashrc", f"alias python='{python_of(lab)} -X dev'\npip() {{ echo; }}\n")
    env = {"SHELL": "/bin/bash"}
    assert world.answer("here", env=env)["result"]["seats"][0]["environment"]["path"] == "/usr"
    seat = world.answer("here", "--ask-shell", env=env)["result"]["seats"][0]
    assert seat["environment"]["path"] == str(lab)
    assert "alias python" in json.dumps(seat["trail"]) and "function pip" in json.dumps(seat["trail"])
    note = world.answer("here", "--ask-shell", env={"SHELL": "/bin/fishy"})["notes"]
    assert [n["note"] for n in note] == ["shell-not-asked"]


def test_variables_and_scripts_are_named(world: World) -> None:
    """PYTHONPATH and its like stand in the trail; other scripts are followed to their Python."""
    lab = world.venv("lab")
    world.activate(lab)
    write(lab / "bin" / "pytest", f"#!{python_of(lab)}\n", 0o755)
    write(world.home / "bin" / "jupyter", "#!/usr/bin/python3\n", 0o755)
    env = {"PATH": f"{world.home / 'bin'}:{world.env['PATH']}", "PYTHONNOUSERSITE": "1"}
    seat = world.answer("here", env=env)["result"]["seats"][0]
    assert "the variable PYTHONNOUSERSITE is '1'" in [t["says"] for t in seat["trail"]]
    scripts = {s["name"]: s["interpreter"]["prefix"] for s in seat["scripts"] if s["interpreter"]}
    assert (scripts["pytest"], scripts["jupyter"]) == (str(lab), "/usr")


@pytest.mark.thorough
def test_crowds_and_odd_names(world: World) -> None:
    """500 PATH entries, 5,000 kernelspecs, a folder of 100,000 files, names with escapes in them."""
    lab = world.venv("lab")
    world.activate(lab)
    folders = [world.root / "p" / str(n) for n in range(500)]
    for folder in folders:
        folder.mkdir(parents=True)
    spec = kernelspec(world.home, "k", [python_of(lab), "-m", "x"])
    for number in range(5000):
        place = spec.parent.parent / f"k{number}"
        place.mkdir()
        os.link(spec, place / "kernel.json")
    crowd = world.project / "crowd"
    crowd.mkdir()
    for number in range(100_000):
        os.mknod(crowd / f"data-{number}.csv")
    odd = world.project / "a\x1b[31mred\n.ipynb"
    notebook(odd, "k\x1b]0;x\x07")
    write(site_of(lab) / "x.py", "")
    env = {"PATH": os.pathsep.join([*map(str, folders), world.env["PATH"]])}
    document = world.answer("here", env=env)
    assert document["result"]["seats"][0]["environment"]["path"] == str(lab)
    text = world.kalyx("here", env=env)
    assert "\x1b" not in text.stdout and "\\x1b[31mred" in text.stdout
    assert "notebooks-cut" in {n["note"] for n in world.answer("here", cwd=crowd)["notes"]}
    assert "notebooks-cut" in {n["note"] for n in document["notes"]}


def test_looking_runs_nothing_of_the_site(world: World) -> None:
    """envs, packages and running leave the marks of .pth and sitecustomize unmade."""
    lab, mark = world.venv("lab"), world.root / "mark"
    world.activate(lab)
    code = f"import os; open({str(mark)!r}, 'a').write('x')\n"
    write(site_of(lab) / "evil.pth", code)
    write(site_of(lab) / "sitecustomize.py", code)
    write(world.project / "sitecustomize.py", code)
    for command in (("envs",), ("packages",), ("packages", "--conflicts"), ("running",), ("here",)):
        assert world.kalyx(*command).returncode in (0, 1)
    assert not mark.exists()
