"""Situations in which an import fails, and healthy ones that look odd: each built for real."""

from __future__ import annotations

import os
import signal
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import pytest

from tests.support.build import SHORT, World, kernelspec, notebook, python_of, run, site_of, write


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
    privileged: bool = True  # False: as one whom permissions bind
    hangs: bool = False  # what is started does not end: it is given a few seconds


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


def own(name: str, text: str) -> Callable[[World, Path], None]:
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
    for info in Path("/usr/lib/python3/dist-packages").glob("six-*-info"):
        w.wheels.add("six", info.name.split("-")[1].removesuffix(".egg"))


def _with_extra(w: World, lab: Path) -> None:
    w.wheels.add("fastseed", "2.1")
    wheel = w.wheels.add("reader", "1", {"reader.py": "import fastseed\n"},
                         extras={"fast": ["fastseed>=2"]})
    w.wheels.install(wheel, site_of(lab))


def needs_library(w: World, lab: Path) -> None:
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
              at="env:open", outcome="imports", says="user site", remedy="command"),
    Situation("an extra", _with_extra, "reader", "extra-absent", says="extra fast", remedy="command"),
    Situation("Python 2", own("p2.py", 'print "seeds"\n'), "p2", "python2-source", says="print"),
    Situation("too new a Python", own("abcs.py", "from collections import Mapping\n"), "abcs",
              "python-too-new", says="3.10"),
    Situation("library missing", needs_library, "nativeseed", "library-missing",
              says="libseedbank.so.3"),
    Situation("nowhere", lambda w, e: w.wheels.add("traygrid") and None, "traygrid",
              "not-installed", remedy="command"),
    Situation("part of nowhere", lambda w, e: w.wheels.add("traygrid") and None, "traygrid.deep",
              "not-installed"),
    Situation("in another environment", _installed_in_other, "humidlog", "installed-elsewhere",
              says="lab-old", remedy="command"),
    Situation("name of a distribution", _other_name, "seed_tools", "name-differs", says="seedlib"),
    Situation("for Windows alone", lambda w, e: None, "win32api", "name-differs", says="pywin32"),
    Situation("of hosted notebooks alone", own("work.py", "import dbutils\n"), "work",
              "dependency-absent", says="alone"),
    Situation("of hosted notebooks alone, by itself", lambda w, e: None, "dbutils", "not-installed",
    says="alone"),
    Situation("of hosted notebooks alone, its namespace here", lambda w, e: w.wheels.install(w.wheels.add(
        "google-auth", "2", {"google/auth/__init__.py": ""}), site_of(e)), "google.colab", "submodule-absent",
        says="alone"),
    Situation("part of one's own package", own("trays/__init__.py", "from .cells import rows\n"), "trays",
              "submodule-absent", says="trays.cells"),
    Situation("language model", lambda w, e: None, "en_core_web_sm", "not-installed"),
    Situation("library named in a list", lambda w, e: (w.wheels.install(w.wheels.add("seedsound", "1", {
        "seedsound.py": "from ctypes.util import find_library as look\nfor n in ('portaudio', 'lib/x.dylib'):\n"
        "    if look(n):\n        break\nelse:\n    raise OSError('no library for sound was found')\n"}),
        site_of(e)), None)[-1], "seedsound", "library-missing", says="libportaudio"),
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
              remedy="edit"),
    Situation("own file, not a package", _hidden("email.py", "", "import email.parser\n"),
              "germkit", "hidden-by-file", says="email.py", remedy="edit"),
    Situation("own file, no attribute", _hidden("statistics.py", "", "import statistics\n"
              "statistics.mean([1])\n"), "germkit", "hidden-by-file", remedy="edit"),
    Situation("own folder", _hidden("queue/__init__.py", "", "from queue import Queue\n"),
              "germkit", "hidden-by-file", remedy="edit"),
    Situation("own file raises", _hidden("csv.py", "1/0\n", "import csv\n"), "germkit",
              "hidden-by-file", remedy="edit"),
    Situation("own file of the wanted name", _hidden("germkit.py", "", ""), "germkit",
              "hidden-by-file", outcome="imports", remedy="edit"),
    Situation("own file of the wanted name fails", _hidden("germkit.py", "import nix\n", ""),
              "germkit", "hidden-by-file", remedy="edit"),
    Situation("beside the script", _script, "sporecount", "hidden-by-file",
              at="script:tools/cold_room.py", outcome="imports", remedy="edit"),
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
    Situation("removed from the standard library", lambda w, e: None, "cStringIO",
              "stdlib-removed", says="3.0"),
    Situation("own code out of reach", _src_layout, "seedbank", "own-code-unreachable",
              at="script:main.py", says="src", remedy="edit"),
    Situation("no such part", lambda w, e: None, "json.nix", "submodule-absent"),
    Situation("no such name", lambda w, e: None, "json:nix", "attribute-absent"),
    Situation("raises", own("boom.py", "raise ValueError('no\\nseeds')\n"), "boom", "raises",
              says="ValueError: no"),
    Situation("syntax", own("bad.py", "def f(:\n"), "bad", "raises", says="not valid in Python"),
    Situation("exits", own("leaves.py", "import sys; print('x'); sys.exit(0)\n"), "leaves",
              "raises", says="SystemExit"),
    Situation("ends itself", own("ends.py", "import os; os._exit(0)\n"), "ends", "crash",
              says="status 0"),
    Situation("dies", own("dies.py", f"import os; os.kill(os.getpid(), {signal.SIGSEGV:d})\n"),
              "dies", "crash", says="SIGSEGV"),
    Situation("hangs", own("hangs.py", "import time\nwhile True:\n    time.sleep(1)\n"), "hangs",
              "hang", says="hangs.py", hangs=True),
]


HEALTHY = {
    "standard library": ("json", "stdlib", lambda w, e: None),
    "built in": ("sys", "stdlib", lambda w, e: None),
    "installed": ("humidlog", "env", lambda w, e: w.wheels.install(w.wheels.add("humidlog"),
                                                                   site_of(e))),
    "own file": ("mine", "start", own("mine.py", "")),
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
    "prints, reads, threads, changes folder": ("noisy", "start", own("noisy.py", (
        "import os, sys, threading, time\nprint('{\"who\": 1}')\nsys.stdin.read()\nos.chdir('/')\n"
        "threading.Thread(target=time.sleep, args=(2,)).start()\nos.system('sleep 3 &')\n"))),
    "name from it": ("json:loads", "stdlib", lambda w, e: None),
}
