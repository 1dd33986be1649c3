"""``why FILE``, ``FOLDER``, ``--traceback``, ``--no-run``, ``--compare``, ``--explain``."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from kalyx.core.facts import sources
from kalyx.core.facts.tracebacks import parse_traceback, place_of
from kalyx.core.real_machine import RealMachine
from tests.damage import KIT, installed
from tests.slips import SLIPS, Slip
from tests.support.build import (
    KALYX,
    World,
    carry_out,
    kernelspec,
    notebook,
    other_pythons,
    python_of,
    run,
    site_of,
    write,
)

CODE = """\
import os, sys
import humidlog, traygrid as t, sowkit
from germkit import Trial, nothing
from . import sibling
try:
    import ujsonx
except ImportError:
    import json as ujsonx
try:
    import fastseed
except ImportError:
    import slowseed
try:
    import fastplot
    has_plot = True
except ImportError:
    has_plot = False
else:
    import fastplot_themes
if has_plot:
    import fastplot.pages
if TYPE_CHECKING:
    import typesonly
if sys.platform == "win32":
    import winreg
def later():
    import onlylater
sys.path.append(os.path.join(os.path.dirname(__file__), "more"))
import added
"""


def prepared(world: World) -> Path:
    """Make the current environment, with some of what the code needs."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    installed()(world, lab)
    for name in ("humidlog", "traygrid", "slowseed", "onlylater", "rowkit", "bedkit"):
        world.wheels.add(name, "1", {f"{name}.py": ""})
    world.wheels.install(world.wheels.add("sowkit", "1", {"sowkit.py": "import rowkit, bedkit\n"},
                                          ["rowkit", "bedkit"]), site_of(lab))
    return lab


def test_a_script(world: World, validate) -> None:
    """What it needs and lacks, once; guards, fall-backs and added folders are understood; one remedy."""
    prepared(world)
    write(world.project / "trial.py", CODE.replace("from . import sibling\n", ""))
    write(world.project / "more" / "added.py", "")
    document = world.answer("why", "trial.py")
    validate(document)
    result = document["result"]
    failing = {r["module"] + (":" + r["name"] if r["name"] else "") for r in result["imports"]
               if r["outcome"] == "fails" and all(p["guard"] in ("", "function") for p in r["asked"])}
    assert failing == {"sowkit", "humidlog", "traygrid", "germkit:nothing", "slowseed", "onlylater"}
    assert set(result["files"][0]["failing"]) == failing and document["exit"] == 1
    guards = {r["module"]: r["asked"][0]["guard"] for r in result["imports"]}
    assert (guards["ujsonx"], guards["fastseed"], guards["typesonly"], guards["onlylater"],
            guards["winreg"]) == ("try", "try", "typing", "function", "try")
    assert {guards[m] for m in ("fastplot", "fastplot.pages", "fastplot_themes")} == {"try"}
    added = next(r for r in result["imports"] if r["module"] == "added")
    assert added["origin"] == str(world.project / "more" / "added.py")
    missing = next(g for g in result["groups"] if len(g["imports"]) == 5)  # what sowkit requires among them
    done = run(missing["remedies"][0]["argv"], env=world.env, cwd=world.project)
    assert done.returncode == 0, done.stderr
    after = world.answer("why", "trial.py")["result"]["files"][0]["failing"]
    assert after == ["germkit:nothing"]
    text = world.kalyx("why", "trial.py").stdout
    assert "1 of the" in text and "what to do" in text and "does without" in text


def test_a_notebook(world: World, validate) -> None:
    """Magics and shell lines are left out; the folder that it adds is looked into; its own kernel runs it."""
    lab = prepared(world)
    kernelspec(world.home, "lab", [python_of(lab), "-m", "x"])
    notebook(world.project / "nb" / "trial.ipynb", "lab", (
        "%matplotlib inline\n!pip install \\\n  nothing\nfiles = !ls\nimport sys; sys.path.insert(0, '../lib')\n"
        "import seedlib, humidlog\nhumidlog?\n"))
    write(world.project / "lib" / "seedlib.py", "")
    document = world.answer("why", "nb/trial.ipynb")
    validate(document)
    outcomes = {r["module"]: r["outcome"] for r in document["result"]["imports"]}
    assert outcomes == {"sys": "imports", "seedlib": "imports", "humidlog": "fails"}
    asked = next(r for r in document["result"]["imports"] if r["module"] == "humidlog")["asked"][0]
    assert (asked["cell"], asked["line"]) == (1, 6)
    assert world.answer("why", "nb/trial.ipynb", "--at", "python:/usr/bin/python3")["exit"] == 1
    notebook(world.project / "nb" / "stale.ipynb", "gone", "import json")
    stale = world.answer("why", "nb/stale.ipynb")["result"]["imports"][0]
    assert (stale["outcome"], stale["causes"][0]["cause"]) == ("fails", "kernel-missing")


def test_a_folder(world: World, validate) -> None:
    """Packages, relative imports, tests beside them; environments and caches are left alone."""
    lab = prepared(world)
    package = world.project / "bank"
    write(package / "__init__.py", "from .vault import open\n")
    write(package / "vault.py", "from . import keys\nfrom .keys import turn\ndef open(): pass\n")
    write(package / "keys.py", "import germkit\ndef turn(): pass\n")
    write(world.project / "tests" / "test_bank.py", "import bank\n")
    write(world.project / ".venv" / "pyvenv.cfg", "")
    write(world.project / ".venv" / "x.py", "import nix\n")
    document = world.answer("why", ".")
    validate(document)
    assert document["exit"] == 0, document["result"]["groups"]
    assert len(document["result"]["files"]) == 4
    assert "relative-imports" in {n["note"] for n in document["notes"]}
    write(package / "keys.py", "import germkit, humidlog\ndef turn(): pass\n")
    document = world.answer("why", ".")
    assert [g["imports"] for g in document["result"]["groups"] if "humidlog" in g["imports"]]
    assert len([f for f in document["result"]["files"] if f["failing"]]) >= 1 and document["exit"] == 1
    text = world.kalyx("why", ".").stdout
    assert "file by file" in text and str(lab) not in text
    assert world.answer("why", str(world.home / "nothing"))["exit"] == 3
    (world.project / "empty").mkdir()
    assert world.answer("why", "./empty")["exit"] == 3


def test_a_real_project(world: World) -> None:
    """Of Kalyx's own code all that is needed here imports, and what other systems have is not missed."""
    source = Path(__file__).parent.parent / "src"
    document = world.answer("why", f"{source}/", "--at", f"python:{sys.executable}", cwd=source.parent)
    assert (document["exit"], document["result"]["groups"]) == (0, [])
    assert len(document["result"]["files"]) > 150 and len(document["result"]["imports"]) > 200
    named = world.answer("why", "nb", "--at", f"python:{sys.executable}")
    (world.project / "nb").mkdir()
    assert [n["note"] for n in named["notes"]] == []
    named = world.answer("why", "nb", "--at", f"python:{sys.executable}")
    assert [n["note"] for n in named["notes"]] == ["folder-of-that-name"] and "nb/" in named["notes"][0]["message"]


def test_one_import_does_not_spoil_the_next(world: World) -> None:
    """A crash, an exit, a hang, a killed group: the rest is still tried, each in its own right."""
    world.activate(world.venv("lab"))
    for name, code in {
            "dies": "import os\nos.kill(os.getpid(), 11)\n", "leaves": "raise SystemExit(3)\n",
            "kills": "import os\nos.killpg(0, 9)\n", "orphan": "import os\nos.kill(os.getppid(), 9)\n",
            "family": "import os\nos.killpg(os.getpgid(os.getppid()), 9)\n", "asks": "import os\nos.kill(os.getppid(), 15)\n", "hangs": "import time\ntime.sleep(999)\n",
            "everybody": "import os\nos.kill(-1, 9)\n", "itself": "import os\nos.kill(os.getpid(), 9)\n",
            "handles": "import os, signal\nsignal.signal(15, lambda *a: None)\nos.kill(os.getpid(), 15)\n",
            "fills": "import os\nos.write(1, b'x' * 9_000_000)\n", "fine": "",
            "half": "import half.part\nraise ValueError('half')\n"}.items():
        write(world.project / (f"{name}/__init__.py" if name == "half" else f"{name}.py"), code)
    write(world.project / "half" / "part.py", "")
    write(world.project / "all.py", "import dies, leaves, kills, orphan, family, asks, everybody, itself, handles, hangs, fills, half, fine, json\n")
    reports = world.answer("why", "all.py", "--timeout", "3")["result"]["imports"]
    causes = {r["module"]: r["causes"][0]["cause"] if r["causes"] else r["outcome"] for r in reports}
    assert causes == {"dies": "crash", "leaves": "raises", "kills": "crash", "orphan": "crash", "family": "crash",
                      "asks": "crash", "everybody": "crash", "itself": "crash", "handles": "imports", "hangs": "hang", "fills": "imports", "half": "raises", "fine": "imports",
                      "json": "imports"}
    alone = world.answer("why", "orphan")["result"]["imports"][0]["causes"][0]
    assert "the process that had started it" in alone["because"]
    assert [(e["path"], e["line"]) for e in alone["evidence"]][-1] == (str(world.project / "orphan.py"), 2)
    # what its own children do with themselves is their matter
    write(world.project / "forks.py", "import os\npid = os.fork()\nif not pid:\n    os._exit(7)\n"
          "assert os.waitpid(pid, 0)[1] == 7 << 8\npid = os.fork()\nif not pid:\n    os.kill(os.getpid(), 9)\n"
          "assert os.waitpid(pid, 0)[1] == 9\n")
    assert world.answer("why", "forks")["status"] == "ok"


ODD_FILES: dict[str, tuple[str, bytes, int, str]] = {
    "not decodable": ("a.py", b"# caf\xe9\nimport json\n", 1, "raises"),
    "unknown encoding": ("a.py", b"# coding: seeds\nimport json\n", 1, "raises"),
    "syntax error": ("a.py", b"import json\nimport nix\ndef f(:\n", 1, "raises"),
    "NUL bytes": ("a.py", b"import json\n\0", 1, "raises"),
    "deep nesting": ("a.py", b"import json\nx = " + b"-" * 200_000 + b"1\n", 1, "raises"),
    "a long chain": ("a.py", b"import json\nx = " + b"+".join([b"a"] * 100_000) + b"\n", 1, "raises"),
    "empty": ("a.py", b"", 0, ""),
    "byte order mark": ("a.py", b"\xef\xbb\xbfimport json\r\nimport os\r\n", 0, ""),
    "Python 2": ("a.py", b"import json\nprint 'x'\n", 1, "python2-source"),
    "no notebook": ("a.ipynb", b"[1, 2", 1, "notebook-unreadable"),
    "notebook nested deeply": ("a.ipynb", b"[" * 100_000, 1, "notebook-unreadable"),
}


@pytest.mark.parametrize("name", ODD_FILES)
def test_odd_files(name: str, world: World, validate) -> None:
    """Each is one finding that names the file, within the limit, and nothing is lost."""
    file, data, status, cause = ODD_FILES[name]
    world.activate(world.venv("lab"))
    write(world.project / file, data)
    document = world.answer("why", file)
    validate(document)
    assert document["exit"] == status, document
    found = {f["cause"] for r in document["result"]["imports"] for f in r["causes"]}
    assert not cause or cause in found, document
    assert "Traceback" not in world.kalyx("why", file).stderr


def test_large_notebook(world: World) -> None:
    """50 MB of outputs do not hinder the reading of three cells."""
    lab = world.venv("lab")
    kernelspec(world.home, "lab", [python_of(lab), "-m", "x"])
    path = notebook(world.project / "large.ipynb", "lab", "import json, nix")
    content = json.loads(path.read_text())
    content["cells"][0]["outputs"] = [{"output_type": "stream", "text": "x" * 1_000_000} for _ in range(50)]
    path.write_text(json.dumps(content))
    document = world.answer("why", "large.ipynb")
    assert {r["module"]: r["outcome"] for r in document["result"]["imports"]} == {"json": "imports", "nix": "fails"}


# -- tracebacks -----------------------------------------------------------------------------------
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


TEXTS = {"Windows, chained": (WINDOWS, "numpy", "library-missing"), "a cell in colour": (CELL, "sklearn", "name-differs"),
         "a group": (GROUP, "yaml", "name-differs"), "another machine": (PLAIN, "germkit", "dependency-absent"),
         "own file": (HIDDEN, "tempfile", "hidden-by-file"),
         "test runner": ("x.py:3: in <module>\n    import zorkmid\nE   ModuleNotFoundError: No module named 'zorkmid'\n",
                         "zorkmid", "not-installed"),
         "module of newer Pythons": (plain("import tomllib", "ModuleNotFoundError: No module named 'tomllib'"), "tomllib",
                                     "stdlib-not-yet"),
         "module of older Pythons": (plain("import imp", "ModuleNotFoundError: No module named 'imp'"), "imp",
                                     "stdlib-removed"),
         "operator of newer Pythons": (plain("x: int | None = None", "TypeError: unsupported operand type(s) for |: "
                                       "'type' and 'NoneType'"), "the script", "python-too-old"),
         "name of older Pythons": (plain("from collections import Mapping", "ImportError: cannot import name 'Mapping' "
                                   "from 'collections' (/usr/lib/python3.11/collections/__init__.py)"), "collections",
                                   "python-too-new"),
         "Windows, not installed": (plain("import cv2", "ModuleNotFoundError: No module named 'cv2'", "C:\\p\\x.py"), "cv2",
                                    "name-differs"),
         "package's own advice": (plain("raise ImportError(", "ImportError: Unable to import required dependencies:\nnumpy: "
                                  "no", "/v/lib/python3.9/site-packages/pandas/__init__.py"), "pandas", "raises"),
         "Windows, a DLL": (plain("bootstrap()", "ImportError: DLL load failed while importing cv2: The specified module could "
                            "not be found.", "C:\\Py\\Python311\\Lib\\site-packages\\cv2\\__init__.py"), "cv2", "library-missing"),
         "a log": (before_each("2026-03-0%d 12:00:0%d,003 ERROR worker ", PLAIN), "germkit", "dependency-absent"),
         "a container": (before_each("web_%d  | ", PLAIN), "germkit", "dependency-absent"),
         "a mail": (before_each("> ", PLAIN), "germkit", "dependency-absent"),
         "a mail about a group": (before_each("> ", GROUP), "yaml", "name-differs"),
         "run by -m": ("ada@x:~$ python -m flask\n/opt/lab/bin/python: No module named flask\n", "flask", "not-installed"),
         "run by -m, Windows": ("C:\\Py\\python.exe: Error while finding module specification for 'flask.cli' "
                                "(ModuleNotFoundError: No module named 'flask')", "flask", "not-installed"),
         "does not start": ("Python path configuration:\n  PYTHONHOME = '/old'\nFatal Python error: init_fs_encoding: failed to "
                            "get the Python codec of the filesystem encoding\nPython runtime state: core initialized\n"
                            "ModuleNotFoundError: No module named 'encodings'\n", "the script", "interpreter-broken"),
         "died": ("Fatal Python error: Segmentation fault\n\nCurrent thread 0x7f (most recent call first):\n"
                  '  File "/e/lib/python3.9/site-packages/fern/core.py", line 7 in scan\n  File "<frozen importlib>", line 1 in x'
                  '\n  File "/srv/m.py", line 1 in <module>\n\nThread 0x7e:\n  File "/srv/n.py", line 2 in y\n', "fern", "crash"),
         "as a notebook shows it": (json.dumps({"cells": [{"outputs": [{"output_type": "error", "traceback": CELL.split("\n")}]}]}),
                                    "sklearn", "name-differs")}


@pytest.mark.parametrize("name", TEXTS)
def test_traceback_from_elsewhere(name: str, world: World, validate) -> None:
    """What the text alone shows, said to be from the text alone."""
    text, module, cause = TEXTS[name]
    document = world.answer("why", "--traceback", str(write(world.root / "t.txt", text)))
    validate(document)
    report = document["result"]["imports"][0]
    assert (report["module"], report["outcome"], report["causes"][0]["cause"]) == (module, "fails", cause)
    assert report["causes"][0]["confidence"] != "certain" and document["exit"] == 1
    assert [n["note"] for n in document["notes"]] == ["from-text"]
    assert "3.99" not in json.dumps(document)
    assert "your own code" not in report["causes"][0]["because"]
    if cause in ("name-differs", "not-installed"):
        assert report["causes"][0]["remedies"][0]["argv"][1:4] == ["-m", "pip", "install"]
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
        found = parse_traceback(f'Traceback (most recent call last):\n  File "a.py", line 1, in <module>\n    go()\n{last}')
        assert found is not None and found.chain[0].message == last.partition(": ")[2]


@pytest.mark.parametrize("slip", SLIPS, ids=lambda s: s.slug)
def test_slip(slip: Slip, world: World, validate) -> None:
    """What is wrong in the person's own code is named, and what is said, carried out, mends it."""
    slip.build(world)
    document = world.answer("why", slip.ask)
    validate(document)
    report = next(r for r in document["result"]["imports"] if r["causes"])
    first = report["causes"][0]
    assert (first["cause"], slip.says in first["because"], document["exit"]) == (slip.cause, True, 1), first
    remedy = first["remedies"][0]
    if slip.remedy is None:
        assert remedy["kind"] != "edit"
        return
    carry_out(remedy, slip.remedy, world)
    if slip.wrote:
        place = Path(remedy["edits"][0]["path"] if remedy["edits"] else remedy["argv"][-1])
        text = place.read_text() if place.suffix != ".ipynb" else "".join(json.loads(place.read_text())["cells"][0]["source"])
        assert slip.wrote in text
    assert world.answer("why", slip.ask)["exit"] == 0


# -- without running, compared, explained --------------------------------------------------------------
def test_no_run(world: World, validate) -> None:
    """Nothing is run; what is plainly there or missing is said, with less than certainty."""
    lab, mark = prepared(world), world.root / "mark"
    write(site_of(lab) / "marker.py", f"open({str(mark)!r}, 'w')\n")
    installed("needy", {"needy/__init__.py": "from needy.part import x\n", "needy/part.py": "import traygrid\nx = 1\n"},
              requires=["traygrid"])(world, lab)
    write(world.project / "csv.py", "")
    document = world.answer("why", "marker", "needy", "zorkmid", "csv", "json.decoder", "germkit.nix", "sys", "--no-run")
    validate(document)
    reports = document["result"]["imports"]
    assert not mark.exists() and {r["outcome"] for r in reports} == {"unknown"}
    causes = [r["causes"][0]["cause"] if r["causes"] else None for r in reports]
    assert causes == [None, "dependency-absent", "not-installed", "hidden-by-file", None, "submodule-absent", None]
    assert reports[0]["origin"] == str(site_of(lab) / "marker.py")
    assert all(f["confidence"] != "certain" for r in reports for f in r["causes"])
    assert world.answer("why", "json", "--no-run")["exit"] == 3
    assert "not tried" in world.kalyx("why", "json", "--no-run").stdout


def test_compare(world: World, validate) -> None:
    """The first difference that matters: environment, PYTHONPATH, start folder, another copy."""
    lab = prepared(world)
    other = world.venv("other")
    world.wheels.install(world.wheels.add("humidlog", "2", {"humidlog.py": ""}), site_of(other))
    document = world.answer("why", "humidlog", "--compare", "env:../envs/other")
    validate(document)
    found = document["result"]["comparisons"][0]
    assert (found["here_outcome"], found["there_outcome"]) == ("fails", "imports")
    assert str(site_of(other)) in found["says"]
    assert {"interpreter", "environment"} <= {d["what"] for d in found["differences"]}
    write(world.root / "extra" / "fern.py", "")
    path = os.pathsep.join(filter(None, [str(world.root / "extra"), world.env.get("PYTHONPATH")]))
    kernelspec(world.home, "with", [python_of(lab), "-m", "x"], env={"PYTHONPATH": path})
    said = world.answer("why", "fern", "--compare", "kernel:with")["result"]["comparisons"][0]
    assert "PYTHONPATH" in said["says"]
    write(world.project / "scripts" / "own.py", "")
    write(world.project / "scripts" / "run.py", "import own\n")
    said = world.answer("why", "own", "--compare", "script:scripts/run.py")["result"]["comparisons"][0]
    assert "starts from" in said["says"]
    write(world.project / "germkit.py", "1/0\n")
    said = world.answer("why", "germkit", "--compare", "script:scripts/run.py")["result"]["comparisons"][0]
    assert str(world.project / "germkit.py") in said["says"]
    assert "compared with" in world.kalyx("why", "json", "--compare", "env:../envs/other").stdout


def test_explain(world: World, validate) -> None:
    """A cause in words; a wrong name gets the near ones."""
    document = world.answer("why", "--explain", "foreign-abi")
    validate(document)
    assert document["result"]["cause"] == "foreign-abi" and document["exit"] == 0
    assert "what to do" in world.kalyx("why", "--explain", "foreign-abi").stdout
    wrong = world.answer("why", "--explain", "foreign")
    assert wrong["exit"] == 2 and "foreign-abi" in wrong["result"]["hint"]


@pytest.mark.parametrize(("line", "expected"), [
    ("sys.path.append('lib')", "/w/lib"), ("sys.path.insert(0, '/abs')", "/abs"),
    ("sys.path.append(os.path.join(os.path.dirname(__file__), '..', 'lib'))", "/w/lib"),
    ("sys.path.insert(0, str(Path(__file__).resolve().parent.parent / 'lib'))", "/w/lib"),
    ("sys.path.append(os.path.dirname(os.path.abspath(__file__)))", "/w/s"),
    ("sys.path.insert(0, os.path.abspath('..'))", "/"), ("sys.path += ['x']", None),
    ("sys.path.append(str(Path(__file__).parents[1]))", "/w"), ("sys.path.append(where())", None),
])
def test_added_folders(line: str, expected: str | None, monkeypatch: pytest.MonkeyPatch) -> None:
    """The folder that a line adds, worked out without running it."""
    machine = RealMachine(cwd="/w")
    monkeypatch.setattr(machine, "read_bytes", lambda path, limit=0: line.encode())
    found = sources.read_source(machine, "/w/s/run.py")
    assert [p for p, _ in found.paths] == ([expected] if expected else [])


def test_kit_is_whole() -> None:
    """The made-up kit that the situations damage is sound to begin with."""
    assert all(compile(text, name, "exec") for name, text in KIT.items())
