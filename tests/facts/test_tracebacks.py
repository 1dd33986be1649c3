"""``why --traceback``: texts from elsewhere and from here, read whole and explained."""

from __future__ import annotations

import json
import subprocess

import pytest

from kalyx.core.facts.tracebacks.parser import parse_traceback, place_of
from tests.support.build import (
    KALYX,
    World,
    other_pythons,
    python_of,
    run,
    site_of,
    write,
)
from tests.support.packages import installed

WINDOWS = r"""Traceback (most recent call last):
  File "C:\Users\ada\plot.py", line 1, in <module>
    import numpy as np
  File "C:\Users\ada\Python\Python311\Lib\site-packages\numpy\__init__.py", line 130, in <module>
    from numpy import _core
ImportError: DLL load failed while importing _core: The specified module could not be found.

The above exception was the direct cause of the following exception:

Traceback (most recent call last):
  File "C:\Users\ada\plot.py", line 1, in <module>
    import numpy as np
ImportError: numpy cannot be imported
"""
CELL = ("\x1b[0;31m---------------------------------------------\x1b[0m\n\x1b[0;31mModuleNotFoundError\x1b[0m"
        "       Traceback (most recent call last)\nCell \x1b[0;32mIn[3], line 2\x1b[0m\n      1 x = 1\n"
        "\x1b[0;32m----> 2\x1b[0m \x1b[38;5;28;01mimport\x1b[39;00m \x1b[38;5;21;01msklearn\x1b[39;00m\n\n"
        "\x1b[0;31mModuleNotFoundError\x1b[0m: No module named 'sklearn'\n")
GROUP = """  + Exception Group Traceback (most recent call last):
  |   File "/srv/app/run.py", line 9, in <module>
  |     main()
  | ExceptionGroup: unhandled errors in a TaskGroup (2 sub-exceptions)
  +-+---------------- 1 ----------------
    | Traceback (most recent call last):
    |   File "/srv/app/run.py", line 4, in load
    |     1 / 0
    | ZeroDivisionError: division by zero
    +---------------- 2 ----------------
    | Traceback (most recent call last):
    |   File "/srv/app/run.py", line 5, in load
    |     import yaml
    | ModuleNotFoundError: No module named 'yaml'
    +------------------------------------
"""
PLAIN = """some log line
Traceback (most recent call last):
  File "/home/ada/trials/main.py", line 3, in <module>
    import germkit
  File "/home/ada/envs/lab/lib/python3.9/site-packages/germkit/trial.py", line 7, in <module>
    import traygrid
ModuleNotFoundError: No module named 'traygrid'
"""
HIDDEN = """Traceback (most recent call last):
  File "/home/ada/trials/game.py", line 1, in <module>
    import tempfile
  File "/usr/lib/python3.10/tempfile.py", line 45, in <module>
    from random import Random as _Random
ImportError: cannot import name 'Random' from 'random' (/home/ada/trials/random.py)
"""


def plain(line: str, last: str, file: str = "/home/bo/x.py") -> str:
    """Return a traceback of one frame."""
    return f'Traceback (most recent call last):\n  File "{file}", line 1, in <module>\n    {line}\n{last}\n'


def before_each(form: str, text: str) -> str:
    """Put something before every line, its numbers going up."""
    return "".join(f"{form % ((n % 9,) * form.count('%'))}{line}\n" for n, line in enumerate(text.splitlines()))


TEXTS = {"Windows, chained": (WINDOWS, "numpy", "library-missing"),
         "a cell in colour": (CELL, "sklearn", "name-differs"),
         "a group": (GROUP, "yaml", "name-differs"), "another machine": (PLAIN, "germkit", "dependency-absent"),
         "own file": (HIDDEN, "tempfile", "hidden-by-file"),
         "test runner": ("x.py:3: in <module>\n    import zorkmid\n"
                    "E   ModuleNotFoundError: No module named 'zorkmid'\n",
                         "zorkmid", "not-installed"),
         "module of newer Pythons": (plain("import tomllib", "ModuleNotFoundError: No module named 'tomllib'"),
                                     "tomllib",
                                     "stdlib-not-yet"),
         "module of older Pythons": (plain("import imp", "ModuleNotFoundError: No module named 'imp'"), "imp",
                                     "stdlib-removed"),
         "operator of newer Pythons": (plain("x: int | None = None", "TypeError: unsupported operand type(s) for |: "
                                       "'type' and 'NoneType'"), "the script", "python-too-old"),
         "name of older Pythons": (plain("from collections import Mapping", "ImportError: cannot import name 'Mapping' "
                                   "from 'collections' (/usr/lib/python3.11/collections/__init__.py)"), "collections",
                                   "python-too-new"),
         "Windows, not installed": (plain("import cv2", "ModuleNotFoundError: No module named 'cv2'", "C:\\p\\x.py"),
                                    "cv2",
                                    "name-differs"),
         "package's own advice": (plain("raise ImportError(",
                                        "ImportError: Unable to import required dependencies:\nnumpy: "
                                  "no", "/v/lib/python3.9/site-packages/pandas/__init__.py"), "pandas", "raises"),
         "Windows, a DLL": (plain("bootstrap()",
                                  "ImportError: DLL load failed while importing cv2: The specified module could "
                            "not be found.", "C:\\Py\\Python311\\Lib\\site-packages\\cv2\\__init__.py"), "cv2",
                            "library-missing"),
         "a log": (before_each("2026-03-0%d 12:00:0%d,003 ERROR worker ", PLAIN), "germkit", "dependency-absent"),
         "a container": (before_each("web_%d  | ", PLAIN), "germkit", "dependency-absent"),
         "a mail": (before_each("> ", PLAIN), "germkit", "dependency-absent"),
         "a mail about a group": (before_each("> ", GROUP), "yaml", "name-differs"),
         "run by -m": ("ada@x:~$ python -m flask\n/opt/lab/bin/python: No module named flask\n", "flask",
                       "not-installed"),
         "run by -m, Windows": ("C:\\Py\\python.exe: Error while finding module specification for 'flask.cli' "
                                "(ModuleNotFoundError: No module named 'flask')", "flask", "not-installed"),
         "does not start": ("Python path configuration:\n  PYTHONHOME = '/old'\n"
                       "Fatal Python error: init_fs_encoding: failed to "
                            "get the Python codec of the filesystem encoding\nPython runtime state: core initialized\n"
                            "ModuleNotFoundError: No module named 'encodings'\n", "the script", "interpreter-broken"),
         "died": ("Fatal Python error: Segmentation fault\n\nCurrent thread 0x7f (most recent call first):\n"
                  '  File "/e/lib/python3.9/site-packages/fern/core.py", line 7 in scan\n'
                    '  File "<frozen importlib>", line 1 in x'
                  '\n  File "/srv/m.py", line 1 in <module>\n\nThread 0x7e:\n  File "/srv/n.py", line 2 in y\n',
                  "fern", "crash"),
         "as a notebook shows it": (json.dumps({"cells": [{"outputs": [{"output_type": "error",
                                                                        "traceback": CELL.split("\n")}]}]}),
                                    "sklearn", "name-differs")}


NAMES_NO_FILE = {"a cell in colour", "as a notebook shows it"}


@pytest.mark.parametrize("name", TEXTS)
def test_traceback_from_elsewhere(name: str, world: World, validate) -> None:
    """What the text alone shows, said to be from the text alone; one that names no file is tried here."""
    text, module, cause = TEXTS[name]
    document = world.answer("why", "--traceback", str(write(world.root / "t.txt", text)))
    validate(document)
    report = document["result"]["imports"][0]
    assert (report["module"], report["outcome"], report["causes"][0]["cause"]) == (module, "fails", cause)
    assert document["exit"] == 1
    if name in NAMES_NO_FILE:
        assert document["notes"][0]["note"] == "tried-at" and report["interpreter"]["path"].startswith("/usr/bin/")
        return
    assert report["causes"][0]["confidence"] != "certain"
    assert [n["note"] for n in document["notes"]] == ["from-text"]
    assert "3.99" not in json.dumps(document)
    assert "your own code" not in report["causes"][0]["because"]
    if cause in ("name-differs", "not-installed"):
        remedy = report["causes"][0]["remedies"][0]
        assert (remedy["kind"], remedy["argv"]) == ("manual", []) and " -m pip install " in remedy["typed"]
    assert "text alone" in world.kalyx("why", "--traceback", str(world.root / "t.txt")).stdout
    (world.root / "t.txt").write_text(text, encoding="utf-16")  # as a Windows shell redirects it
    assert world.answer("why", "--traceback", str(world.root / "t.txt"))["result"] == document["result"]


def test_traceback_from_here(world: World) -> None:
    """A traceback of an interpreter that is here is tried again there: the same answer as asking for it."""
    lab = world.venv("lab", pip=True)
    installed("germkit", {"germkit.py": "import traygrid\n"}, requires=["traygrid>=1"])(world, lab)
    world.wheels.add("traygrid")
    script = write(world.project / "main.py", "import germkit\n")
    said = run([python_of(lab), str(script)], env=world.env).stderr

    def ask(text: str) -> dict:
        done = subprocess.run([KALYX, "why", "--traceback", "-", "--json"], input=text, env=world.env, text=True,
                              capture_output=True, check=False, cwd=world.project)
        return {**json.loads(done.stdout), "exit": done.returncode}

    first = ask(said)["result"]["imports"][0]["causes"][0]
    assert (first["cause"], first["confidence"]) == ("dependency-absent", "certain")
    assert run(first["remedies"][0]["argv"], env=world.env).returncode == 0
    after = ask(said)
    assert after["exit"] == 0 and [n["note"] for n in after["notes"]] == ["imports-now"]
    assert ask("no traceback at all")["exit"] == 3
    assert world.answer("why", "--traceback", "/nonexistent")["exit"] == 3
    assert world.answer("why", "json", "--traceback", "x")["exit"] == 2


LATER = [  # (package, its code, requires, extras, cause, what the first remedy installs)
    ("reader", "def go():\n    import fastgrid\n", (), {"fast": ["fastgrid>=1"]}, "extra-absent", "reader[fast]==1"),
    ("reader", "def go():\n    import fastgrid\n", ["fastgrid>=1,<2"], None, "dependency-absent", "fastgrid>=1,<2"),
    ("reader", "def go():\n    try:\n        import fastgrid\n    except ImportError:\n        raise ImportError("
     "'this needs fastgrid') from None\n", (), {"fast": ["fastgrid"]}, "extra-absent", "reader[fast]==1"),
    ("reader", "import sporecount\ndef go():\n    sporecount.mean()\n", ["sporecount>=2"], None, "version-conflict",
     "sporecount>=2"),
    ("reader", "class NoSheet(Exception): pass\ntry:\n    import fastgrid\nexcept ImportError:\n    fastgrid = None\n"
     "def go():\n    if fastgrid is None:\n        raise NoSheet('missing dependencies for fast support')\n", (),
     {"fast": ["fastgrid"]}, "extra-absent", "reader[fast]==1"),
]


@pytest.mark.parametrize(("name", "code", "requires", "extras", "cause", "wanted"), LATER)
def test_traceback_of_what_failed_later(name: str, code: str, requires: list[str], extras: dict, cause: str,
                                        wanted: str, world: World) -> None:
    """What a call needed, and not the import of the package, is explained by what asked; the remedy mends it."""
    lab = world.venv("lab", pip=True)
    world.wheels.add("fastgrid", "1")
    world.wheels.add("sporecount", "2", {"sporecount.py": "def mean():\n    pass\n"})
    world.wheels.install(world.wheels.add("sporecount", "1", {"sporecount.py": ""}), site_of(lab))
    world.wheels.install(world.wheels.add(name, "1", {f"{name}.py": code}, requires, extras=extras), site_of(lab))
    script = write(world.project / "main.py", f"import {name}\n{name}.go()\n")
    text = write(world.root / "t.txt", run([python_of(lab), str(script)], env=world.env).stderr)
    first = world.answer("why", "--traceback", str(text))["result"]["imports"][0]["causes"][0]
    assert "after its import" in world.kalyx("why", "--traceback", str(text)).stdout
    assert (first["cause"], first["remedies"][0]["argv"][-1]) == (cause, wanted)
    assert run(first["remedies"][0]["argv"], env=world.env, cwd=world.project).returncode == 0
    assert run([python_of(lab), str(script)], env=world.env).returncode == 0


@pytest.mark.parametrize(("file", "expected"), [
    ("/e/lib/python3.9/site-packages/x/y.py", ("site", "/e", "3.9")),
    ("/usr/lib/python3/dist-packages/x.py", ("site", "/usr", "3")),
    ("/home/ada/.local/lib/python3.8/site-packages/x.py", ("user", "/home/ada/.local", "3.8")),
    ("/usr/lib/python3.10/tempfile.py", ("stdlib", "/usr", "3.10")),
    (r"C:\Py\Python39\Lib\site-packages\x.py", ("site", r"C:\Py\Python39", "3.9")),
    (r"C:\Py\Python39\lib\tempfile.py", ("stdlib", r"C:\Py\Python39", "3.9")),
    (r"C:\Users\a\AppData\Roaming\Python\Python312\site-packages\x.py", ("user", "", "3.12")),
    ("/home/ada/trials/x.py", ("own", "", "")),
])
def test_places(file: str, expected: tuple[str, str, str]) -> None:
    """A path tells the prefix and the version."""
    place = place_of(file)
    assert (place.kind, place.prefix, place.version) == expected


def test_real_tracebacks_are_read_whole(world: World) -> None:
    """What every interpreter here prints is read: type, message, and each frame with its line."""
    script = write(world.project / "main.py", "def load():\n    import zorkmid\nload()\n")
    for version, python in sorted(other_pythons().items()):
        found = parse_traceback(run([python, str(script)], env=world.env).stderr)
        assert found is not None and found.request() is not None, version
        assert [(f.file, f.line) for f in found.frames] == [(str(script), 3), (str(script), 2)]
        assert "zorkmid" in found.chain[0].message and found.request()[0] == "zorkmid"
    assert parse_traceback("Error: no\nfile.py") is None
    for last in ("zipfile.BadZipFile: File is not a zip file", "pyo3_runtime.PanicException: call failed", "Odd"):
        found = parse_traceback('Traceback (most recent call last):\n  File "a.py", line 1, in <module>\n'
                            f'    go()\n{last}')
        assert found is not None and found.chain[0].message == last.partition(": ")[2]


AFTER = '  File "/s/lib/python3.11/site-packages/kit/__init__.py", line 1, in <module>\n    x\n'
LOOKED_UP = '  File "/usr/lib/python3.11/importlib/__init__.py", line 126, in import_module\n    return x(name)\n'


@pytest.mark.parametrize(("line", "after", "error", "module"), [
    ("import a, b, c", "", "ModuleNotFoundError: No module named 'b'", "b"),
    ("import a; import b.c as d", "", "ModuleNotFoundError: No module named 'b'", "b.c"),
    ("import importlib; importlib.import_module('b.c')", LOOKED_UP, "ModuleNotFoundError: No module named 'b'", "b"),
    ("import importlib as i; i.import_module('b')", "", "ModuleNotFoundError: No module named 'b'", "b"),
    ("import a, kit", AFTER, "ModuleNotFoundError: No module named 'b'", "kit"),
    ("import a, kit", AFTER, "ImportError: cannot import name 'b' from 'z'", "kit"),
    ("import kit", AFTER, "ModuleNotFoundError: No module named 'b'", "kit"),
    ("from a import (", "", "ImportError: cannot import name 'b' from 'a'", "a"),
    ("import a, b", "", "ValueError: x", "a"),
])
def test_several_on_a_line(line: str, after: str, error: str, module: str) -> None:
    """What was asked for is what the exception names, or what the next frame is in."""
    found = parse_traceback(f'Traceback (most recent call last):\n  File "/w/x.py", line 1, in <module>\n    {line}\n'
                            f"{after}{error}\n")
    request = found.request() if found else None
    assert request is not None and request[0] == module
