"""Healthy imports in untidy surroundings: nothing may be found wrong with them."""

from __future__ import annotations

import os
import zipfile
from collections.abc import Callable
from pathlib import Path

from tests.situations.general import own
from tests.support.build import BASE_PYTHON, SHORT, World, python_of, run, site_of, write
from tests.support.packages import compiled, ending, installed, library

Build = Callable[[World, Path], object]


def both(*builds: Build) -> Build:
    """Do several things."""
    return lambda w, lab: [build(w, lab) for build in builds]


def in_site(file: str, text: str) -> Build:
    """Write a file into site-packages, as code that no distribution owns."""
    return lambda w, lab: write(site_of(lab) / file, text)


def on_path(folder: str, build: Callable[[Path], object]) -> Build:
    """Put something on PYTHONPATH."""
    def do(w: World, lab: Path) -> None:
        place = w.root / folder
        build(place)
        w.env["PYTHONPATH"] = os.pathsep.join(filter(None, [str(place), w.env.get("PYTHONPATH")]))
    return do


def _zip(place: Path) -> None:
    place.parent.mkdir(parents=True, exist_ok=True)
    with zipfile.ZipFile(place, "w") as archive:
        archive.writestr("zipped/__init__.py", "from zipped import part\n")
        archive.writestr("zipped/part.py", "")


def _hook(w: World, lab: Path) -> None:
    """An editable install by an import hook, as setuptools writes it (PEP 660)."""
    site, code = site_of(lab), w.home / "code" / "hooked"
    write(code / "__init__.py", "")
    write(site / "__editable___hooked_1_finder.py", (
        "import sys\nfrom importlib.util import spec_from_file_location\n"
        f"MAPPING: dict[str, str] = {{'hooked': {str(code)!r}}}\n"
        "class Finder:\n    @classmethod\n    def find_spec(cls, name, path=None, target=None):\n"
        "        if name in MAPPING:\n"
        "            return spec_from_file_location(name, MAPPING[name] + '/__init__.py')\n"
        "def install():\n    sys.meta_path.append(Finder)\n"))
    write(site / "__editable__.hooked-1.pth", "import __editable___hooked_1_finder as f; f.install()\n")
    info = site / "hooked-1.dist-info"
    write(info / "METADATA", "Metadata-Version: 2.1\nName: hooked\nVersion: 1\n")
    write(info / "RECORD", "__editable___hooked_1_finder.py,,\n")
    write(info / "direct_url.json", '{"url": "' + code.parent.as_uri() + '", "dir_info": {"editable": true}}')


def _egg_link(w: World, lab: Path) -> None:
    write(w.home / "code" / "linked.py", "")
    write(w.home / "code" / "linked.egg-info" / "PKG-INFO", "Name: linked\nVersion: 1\n")
    write(site_of(lab) / "linked.egg-link", f"{w.home / 'code'}\n.\n")
    write(site_of(lab) / "easy-install.pth", f"{w.home / 'code'}\n")


def _namespace(w: World, lab: Path) -> None:
    w.wheels.install(w.wheels.add("bank-core", "1", {"bank/core.py": ""}), site_of(lab))
    write(w.project / "bank" / "plan.py", "")


def _compiled(w: World, lab: Path) -> None:
    write(site_of(lab) / f"fastpart{ending(BASE_PYTHON)}", compiled(w, "fastpart"))


def _linked_library(w: World, lab: Path) -> None:
    made = library(w, "libgrain.so.1", "int grain(void) { return 1; }\n")
    data = compiled(w, "ext", "grain(); return PyModule_Create(&made);", made, "-Wl,-rpath,$ORIGIN/own.libs",
                    before="int grain(void);")
    write(site_of(lab) / "own.libs" / "libgrain.so.1", made.read_bytes())
    write(site_of(lab) / f"ext{ending(BASE_PYTHON)}", data)
    made.unlink()


def _sourceless(w: World, lab: Path) -> None:
    source = write(site_of(lab) / "closedsource.py", "x = 1\n")
    run([python_of(lab), "-c", "import py_compile, sys; py_compile.compile(sys.argv[1], sys.argv[1] + 'c')", source])
    source.unlink()


def _edited(w: World, site: Path) -> None:
    write(site / "germkit" / "trial.py", "class Trial:\n    rows = 7  # mine\n")


def _unmet(w: World, lab: Path) -> None:
    installed("humidlog", {"humidlog.py": ""}, version="1")(w, lab)
    installed(requires=["humidlog>=2", "absent"])(w, lab)


def _two_records(w: World, lab: Path) -> None:
    installed(version="1")(w, lab)
    installed(version="2")(w, lab)


def _symlinked(w: World, lab: Path) -> None:
    write(w.home / "real" / "linkmod" / "__init__.py", "")
    (site_of(lab) / "linkmod").symlink_to(w.home / "real" / "linkmod")


def _user_site(w: World, lab: Path) -> None:
    user = w.home / ".local" / "lib" / f"python{SHORT}" / "site-packages"
    w.wheels.install(w.wheels.add("traygrid"), user)
    installed()(w, lab)


LAZY = "import importlib\ndef __getattr__(name):\n    return importlib.import_module('germkit.' + name)\n"
REPLACED = "import sys, types\nclass M(types.ModuleType): pass\nm = M('swapped'); m.x = 1\nsys.modules['swapped'] = m\n"
VANISHES = "import sys\ndel sys.modules[__name__]\nsys.modules['gone_again'] = sys\n"
# name: (what is asked, layer, how it comes about)
MORE_HEALTHY: dict[str, tuple[str, str, Build]] = {
    "namespace over two layers": ("bank.core", "env", _namespace),
    "own part of a namespace": ("bank.plan", "start", _namespace),
    "old-style namespace": ("olds", "env", both(
        in_site("olds/__init__.py", "__path__ = __import__('pkgutil').extend_path(__path__, __name__)\n"),
        in_site("olds/one.py", ""))),
    "lazy attributes": ("germkit", "env", installed(files={"germkit/__init__.py": LAZY, "germkit/nix.py": "1/0"})),
    "replaces itself": ("swapped:x", "env", in_site("swapped.py", REPLACED)),
    "takes itself out": ("gone_again", "env", in_site("gone_again.py", VANISHES)),
    "in a zip": ("zipped", "pythonpath", on_path("z.zip", _zip)),
    "part of a zip": ("zipped.part", "pythonpath", on_path("z.zip", _zip)),
    "editable by a hook": ("hooked", "link", _hook),
    "editable by an egg-link": ("linked", "link", _egg_link),
    "compiled": ("fastpart", "env", _compiled),
    "compiled, with its own library": ("ext", "env", _linked_library),
    "without source, on purpose": ("closedsource", "env", _sourceless),
    "edited by hand": ("germkit", "env", installed(change=_edited)),
    "requirements not met, and not used": ("germkit", "env", _unmet),
    "metadata of two versions": ("germkit", "env", _two_records),
    "a file missing that nobody needs": ("germkit", "env", installed(
        change=lambda w, site: (site / "germkit" / "tray.py").unlink())),
    "symlinked": ("linkmod", "env", _symlinked),
    "beside a user site that is off": ("germkit", "env", _user_site),
    "part of the standard library": ("xml.etree.ElementTree", "stdlib", lambda w, e: None),
    "name from a part": ("os.path:join", "stdlib", lambda w, e: None),
    "module of the standard library in a package's name": ("email.mime.text:MIMEText", "stdlib", lambda w, e: None),
    "frozen": ("zipimport", "stdlib", lambda w, e: None),
    "own module beside a folder of its name": ("plan", "start", both(
        own("plan.py", ""), lambda w, e: write(w.project / "plan" / "notes.txt", ""))),
    "own module beside a broken one": ("good", "start", both(own("good.py", ""), own("bad.py", "(("))),
    "own package": ("pack.part", "start", both(own("pack/__init__.py", "from . import part\n"),
                                               own("pack/part.py", "from pack import __name__\n"))),
    "a name in another alphabet": ("größe", "start", own("größe.py", "maß = 1\n")),
    "a folder with blanks and signs": ("inside", "pythonpath", on_path(
        "my code (1) ü", lambda p: write(p / "inside.py", ""))),
    "guarded import of a name": ("soft", "start", own("soft.py", (
        "try:\n from json import nothing\nexcept ImportError:\n nothing = None\n"))),
    "guarded by suppress": ("soft", "start", own("soft.py", (
        "import contextlib\nwith contextlib.suppress(ImportError):\n import nix\n"))),
    "falls back": ("soft", "start", own("soft.py",
                                        "try:\n import ujsonx as j\nexcept ImportError:\n import json as j\n")),
    "imports in a function that is not called": ("later", "start", own("later.py", "def f():\n import nix\n")),
    "closes its streams": ("closer", "start", own("closer.py", (
        "import sys\nsys.stdout.close()\nsys.stderr.close()\n"))),
    "much output": ("talker", "start", own("talker.py", "print('seeds ' * 2000000)\n")),
    "starts children": ("parent", "start", own("parent.py", (
        "import subprocess, sys\nsubprocess.Popen([sys.executable, '-c', 'import time; time.sleep(9)'])\n"))),
    "handles signals": ("sig", "start", own("sig.py", (
        "import signal\nsignal.signal(signal.SIGALRM, lambda *a: None)\nsignal.alarm(1)\n"))),
    "changes the path": ("paths", "start", own("paths.py", "import sys\nsys.path[:] = []\n")),
    "changes how modules are found": ("finders", "start", own("finders.py", "import sys\nsys.meta_path[:] = []\n")),
    "raises the limit of recursion": ("deep", "start", own("deep.py", "import sys\nsys.setrecursionlimit(10**6)\n")),
    "warns": ("warner", "start", own("warner.py", "import warnings\nwarnings.warn('old', DeprecationWarning)\n")),
    "registers at exit": ("leaver", "start", own("leaver.py", "import atexit\natexit.register(print, 'bye')\n")),
    "a dotted name whose parent does much": ("unittest.mock", "stdlib", lambda w, e: None),
}
