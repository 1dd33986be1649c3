"""What a seat starts Python with: variables that mislead it, parts of the standard library that it needs to start."""

from __future__ import annotations

import shutil
from pathlib import Path

from tests.situations.general import Situation
from tests.situations.reach import kernel
from tests.support.build import BASE_PYTHON, SHORT, World, python_of, run, write
from tests.support.packages import KIT, Build, installation, installed

MISLEADING = {"PYTHONTRACEMALLOC": "many", "PYTHONUTF8": "2", "PYTHONPLATLIBDIR": "lib46", "PYTHONIOENCODING": "utf-9",
              "PYTHONHASHSEED": "-1"} | ({"PYTHONINTMAXSTRDIGITS": "3"} if SHORT >= "3.11" else {})


def with_variables(**env: str) -> Build:
    """Register a kernel that sets variables; a ~ in them is the home folder."""
    def build(w: World, lab: Path) -> None:
        kernel(w, "trials", python_of(lab), **{k: v.replace("~", str(w.home)) for k, v in env.items()})
    return build


def library_file(name: str, text: str | None) -> Build:
    """Change or delete a file of a standard library; another installation of the same version is whole."""
    def change(library: Path) -> None:
        folder = library / name.split("/")[0]
        genuine = folder.resolve()
        folder.unlink()
        shutil.copytree(genuine, folder)
        if text is None:
            shutil.rmtree(folder)
        else:
            write(library / name, text)

    def build(w: World, lab: Path) -> None:
        installation(change)(w, lab)
        kernel(w, "trials", str(w.home / ".pyenv/versions/broken/bin/python"))
    return build


def bytecode_apart(w: World, lab: Path) -> None:
    """Have a kernel keep bytecode in a folder of its own, and cut some of it off."""
    installed()(w, lab)
    cache = {"PYTHONPYCACHEPREFIX": str(w.home / "cache")}
    assert run([python_of(lab), "-c", "import germkit"], env={**w.env, **cache}).returncode == 0
    for file in (w.home / "cache").rglob("trial*.pyc"):
        file.write_bytes(file.read_bytes()[:16] + b"\0" * 20)
    kernel(w, "trials", python_of(lab), **cache)


def other_user_base(w: World, lab: Path) -> None:
    """Install into the usual user site, and have a kernel look into another one."""
    site = w.home / ".local/lib" / f"python{SHORT}" / "site-packages"
    site.mkdir(parents=True)
    w.wheels.install(w.wheels.add("germkit", "2", dict(KIT)), site)
    kernel(w, "trials", BASE_PYTHON, PYTHONUSERBASE=str(w.home / "other"))


STARTS = [
    *[Situation(f"{name}={value}", with_variables(**{name: value}), "json", "interpreter-broken", at="kernel:trials",
                says="cannot start", remedy="edit") for name, value in MISLEADING.items()],
    Situation("library that cannot be parsed", library_file("encodings/__init__.py", "x = = 1\n"), "json",
              "interpreter-broken", at="kernel:trials", says="encodings/__init__.py, line 1)", remedy="command"),
    Situation("library that raises", library_file("encodings/aliases.py", "def f():\n    raise OSError('half')\nf()\n"),
              "json", "interpreter-broken", at="kernel:trials", says="(OSError: half, in", remedy="command"),
    Situation("library that is gone", library_file("encodings", None), "json", "interpreter-broken",
              at="kernel:trials", says="lacks encodings", remedy="command"),
    *([Situation("bytecode apart, cut off", bytecode_apart, "germkit", "bytecode-stale", at="kernel:trials",
                 says="home/cache", remedy="command")] if SHORT >= "3.8" else []),
    Situation("another user base", other_user_base, "germkit", "user-site-off", at="kernel:trials",
              says="PYTHONUSERBASE names", remedy="edit"),
]
