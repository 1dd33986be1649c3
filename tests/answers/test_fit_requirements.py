"""``fit`` and what a project asks for: extras, places, markers, what a notebook has installed, what no index has."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.support.build import BASE_PYTHON, World, carry_out, make_venv, other_pythons, python_of, run, site_of, write
from tests.support.thorough import first_of_each


def _fit(world: World, *args: str) -> dict:
    return world.answer("fit", *args)["result"]  # type: ignore[return-value]


def test_extras_and_places(world: World) -> None:
    """What a project asks for with extras, or from a place, is looked for so, and put in so."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    world.wheels.add("dryer", "1")
    kit = world.wheels.add("germ-kit", "2", {"germkit.py": ""},
                           ["dryer; extra == 'hot'", "fan[quick]; extra == 'hot'"])
    world.wheels.add("fan", "1", None, ["blade; extra == 'quick'"])
    world.wheels.add("blade", "1")
    world.wheels.install(kit, site_of(lab))
    local = Path(world.wheels.add("near-kit", "3", {"nearkit.py": ""}))
    (world.project / "wheels").mkdir()
    local = local.rename(world.project / "wheels" / local.name)
    write(world.project / "requirements.txt", f"germ-kit[hot]\n./wheels/{local.name}\n")
    write(world.project / "a.py", "import germkit, nearkit\n")
    for _ in range(4):  # what is required in turn shows when the first is there
        result = _fit(world, ".", "--in", "lab")
        if result["best"]:
            break
        remedy = result["remedies"][0]
        assert "near-kit" not in remedy["argv"], "an index may have somebody else's"
        carry_out(remedy, "command", world)
    assert result["best"] == str(lab)
    assert run([python_of(lab), "-c", "import germkit, nearkit, dryer, fan, blade"]).returncode == 0
    made = _fit(world, "a.py", "--in", str(make_venv(world.root / "empty")))["remedies"][-1]
    assert {"germ-kit[hot]", f"near-kit @ {local.as_uri()}"} <= set(made["argv"]), made


def test_what_is_brought_along(world: World) -> None:
    """A module of what the project's distributions require is put in by its name; else it may be one of theirs."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    kit = world.wheels.add("germ-kit", "2", {"germkit.py": ""}, ["siftlib"])
    world.wheels.add("siftlib", "1", {"siftlib.py": ""})
    write(world.project / "requirements.txt", "germ-kit\nnever; sys_platform == 'x'\n")
    write(world.project / "a.py", "import siftlib\n")
    todo = _fit(world, ".", "--in", "lab")["remedies"]
    assert not [r for r in todo if "siftlib" in r["argv"]], "it may be germ-kit's"
    world.wheels.install(kit, site_of(lab))
    todo = _fit(world, ".", "--in", "lab")["remedies"]
    assert ["siftlib" in r["argv"] for r in todo] == [True] * len(todo) and "nothing here tells" not in todo[0]["do"]
    carry_out(todo[0], "command", world)
    assert run([python_of(lab), "a.py"], cwd=world.project).returncode == 0
    assert _fit(world, ".", "--in", "lab")["best"] == str(lab)


# Lines of a project; the versions of seedling with which it fits in an old Python and in this one; what is put there
LINES = {
    "by version": ('seedling<2; python_version<"3.9"\nseedling>=2; python_version>="3.9"\n', ("1", "2"),
                   ("seedling<2", "seedling>=2")),
    "of one alone": ('seedling>=2; python_version>="3.9"\n', ("1", "2"), ("seedling", "seedling>=2")),
    "of another system": ('seedling>=2; sys_platform=="win32"\nseedling==1; sys_platform!="win32"\n', ("1", "1"),
                          ("seedling==1", "seedling==1")),
    "in none": ("seedling==1\nseedling>=2\n", (None, None), (None, None)),
}


@pytest.mark.parametrize("form", LINES)
@pytest.mark.parametrize("code", first_of_each(["import seedling\n", "import json\n"], lambda c: None, 1),
                         ids=["imported", "asked for"])
def test_lines_that_count_in_an_environment(code: str, form: str, world: World) -> None:
    """Of lines with markers those count that hold there, for what fits and for what is put in."""
    lines, fitting, put = LINES[form]
    write(world.project / "requirements.txt", lines)
    write(world.project / "a.py", code)
    old = next(p for v, p in other_pythons().items() if v in ("3.6", "3.7", "3.8"))
    for python, expected, word in zip((old, BASE_PYTHON), fitting, put, strict=True):
        is_asked = "import seedling" in code or not (form == "of one alone" and python == old)
        for version in ("1", "2"):
            env = make_venv(world.root / f"{Path(python).parts[-3]}-{version}", python)
            world.wheels.install(world.wheels.add("seedling", version), site_of(env))
            one = _fit(world, ".", "--in", str(env))
            assert bool(one["best"]) == (expected == version or (form == "of one alone" and python == old)), one
            assert not is_asked or [n["specifier"] for n in one["needs"] if n["distribution"] == "seedling"] == [
                "==1,>=2" if word is None else word.removeprefix("seedling")]
        document = world.answer("fit", ".", "--in", str(make_venv(world.root / f"{Path(python).parts[-3]}-0", python)))
        said = [w for r in document["result"]["remedies"][:1] for w in r["argv"] if w.startswith("seedling")]
        assert said == ([word] if word and is_asked else []), document["result"]["remedies"]
        assert [n["note"] for n in document["notes"]] == ([] if word else ["at-odds"])


# Lines of a notebook that have pip install something, and what fit then puts in for `import cv2, zork`
INSTALLS = {
    "%pip install -q 'opencv-python-headless>=4' zork[a]==3": ["opencv-python-headless>=4", "zork[a]==3"],
    "!pip3 install --index-url https://example.org \\\n   opencv-contrib-python zork>=2 && echo done": [
        "opencv-contrib-python", "zork>=2"],
    "if True:\n    !{sys.executable} -m pip install -r more.txt git+https://example.org/x; ls zork==1": [
        "opencv-python", "zork<9"],
    "!pip install $WHAT {zork} -t zork==1 # zork==2": ["opencv-python", "zork"],
    "%pip install 'zork==5; python_version<\"3\"' zork\"": ["opencv-python", "zork"],
}


@pytest.mark.parametrize("line", first_of_each(INSTALLS, lambda i: None, 3))
def test_what_a_notebook_has_pip_install(line: str, world: World) -> None:
    """It tells the distributions and the versions of what the notebook imports, and is needed for nothing else."""
    lab = world.venv("lab")
    world.activate(lab)
    cells = [{"cell_type": "code", "source": s} for s in (line, "import cv2, zork")]
    write(world.project / "a.ipynb", json.dumps({"cells": cells, "metadata": {}, "nbformat": 4, "nbformat_minor": 5}))
    write(world.project / "more.txt", "zork<9\nunused\n")
    result = _fit(world, "a.ipynb", "--in", str(lab))
    argv = result["remedies"][0]["argv"]
    assert argv[argv.index("put") + 1:argv.index("--at")] == INSTALLS[line]


# Code that nothing here can be given for, and what the first remedy says
NOT_HERE = {
    "import winreg\n": "Run this code on Windows",
    "import win32com.client\n": "only there (if sys.platform == 'win32')",
    "from google.colab import drive\n": "in the notebooks that Google hosts",
    "import dbutils, seedling\n": "Databricks",
    "import en_core_web_sm\n": "spaCy itself fetches it",
}


@pytest.mark.parametrize("code", first_of_each(NOT_HERE, lambda c: None, 3))
def test_what_no_index_has_for_this_machine(code: str, world: World) -> None:
    """It is lacked for its reason, and nothing is put anywhere; where it is there, or need not be, it is no matter."""
    lab = world.venv("lab")
    world.activate(lab)
    write(world.project / "a.py", code)
    result = _fit(world, "a.py")
    assert result["best"] is None and {r["kind"] for r in result["remedies"]} == {"manual"}, result["remedies"]
    assert NOT_HERE[code] in result["remedies"][0]["do"]
    assert all(lack["distribution"] is None or lack["distribution"] == "seedling"
               for lack in result["environments"][0]["lacks"])
    write(world.project / "a.py", f"try:\n    {code}except ImportError:\n    pass\n")
    assert _fit(world, "a.py")["best"] == str(lab)
    write(world.project / "a.py", code)
    for name in ("winreg", "win32com/client", "google/colab/drive", "dbutils", "seedling", "en_core_web_sm"):
        write(site_of(lab) / f"{name}.py", "")
    assert _fit(world, "a.py")["best"] == str(lab)
    assert run([python_of(lab), "a.py"], cwd=world.project).returncode == 0
