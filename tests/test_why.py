"""``why`` on real situations: the cause is right, and its first remedy makes the import work."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import pytest

from tests.support.build import (
    SHORT,
    World,
    kernelspec,
    make_venv,
    notebook,
    other_pythons,
    python_of,
    run,
    site_of,
    write,
)


@dataclass(frozen=True)
class Situation:
    """Something wrong: how it comes about, what is asked, and what must be answered."""

    slug: str
    build: Callable[[World, Path], None]
    ask: str
    cause: str | None
    at: str = "shell"
    says: str = ""
    remedy: str | None = None  # the kind of the first remedy that must work
    others: tuple[str, ...] = ()
    outcome: str = "fails"


def _installed_in_other(w: World, lab: Path) -> None:
    w.wheels.install(w.wheels.add("humidlog", "1.3"), site_of(w.venv("lab-old")))


def _other_name(w: World, lab: Path) -> None:
    w.wheels.install(w.wheels.add("Seed-Tools", "2", {"seedlib/__init__.py": ""}), site_of(lab))


def _other_name_in_other(w: World, lab: Path) -> None:
    wheel = w.wheels.add("spore-tools", "2", {"sporelib.py": ""})
    w.wheels.install(wheel, site_of(w.venv("lab-old")))


def _hidden(name: str, own: str, needs: str) -> Callable[[World, Path], None]:
    def build(w: World, lab: Path) -> None:
        wheel = w.wheels.add("germkit", "2", {"germkit/__init__.py": needs})
        w.wheels.install(wheel, site_of(lab))
        write(w.project / name, own)
    return build


def _script(w: World, lab: Path) -> None:
    w.wheels.install(w.wheels.add("sporecount", "1"), site_of(lab))
    write(w.project / "tools" / "sporecount.py", "samples = []\n")
    write(w.project / "tools" / "cold_room.py", "import sporecount\n")


def _dependency(w: World, lab: Path) -> None:
    w.wheels.add("tray-grid", "0.9", {"traygrid.py": ""})
    w.wheels.add("tray-grid", "2.0", {"traygrid.py": "raise ImportError('too new')\n"})
    wheel = w.wheels.add("germkit", "2", {"germkit/__init__.py": "import traygrid\n"},
                         requires=["tray-grid>=0.9,<2", "other ; python_version < '3'"])
    w.wheels.install(wheel, site_of(lab))


def _deep_dependency(w: World, lab: Path) -> None:
    _dependency(w, lab)
    wheel = w.wheels.add("trials", "1", {"trials.py": "from germkit import nothing\n"},
                         requires=["germkit"])
    w.wheels.install(wheel, site_of(lab))


def _advice(w: World, lab: Path) -> None:
    w.wheels.add("fastseed", "2.1")
    wheel = w.wheels.add("reader", "1", {"reader.py": (
        "try:\n    import fastseed\nexcept ImportError:\n"
        "    raise ImportError('for this, please add the fast reader')\n")}, requires=["fastseed>=2"])
    w.wheels.install(wheel, site_of(lab))


def _foreign(suffix: str, code: str) -> Callable[[World, Path], None]:
    def build(w: World, lab: Path) -> None:
        files: dict[str, str | bytes] = {"seedscan/__init__.py": code}
        w.wheels.install(w.wheels.add("seedscan", "3", {**files, f"seedscan/_pixels{suffix}":
                                                        b"\x7fELF"}), site_of(lab))
        w.wheels.add("seedscan", "3", {**files, "seedscan/_pixels.py": "scan = 1\n"})
    return build


def _own(name: str, text: str) -> Callable[[World, Path], None]:
    return lambda w, lab: write(w.project / name, text) and None


def _kernel_gone(w: World, lab: Path) -> None:
    kernelspec(w.home, "greenhouse", [str(w.home / "gone/bin/python"), "-m", "ipykernel_launcher"])
    notebook(w.project / "trial.ipynb", "greenhouse")


def _notebook_of_other(w: World, lab: Path) -> None:
    old = w.venv("lab-old")
    w.wheels.install(w.wheels.add("humidlog", "1.3"), site_of(lab))
    w.wheels.install(w.wheels.add("ipykernel", "0", {"ipykernel_launcher.py": ""}), site_of(old))
    kernelspec(w.home, "old", [python_of(old), "-m", "ipykernel_launcher", "-f", "{connection_file}"])
    notebook(w.project / "notes" / "trial.ipynb", "old")


def _src_layout(w: World, lab: Path) -> None:
    write(w.project / "src" / "seedbank" / "__init__.py", "")
    write(w.project / "main.py", "import seedbank\n")


def _in_user_site(w: World, lab: Path) -> None:
    user = w.home / ".local" / "lib" / f"python{SHORT}" / "site-packages"
    w.wheels.install(w.wheels.add("humidlog", "1.3"), user)


def _moved_project(w: World, lab: Path) -> None:
    write(w.home / "code" / "new" / "linked_kit" / "__init__.py", "")
    write(site_of(lab) / "linked_kit.pth", f"{w.home / 'code' / 'old'}\n")


def _gone_files(*names: str) -> Callable[[World, Path], None]:
    def build(w: World, lab: Path) -> None:
        wheel = w.wheels.add("germkit", "2", {"germkit/__init__.py": "from germkit import trial\n",
                                              "germkit/trial.py": "", "germkit/tray.py": ""})
        w.wheels.install(wheel, site_of(lab))
        for name in names:
            (site_of(lab) / "germkit" / name).unlink()
        if len(names) == 3:
            (site_of(lab) / "germkit").rmdir()
    return build


def _ring(w: World, lab: Path) -> None:
    write(w.project / "ring" / "__init__.py", "from ring.a import one\n")
    write(w.project / "ring" / "a.py", "from ring.b import two\none = 1\n")
    write(w.project / "ring" / "b.py", "from ring.a import one\ntwo = 2\n")


def _alone(w: World, lab: Path) -> None:
    write(w.project / "pack" / "__init__.py", "")
    write(w.project / "pack" / "part.py", "from . import other\n")
    write(w.project / "pack" / "other.py", "")
    write(w.project / "pack" / "run.py", "import part\n")


def _path_copy(w: World, lab: Path) -> None:
    w.wheels.install(w.wheels.add("humidlog", "2.0"), site_of(lab))
    w.wheels.install(w.wheels.add("humidlog", "1.0"), w.root / "copies")
    w.env["PYTHONPATH"] = os.pathsep.join(filter(None, [str(w.root / "copies"),
                                                        w.env.get("PYTHONPATH")]))


def _user_copy(w: World, lab: Path) -> None:
    if not Path("/usr/lib/python3/dist-packages/six.py").exists():
        pytest.skip("this system's Python has no package to hide")
    w.venv("open", "/usr/bin/python3", options=["--system-site-packages"])
    short = run(["/usr/bin/python3", "-c", "import sys; print('%d.%d' % sys.version_info[:2])"])
    user = w.home / ".local" / "lib" / f"python{short.stdout.strip()}" / "site-packages"
    w.wheels.install(w.wheels.add("six", "0.1"), user)


def _with_extra(w: World, lab: Path) -> None:
    w.wheels.add("fastseed", "2.1")
    wheel = w.wheels.add("reader", "1", {"reader.py": "import fastseed\n"},
                         extras={"fast": ["fastseed>=2"]})
    w.wheels.install(wheel, site_of(lab))


def _needs_library(w: World, lab: Path) -> None:
    """Compile an extension against a library, and take the library away."""
    work = w.root / "native"
    write(work / "seedlib.c", "int seeds(void) { return 7; }\n")
    write(work / "ext.c", "int seeds(void); void *PyInit_ext(void) { return seeds() ? 0 : 0; }\n")
    run(["gcc", "-shared", "-fPIC", "-o", work / "libseedbank.so.3", work / "seedlib.c"])
    done = run(["gcc", "-shared", "-fPIC", "-o", work / "ext.so", work / "ext.c",
                work / "libseedbank.so.3"], cwd=work)
    assert done.returncode == 0, done.stderr
    ending = run([python_of(lab), "-c", "import sysconfig; print(sysconfig.get_config_var("
                  "'EXT_SUFFIX'))"]).stdout.strip()
    files = {"nativeseed/__init__.py": "from nativeseed import ext\n",
             f"nativeseed/ext{ending}": (work / "ext.so").read_bytes()}
    w.wheels.install(w.wheels.add("nativeseed", "1", files), site_of(lab))
    (work / "libseedbank.so.3").unlink()


SITUATIONS = [
    Situation("in the user site", _in_user_site, "humidlog", "user-site-off", says="user site",
              remedy="command"),
    Situation("in the closed base", lambda w, e: None, "six", "base-site-off",
              at="python:../base/bin/python", says="/usr"),
    Situation("link to a moved folder", _moved_project, "linked_kit", "link-broken", says="old",
              remedy="edit"),
    Situation("one file missing", _gone_files("trial.py"), "germkit", "files-missing",
              says="trial.py", remedy="command"),
    Situation("all files missing", _gone_files("__init__.py", "trial.py", "tray.py"), "germkit",
              "metadata-only", remedy="command"),
    Situation("ring", _ring, "ring", "circular-import", says="a.py imports b.py"),
    Situation("part of a package alone", _alone, "part", "relative-import-alone",
              at="script:pack/run.py", says="pack"),
    Situation("other copy on PYTHONPATH", _path_copy, "humidlog", "hidden-by-path",
              outcome="imports", says="1.0 before 2.0"),
    Situation("other copy in the user site", _user_copy, "six", "hidden-by-user-site",
              at="env:open", outcome="imports", says="user site"),
    Situation("an extra", _with_extra, "reader", "extra-absent", says="extra fast", remedy="command"),
    Situation("Python 2", _own("p2.py", 'print "seeds"\n'), "p2", "python2-source", says="print"),
    Situation("too new a Python", _own("abcs.py", "from collections import Mapping\n"), "abcs",
              "python-too-new", says="3.10"),
    Situation("library missing", _needs_library, "nativeseed", "library-missing",
              says="libseedbank.so.3"),
    Situation("nowhere", lambda w, e: w.wheels.add("traygrid") and None, "traygrid",
              "not-installed", remedy="command"),
    Situation("part of nowhere", lambda w, e: w.wheels.add("traygrid") and None, "traygrid.deep",
              "not-installed"),
    Situation("in another environment", _installed_in_other, "humidlog", "installed-elsewhere",
              says="lab-old", remedy="command"),
    Situation("name of a distribution", _other_name, "seed_tools", "name-differs", says="seedlib"),
    Situation("dashes", _other_name, "seed-tools", "name-differs", says="seedlib"),
    Situation("module of another name, elsewhere", _other_name_in_other, "sporelib",
              "installed-elsewhere", says="lab-old", remedy="command", others=("name-differs",)),
    Situation("well-known module", lambda w, e: w.wheels.add("pyserial", "3", {"serial.py": ""})
              and None, "serial", "name-differs", says="pyserial", remedy="command"),
    Situation("well-known distribution", lambda w, e: None, "beautifulsoup4", "name-differs",
              says="bs4"),
    Situation("misspelt", lambda w, e: w.wheels.install(w.wheels.add("humidlog"), site_of(e)),
              "humidlgo", "name-misspelt", says="humidlog", others=("not-installed",)),
    Situation("misspelt by case", lambda w, e: None, "Json", "name-misspelt", says="json"),
    Situation("own file, standard library", _hidden("random.py", "seeds = []\n",
              "from random import choice\n"), "germkit", "hidden-by-file", says="random.py",
              remedy="command"),
    Situation("own file, not a package", _hidden("email.py", "", "import email.parser\n"),
              "germkit", "hidden-by-file", says="email.py", remedy="command"),
    Situation("own file, no attribute", _hidden("statistics.py", "", "import statistics\n"
              "statistics.mean([1])\n"), "germkit", "hidden-by-file", remedy="command"),
    Situation("own folder", _hidden("queue/__init__.py", "", "from queue import Queue\n"),
              "germkit", "hidden-by-file", remedy="command"),
    Situation("own file raises", _hidden("csv.py", "1/0\n", "import csv\n"), "germkit",
              "hidden-by-file", remedy="command"),
    Situation("own file of the wanted name", _hidden("germkit.py", "", ""), "germkit",
              "hidden-by-file", outcome="imports", remedy="command"),
    Situation("own file of the wanted name fails", _hidden("germkit.py", "import nix\n", ""),
              "germkit", "hidden-by-file", remedy="command"),
    Situation("beside the script", _script, "sporecount", "hidden-by-file",
              at="script:tools/cold_room.py", outcome="imports", remedy="command"),
    Situation("dependency", _dependency, "germkit", "dependency-absent", says="traygrid",
              remedy="command"),
    Situation("deep dependency", _deep_dependency, "trials", "dependency-absent",
              says="germkit 2 needs traygrid"),
    Situation("dependency behind advice", _advice, "reader", "dependency-absent",
              says="fastseed", remedy="command"),
    Situation("other version's extension", _foreign(".cpython-27m-x86_64-linux-gnu.so",
              "from seedscan._pixels import scan\n"), "seedscan", "foreign-abi", says="2.7",
              remedy="command"),
    Situation("extension behind a circular hint", _foreign(".cpython-39-x86_64-linux-gnu.so",
              "from . import _pixels\n"), "seedscan", "foreign-abi", says="3.9", remedy="command"),
    Situation("PyPy's extension", _foreign(".pypy39-pp73-x86_64-linux-gnu.so",
              "import seedscan._pixels\n"), "seedscan", "foreign-abi", says="PyPy 3.9"),
    Situation("stale kernel", _kernel_gone, "germkit", "kernel-interpreter-gone",
              at="kernel:greenhouse", says="gone/bin/python"),
    Situation("notebook of a stale kernel", _kernel_gone, "germkit", "kernel-interpreter-gone",
              at="trial.ipynb"),
    Situation("notebook without its kernel", lambda w, e: notebook(w.project / "n.ipynb", "nix")
              and None, "json", "kernel-missing", at="notebook:n.ipynb"),
    Situation("notebook in another environment", _notebook_of_other, "humidlog",
              "installed-elsewhere", at="notebook:notes/trial.ipynb", says="in lab",
              remedy="command"),
    Situation("no such interpreter", lambda w, e: None, "json", "interpreter-gone",
              at="python:/nonexistent/python"),
    Situation("interpreter that is none", lambda w, e: write(w.project / "py", "#!/bin/sh\nexit 7\n",
              0o755) and None, "json", "interpreter-broken", at="python:./py"),
    Situation("removed from the standard library", lambda w, e: None, "cStringIO",
              "stdlib-removed", says="3.0"),
    Situation("own code out of reach", _src_layout, "seedbank", "own-code-unreachable",
              at="script:main.py", says="src"),
    Situation("no such part", lambda w, e: None, "json.nix", "submodule-absent"),
    Situation("no such name", lambda w, e: None, "json:nix", "attribute-absent"),
    Situation("raises", _own("boom.py", "raise ValueError('no\\nseeds')\n"), "boom", "raises",
              says="ValueError: no"),
    Situation("syntax", _own("bad.py", "def f(:\n"), "bad", "raises", says="not valid Python"),
    Situation("exits", _own("leaves.py", "import sys; print('x'); sys.exit(0)\n"), "leaves",
              "raises", says="SystemExit"),
    Situation("ends itself", _own("ends.py", "import os; os._exit(0)\n"), "ends", "crash",
              says="status 0"),
    Situation("dies", _own("dies.py", f"import os; os.kill(os.getpid(), {signal.SIGSEGV:d})\n"),
              "dies", "crash", says="SIGSEGV"),
    Situation("hangs", _own("hangs.py", "import time\nwhile True:\n    time.sleep(1)\n"), "hangs",
              "hang", says="hangs.py"),
]


@pytest.mark.parametrize("case", SITUATIONS, ids=lambda s: s.slug)
def test_cause_and_remedy(case: Situation, world: World, validate) -> None:
    """The primary cause is right; the first remedy, carried out as given, mends it."""
    lab = world.venv("lab", pip=case.remedy is not None)
    world.activate(lab)
    if case.cause == "base-site-off":
        if not Path("/usr/lib/python3/dist-packages/six.py").exists():
            pytest.skip("this system's Python has no package to find in it")
        make_venv(world.home / "base", "/usr/bin/python3")
    case.build(world, lab)
    limit = ("--timeout", "2") if case.cause == "hang" else ()
    document = world.answer("why", case.ask, "--at", case.at, *limit)
    validate(document)
    report = document["result"]["imports"][0]
    assert (report["outcome"], document["status"], document["exit"]) == (case.outcome, "problem", 1)
    first = report["causes"][0]
    assert first["cause"] == case.cause
    assert case.says in first["because"]
    assert set(case.others) <= {f["cause"] for f in report["causes"]}
    assert "raises" not in {f["cause"] for f in report["causes"][1:]}
    assert first["evidence"] and first["remedies"]
    text = world.kalyx("why", case.ask, "--at", case.at, *limit)
    assert text.returncode == 1 and "Traceback" not in text.stdout + text.stderr
    assert [p for p in ("because", "how we know", "what to do") if f"\n  {p}\n" in text.stdout] == [
        "because", "how we know", "what to do"]
    if case.remedy:
        _carry_out(first["remedies"][0], case.remedy, world)
        after = world.answer("why", case.ask, "--at", case.at)
        assert (after["status"], after["exit"]) == ("ok", 0), after


def _carry_out(remedy: dict, kind: str, world: World) -> None:
    assert remedy["kind"] == kind
    for edit in remedy["edits"]:
        text = Path(edit["path"]).read_text()
        assert text.count(edit["before"]) == 1
        Path(edit["path"]).write_text(text.replace(edit["before"], edit["after"]))
    if kind == "edit":
        return
    done = run(remedy["argv"], cwd=remedy["cwd"] or world.project, env={**world.env,
                                                                        **remedy["env"]})
    assert done.returncode == 0, done.stderr


HEALTHY = {
    "standard library": ("json", "stdlib", lambda w, e: None),
    "built in": ("sys", "stdlib", lambda w, e: None),
    "installed": ("humidlog", "env", lambda w, e: w.wheels.install(w.wheels.add("humidlog"),
                                                                   site_of(e))),
    "own file": ("mine", "start", _own("mine.py", "")),
    "own file beside untidy ones": ("mine", "start", lambda w, e: (
        write(w.project / "mine.py", ""), write(w.project / "random.py", "1/0"))),
    "own folder of data with an installed package's name": ("humidlog", "env", lambda w, e: (
        w.wheels.install(w.wheels.add("humidlog"), site_of(e)),
        write(w.project / "humidlog" / "data.csv", "1"))),
    "guarded optional import": ("opt", "env", lambda w, e: w.wheels.install(w.wheels.add(
        "opt", "1", {"opt.py": "try:\n import nix\nexcept ImportError:\n nix = None\n"}), site_of(e))),
    "linked by .pth": ("linked", "link", lambda w, e: (
        write(w.home / "code" / "linked.py", ""),
        write(site_of(e) / "x.pth", str(w.home / "code") + "\n"))),
    "prints, reads, threads, changes folder": ("noisy", "start", _own("noisy.py", (
        "import os, sys, threading, time\nprint('{\"who\": 1}')\nsys.stdin.read()\nos.chdir('/')\n"
        "threading.Thread(target=time.sleep, args=(2,)).start()\nos.system('sleep 3 &')\n"))),
    "name from it": ("json:loads", "stdlib", lambda w, e: None),
}


@pytest.mark.parametrize("name", HEALTHY)
def test_healthy_import_has_no_findings(name: str, world: World, validate) -> None:
    """A working import says where it comes from, and nothing is invented."""
    ask, layer, build = HEALTHY[name]
    lab = world.venv()
    world.activate(lab)
    build(world, lab)
    document = world.answer("why", ask)
    validate(document)
    report = document["result"]["imports"][0]
    assert (report["outcome"], report["causes"], report["layer"]) == ("imports", [], layer)
    assert document["exit"] == 0
    python, module = python_of(lab), ask.partition(":")[0]
    origin = run([python, "-c", f"import {module} as m; print(getattr(m, '__file__', 'built-in'))"],
                 cwd=world.project, env=world.env).stdout.strip().splitlines()
    assert report["origin"] in origin
    if layer == "env":
        assert report["distribution"]["name"] == ask


@pytest.mark.parametrize("version", sorted(other_pythons()))
def test_examined_interpreters(version: str, world: World, validate) -> None:
    """Every Python of the machine can be examined: what is said of it is what it says itself."""
    python = other_pythons()[version]
    write(world.project / "json.py", "1/0\n")
    document = world.answer("why", "zorkmid", "json", "email", "email.nix", "--at", f"python:{python}")
    validate(document)
    nix, own, email, part = document["result"]["imports"]
    assert [r["causes"][0]["cause"] if r["causes"] else None for r in (nix, own, email, part)] == [
        "not-installed", "hidden-by-file", None, "submodule-absent"]
    said = run([python, "-c", "import sys, email; print(sys.prefix); print(email.__file__)"],
               cwd="/", env=world.env).stdout.split()
    assert [email["interpreter"]["prefix"], email["origin"]] == [
        said[0], said[1].replace(".pyc", ".py")]


def test_too_old_a_python(world: World) -> None:
    """Syntax that only a newer Python knows: proven by reading, with the version that accepts it."""
    old = next((p for v, p in sorted(other_pythons().items()) if v in ("3.6", "3.7", "3.8", "3.9")), None)
    if old is None:
        pytest.skip("no older Python on this machine")
    write(world.project / "fresh.py", "match 1:\n    case 1:\n        pass\n")
    first = world.answer("why", "fresh", "--at", f"python:{old}")["result"]["imports"][0]["causes"][0]
    assert first["cause"] == "python-too-old" and first["confidence"] == "certain"


def test_requirement_is_carried_out_where_the_start_folder_breaks_pip(world: World) -> None:
    """A file that hides the standard library must not break the remedy too."""
    lab = world.venv(pip=True)
    world.activate(lab)
    world.wheels.add("traygrid")
    write(world.project / "types.py", "1/0\n")
    report = world.answer("why", "traygrid")["result"]["imports"][0]
    _carry_out(report["causes"][0]["remedies"][0], "command", world)
    assert world.answer("why", "traygrid")["exit"] == 0


def test_no_pip_of_its_own(world: World) -> None:
    """An environment without pip is filled by another one's."""
    lab = world.venv()
    world.venv("with-pip", pip=True)
    world.activate(lab)
    world.wheels.add("traygrid")
    report = world.answer("why", "traygrid")["result"]["imports"][0]
    _carry_out(report["causes"][0]["remedies"][0], "command", world)
    assert world.answer("why", "traygrid")["exit"] == 0


def test_local_project_elsewhere_is_installed_from_its_folder(world: World) -> None:
    """What another environment has from a local folder, no index can give."""
    lab, old = world.venv(pip=True), world.venv("lab-old")
    world.activate(lab)
    wheel = world.wheels.add("localkit", "1", {"localkit.py": ""})
    moved = world.home / "localkit-1-py3-none-any.whl"
    os.rename(wheel, moved)
    world.wheels.install(str(moved), site_of(old))
    info = next(site_of(old).glob("localkit*.dist-info"))
    write(info / "direct_url.json", json.dumps({"url": moved.as_uri(), "archive_info": {}}))
    report = world.answer("why", "localkit")["result"]["imports"][0]
    assert report["elsewhere"][0]["environment"]["path"] == str(old)
    _carry_out(report["causes"][0]["remedies"][0], "command", world)
    assert world.answer("why", "localkit")["exit"] == 0


def test_child_is_ended_with_all_it_started(world: World) -> None:
    """A hanging import leaves no process behind, also one in a session of its own."""
    world.activate(world.venv())
    write(world.project / "spawns.py", (
        "import subprocess, sys, time\n"
        "subprocess.Popen([sys.executable, '-c', 'import time; time.sleep(4321)'],"
        " start_new_session=True)\ntime.sleep(4321)\n"))
    assert world.answer("why", "spawns", "--timeout", "3")["exit"] == 1
    assert "4321" not in run(["ps", "-eo", "args"]).stdout


BAD_INPUT = {
    "no such seat": (("why", "json", "--at", "nix"), 3),
    "no such environment": (("why", "json", "--at", "env:nix"), 3),
    "no such kernel": (("why", "json", "--at", "kernel:nix"), 3),
    "no such notebook": (("why", "json", "--at", "notebook:nix.ipynb"), 3),
    "no such script": (("why", "json", "--at", "script:nix.py"), 3),
    "ambiguous name": (("why", "json", "--at", "twin"), 2),
    "no module name": (("why", "a b"), 2),
    "no such file": (("why", "main.py"), 3),
    "files and modules": (("why", "json", "main.py"), 2),
    "no module": (("why",), 2),
    "unknown option": (("why", "json", "--frobnicate"), 2),
    "bad limit": (("why", "json", "--timeout", "soon"), 2),
    "no such folder": (("here", "/nonexistent"), 3),
    "no such command": (("frobnicate",), 2),
}


@pytest.mark.parametrize("name", BAD_INPUT)
def test_bad_input_gets_a_sentence(name: str, world: World, validate) -> None:
    """Wrong usage and missing things: one sentence, the documented exit status, a document."""
    for folder in ("a", "b"):
        make_venv(world.home / "envs" / folder / "twin") if name == "ambiguous name" else None
    write(world.home / "envs" / "a" / "x", "")
    env = {"WORKON_HOME": str(world.home / "envs" / "a")}
    args, status = BAD_INPUT[name]
    if name == "ambiguous name":
        kernelspec(world.home, "twin", [sys.executable, "-m", "x"])
    text = world.kalyx(*args, env=env)
    assert (text.returncode, text.stdout) == (status, "")
    assert text.stderr.startswith("kalyx: ") and len(text.stderr.splitlines()) <= 2
    document = world.answer(*args, env=env)
    assert document["exit"] == status and document["result"]["message"]
    assert document["status"] == {2: "error", 3: "unknown"}[status]
    if document["command"]:
        validate(document)


def test_hostile_surroundings(world: World) -> None:
    """Kalyx's own modules come from its own installation, whatever lies around."""
    for name in ("random.py", "json.py", "rich.py", "argparse.py", "packaging.py"):
        write(world.project / name, "raise SystemExit('fooled')\n")
    path = os.pathsep.join(filter(None, [str(world.project), world.env.get("PYTHONPATH")]))
    for cwd in (world.project, world.home):
        done = world.kalyx("here", "--json", cwd=cwd, env={"PYTHONPATH": path})
        assert done.returncode in (0, 1) and "fooled" not in done.stdout + done.stderr


def test_other_ways_in(world: World) -> None:
    """Help, version, no arguments, a closed pipe."""
    assert "kalyx why pandas" in world.kalyx().stdout
    assert world.kalyx("--version").stdout.startswith("kalyx 0.")
    assert "--at" in world.kalyx("why", "--help").stdout
    assert world.kalyx("why", "json", "--quiet").stdout.count("\n") == 1
    piped = subprocess.run(f"{sys.executable} -m kalyx why json --json | head -c 1", shell=True,
                           env=world.env, capture_output=True, text=True, check=False)
    assert piped.stderr == ""
    ascii_only = world.kalyx("why", "nix", env={"PYTHONIOENCODING": "ascii"})
    assert ascii_only.stdout.startswith("[!] ") and ascii_only.stdout.isascii()
    colored = world.kalyx("why", "json", "--color", "always").stdout
    assert "\x1b[" in colored and SHORT
