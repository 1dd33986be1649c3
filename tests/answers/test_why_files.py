"""``why FILE``, ``FOLDER``, ``--no-run``, ``--compare``, ``--explain``."""

from __future__ import annotations

import json
import os
import sys
from pathlib import Path

import pytest

from kalyx.core.facts.source_code import imports
from kalyx.core.machine.local import RealMachine
from tests.situations.slips import SLIPS, Slip
from tests.support.build import (
    World,
    carry_out,
    kernelspec,
    notebook,
    python_of,
    run,
    site_of,
    write,
)
from tests.support.packages import KIT, installed
from tests.support.thorough import first_of_each

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
    """Magics count for what they import; the folder that it adds is looked into; its own kernel runs it."""
    lab = prepared(world)
    kernelspec(world.home, "lab", [python_of(lab), "-m", "x"])
    notebook(world.project / "nb" / "trial.ipynb", "lab", (
        "%matplotlib inline\n!pip install \\\n  nothing\nfiles = !ls\nimport sys; sys.path.insert(0, '../lib')\n"
        "import seedlib, humidlog\nhumidlog?\n"))
    write(world.project / "lib" / "seedlib.py", "")
    document = world.answer("why", "nb/trial.ipynb")
    validate(document)
    outcomes = {r["module"]: r["outcome"] for r in document["result"]["imports"]}
    assert outcomes == {"matplotlib": "fails", "sys": "imports", "seedlib": "imports", "humidlog": "fails"}
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
    source = Path(__file__).parent.parent.parent / "src"
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
    lab = world.venv("lab")
    world.activate(lab)
    for name, code in {
            "dies": "import os\nos.kill(os.getpid(), 11)\n", "leaves": "raise SystemExit(3)\n",
            "kills": "import os\nos.killpg(0, 9)\n", "orphan": "import os\nos.kill(os.getppid(), 9)\n",
            "family": "import os\nos.killpg(os.getpgid(os.getppid()), 9)\n",
            "asks": "import os\nos.kill(os.getppid(), 15)\n", "hangs": "import time\ntime.sleep(999)\n",
            "everybody": "import os\nos.kill(-1, 9)\n", "itself": "import os\nos.kill(os.getpid(), 9)\n",
            "handles": "import os, signal\nsignal.signal(15, lambda *a: None)\nos.kill(os.getpid(), 15)\n",
            "fills": "import os\nos.write(1, b'x' * 9_000_000)\n", "fine": "",
            "half": "import half.part\nraise ValueError('half')\n"}.items():
        write(world.project / (f"{name}/__init__.py" if name == "half" else f"{name}.py"), code)
    write(world.project / "half" / "part.py", "")
    write(world.project / "all.py", "import dies, leaves, kills, orphan, family, asks, everybody, itself, handles, "
          "hangs, fills, half, fine, json\n")
    reports = world.answer("why", "all.py", "--timeout", "6")["result"]["imports"]
    causes = {r["module"]: r["causes"][0]["cause"] if r["causes"] else r["outcome"] for r in reports}
    assert causes == {"dies": "crash", "leaves": "raises", "kills": "crash", "orphan": "crash", "family": "crash",
                      "asks": "crash", "everybody": "crash", "itself": "crash", "handles": "imports", "hangs": "hang",
                      "fills": "imports", "half": "raises", "fine": "imports",
                      "json": "imports"}
    alone = world.answer("why", "orphan")["result"]["imports"][0]["causes"][0]
    assert "the process that had started it" in alone["because"]
    assert [(e["path"], e["line"]) for e in alone["evidence"]][-1] == (str(world.project / "orphan.py"), 2)
    # a slow start counts: where it hangs is told before the time is up
    write(site_of(lab) / "sitecustomize.py", "import time\ntime.sleep(1.5)\n")
    slow = world.answer("why", "hangs", "--timeout", "4")["result"]["imports"][0]["causes"][0]
    assert [(e["path"], e["line"]) for e in slow["evidence"]] == [(str(world.project / "hangs.py"), 2)]
    (site_of(lab) / "sitecustomize.py").unlink()
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
@pytest.mark.parametrize("slip", first_of_each(SLIPS, lambda s: (s.cause, s.remedy), 3), ids=lambda s: s.slug)
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
        assert not remedy["edits"]
        return
    carry_out(remedy, slip.remedy, world)
    if slip.wrote:
        place = Path(remedy["edits"][0]["path"] if remedy["edits"] else remedy["argv"][-1])
        text = place.read_text()
        if place.suffix == ".ipynb":
            text = "".join(json.loads(text)["cells"][0]["source"])
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
    document = world.answer("why", "marker", "needy", "zorkmid", "csv", "json.decoder", "germkit.nix", "sys",
                            "--no-run")
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
    ("sys.path.append('lib')", "/w/lib"), ("sys.path.insert(0, '/abs')", "/abs<"),
    ("sys.path.append(os.path.join(os.path.dirname(__file__), '..', 'lib'))", "/w/lib"),
    ("sys.path.insert(0, str(Path(__file__).resolve().parent.parent / 'lib'))", "/w/lib<"),
    ("sys.path.append(os.path.dirname(os.path.abspath(__file__)))", "/w/s"),
    ("sys.path.insert(0, os.path.abspath('..'))", "/<"), ("sys.path += ['x', 'y']", "/w/x /w/y"),
    ("sys.path.append(str(Path(__file__).parents[1]))", "/w"), ("sys.path.append(where())", "?"),
    ("sys.path[:0] = ['x', 'y']", "/w/y< /w/x<"), ("sys.path = ['x'] + sys.path + ['y']", "/w/x< /w/y"),
    ("sys.path[:] = sys.path + ['x']", "/w/x"), ("sys.path = found()", "?"), ("sys.path.extend(['x', f()])", "/w/x ?"),
    ("from sys import argv, path; path.insert(0, 'x')", "/w/x<"), ("path = []; path.append('x')", ""),
    ("import os.path as path, sys; path.append('x'); sys.path[0]", ""), ("site.addsitedir('x')", "/w/x"),
])
def test_added_folders(line: str, expected: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """The folders that a line adds, worked out without running it: ``<`` in front, ``?`` where it may add anything."""
    machine = RealMachine(cwd="/w")
    monkeypatch.setattr(machine, "read_bytes", lambda path, limit=0: line.encode())
    found = imports.read_source(machine, "/w/s/run.py")
    folders = [f"{folder}{'<' if is_first else ''}" for folder, is_first in found.paths]
    said = " ".join([*folders, *("?" for _ in found.unread)])
    assert said == expected


def test_kit_is_whole() -> None:
    """The made-up kit that the situations damage is sound to begin with."""
    assert all(compile(text, name, "exec") for name, text in KIT.items())


def test_a_line_that_puts_another_copy_first(world: World) -> None:
    """Code that puts a folder before what is installed is named with its line; the edit lets the installed one win."""
    lab = world.venv("lab")
    world.activate(lab)
    world.wheels.install(world.wheels.add("gridlib", "3", {"gridlib/__init__.py": "", "gridlib/new.py": "x = 1\n"}),
                         site_of(lab))
    (world.project / "vendor").mkdir()
    world.wheels.install(world.wheels.add("gridlib", "1", {"gridlib/__init__.py": ""}), world.project / "vendor")
    script = write(world.project / "run.py", "import os, sys\nsys.path.insert(0, os.path.join("
                   "os.path.dirname(__file__), 'vendor'))  # ours\nfrom gridlib.new import x\n")
    first = next(r for r in world.answer("why", "run.py")["result"]["imports"] if r["causes"])["causes"][0]
    assert first["cause"] == "hidden-by-path" and f"Line 2 of {script} has the path begin with" in first["because"]
    carry_out(first["remedies"][0], "edit", world)
    assert run([python_of(lab), "run.py"], cwd=world.project, env=world.env).returncode == 0
    write(script, "from sys import path\nimport os\npath[:0] = [os.path.join(os.path.dirname(__file__), 'vendor')]\n"
                  "from gridlib.new import x\n")
    first = next(r for r in world.answer("why", "run.py")["result"]["imports"] if r["causes"])["causes"][0]
    assert first["cause"] == "hidden-by-path" and f"Line 3 of {script} has the path begin with" in first["because"]
