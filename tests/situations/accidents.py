"""Accidents: what happens to an installation, its metadata, and what Python runs at every start."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from pathlib import Path

from tests.situations.general import Situation
from tests.support.build import BASE_PYTHON, World, kernelspec, python_of, run, site_of, write
from tests.support.packages import Build, compiled, ending, installed

# A package that has packages in it, and two that it needs
SEEDLING: dict[str, str | bytes] = {
    "seedling/__init__.py": "from soilbook import loam\nimport potlog\nfrom seedling.beds import Bed\n",
    "seedling/beds/__init__.py": "from seedling.beds.rows import ROWS\nclass Bed:\n    rows = ROWS\n",
    "seedling/beds/rows.py": "ROWS = 6\n"}


def planted(w: World, lab: Path) -> Path:
    """Install the package and what it needs; return the site folder."""
    for name, files in (("soilbook", {"soilbook/__init__.py": "from soilbook.ground import loam\n",
                                      "soilbook/ground.py": "loam = 1\n"}),
                        ("potlog", {"potlog.py": "pots = 3\n"})):
        w.wheels.install(w.wheels.add(name, "2", dict(files)), site_of(lab))
    w.wheels.install(w.wheels.add("seedling", "3", dict(SEEDLING), ["soilbook>=1", "potlog"]), site_of(lab))
    return site_of(lab)


def in_the_way(w: World, site: Path, *, link: bool) -> None:
    """Put something that is no folder where a package was."""
    shutil.rmtree(site / "soilbook")
    if link:
        (site / "soilbook").symlink_to(w.root / "disk" / "soilbook")
    else:
        write(site / "soilbook", "")


def left_over(w: World, site: Path) -> None:
    """Uninstall a package, and leave what pip leaves where a cache was written meanwhile."""
    shutil.rmtree(site / "soilbook")
    shutil.rmtree(next(site.glob("soilbook-*.dist-info")))
    write(site / "soilbook" / "__pycache__" / "ground.cpython-311.pyc", b"\0")


def without_list(w: World, site: Path) -> None:
    """Lose RECORD and a file; another environment has the same version."""
    w.wheels.install(str(w.wheels.folder / "soilbook-2-py3-none-any.whl"), site_of(w.venv("lab-old")))
    next(site.glob("soilbook-*.dist-info/RECORD")).unlink()
    (site / "soilbook" / "ground.py").unlink()


def without_metadata(w: World, site: Path) -> None:
    """Lose METADATA and the code."""
    next(site.glob("soilbook-*.dist-info/METADATA")).unlink()
    shutil.rmtree(site / "soilbook")


def emptied_metadata(w: World, site: Path) -> None:
    """Empty METADATA, and damage a file."""
    write(next(site.glob("soilbook-*.dist-info/METADATA")), "")
    write(site / "soilbook" / "ground.py", b"\0" * 12)


def reset_path(w: World, site: Path) -> None:
    """Put a folder first that hides a module of the standard library."""
    write(w.root / "lib" / "bisect.py", "")
    write(site / "extra.pth", f"import sys; sys.path.insert(0, {str(w.root / 'lib')!r})\n")


ACCIDENTS: dict[str, tuple[Callable[[World, Path], object], str]] = {
    "link to nowhere": (lambda w, s: in_the_way(w, s, link=True), "metadata-only"),
    "file in the way": (lambda w, s: in_the_way(w, s, link=False), "metadata-only"),
    "start of a sub-package gone": (lambda w, s: (s / "seedling/beds/__init__.py").unlink(), "files-missing"),
    "left-over folder": (left_over, "namespace-split"),
    "zeros in a start file": (lambda w, s: write(s / "soilbook/__init__.py", b"\0" * 30), "file-corrupt"),
    "folder before a file": (lambda w, s: (write(s / "potlog/__init__.py", ""), write(
        s / "seedling/beds/rows.py", (s / "seedling/beds/rows.py").read_text()), write(
        s / "seedling/__init__.py", "from potlog import pots\n")), "mixed-install"),
    "link to nowhere, metadata gone": (lambda w, s: (in_the_way(w, s, link=True), shutil.rmtree(
        next(s.glob("soilbook-*.dist-info")))), "dependency-absent"),
    "no RECORD": (without_list, "files-missing"),
    "no METADATA": (without_metadata, "metadata-only"),
    "empty METADATA": (emptied_metadata, "file-corrupt"),
    "changed by hand": (lambda w, s: write(s / "soilbook/ground.py", "import nowhere_at_all\n"), "mixed-install"),
    "start code exits": (lambda w, s: write(s / "sitecustomize.py", "raise SystemExit(3)\n"), "interpreter-broken"),
    "link line exits": (lambda w, s: write(s / "a.pth", "import sys; sys.exit(5)\n"), "interpreter-broken"),
    "link line empties the path": (lambda w, s: write(
        s / "a.pth", "import sys; sys.path[:] = [p for p in sys.path if 'site-packages' not in p]\n"), "site-off"),
    "switched off": (lambda w, s: write(
        s / "sitecustomize.py", "import sys\nsys.modules['soilbook'] = None\n"), "raises"),
    "pyvenv.cfg is no text": (lambda w, s: write(
        s.parents[2] / "pyvenv.cfg", b"\xff\xfeh\0o\0m\0e\0"), "interpreter-broken"),
}


# Those that need the second package as it was installed
NEEDS_WHOLE = ("link to nowhere", "link to nowhere, metadata gone", "file in the way", "left-over folder", "no RECORD",
               "no METADATA", "empty METADATA",
               "zeros in a start file", "changed by hand")


def struck(name: str) -> Build:
    """Return the builder of an accident."""
    return lambda w, lab: (ACCIDENTS[name][0](w, planted(w, lab)), None)[-1]


def _lost_part(w: World, site: Path) -> None:
    (site / f"germkit/tray{ending(BASE_PYTHON)}").unlink()


def _hidden_clock(w: World, lab: Path) -> None:
    write(w.project / "token.py", "")
    installed("germkit", {"germkit.py": "try:\n    from token import EXACT_TOKEN_TYPES\nexcept ImportError:\n"
                                        "    raise RuntimeError('no words') from None\n"})(w, lab)


def _cut_off_behind(w: World, lab: Path) -> None:
    core = f"seedcore/core{ending(BASE_PYTHON)}"
    w.wheels.install(w.wheels.add("seedcore", "1", {"seedcore/__init__.py": "", core: b"\x7fELF" + b"\1" * 4000}),
                     site_of(lab))
    write(site_of(lab) / core, b"\x7fELF" + b"\1" * 90)
    files = {"nativeseed/__init__.py": "from nativeseed import ext\n",
             f"nativeseed/ext{ending(BASE_PYTHON)}": compiled(w, "ext", "raise(SIGBUS); return 0;")}
    w.wheels.install(w.wheels.add("nativeseed", "1", files, ["seedcore"]), site_of(lab))


def _own_file_only(w: World, lab: Path) -> None:
    planted(w, w.venv("lab-old"))
    write(w.project / "seedling.py", "import seedling.beds\n")


def _start_hidden(w: World, lab: Path) -> None:
    write(w.home / "lib" / "encodings" / "__init__.py", "import nowhere_at_all\n")
    kernelspec(w.home, "lab", [python_of(lab), "-m", "ipykernel_launcher", "-f", "{connection_file}"],
               env={"PYTHONPATH": str(w.home / "lib")})


def _newer_for_others(w: World, lab: Path) -> None:
    """Another environment has a newer version, which does not run on this Python."""
    files = {"soilbook/__init__.py": "", "soilbook/peat.py": "", "soilbook/ground.py": ""}
    w.wheels.install(w.wheels.add("soilbook", "9", files, requires_python=">=3.99"), site_of(w.venv("lab-old")))
    w.wheels.add("soilbook", "3", files)
    w.wheels.install(w.wheels.add("soilbook", "2", {"soilbook/__init__.py": ""}), site_of(lab))


def in_its_place(build: Callable[[Path], object]) -> Build:
    """Put something that is no file where a module of a package was."""
    def change(w: World, site: Path) -> None:
        (site / "germkit" / "trial.py").unlink()
        build(site / "germkit" / "trial.py")
    return installed(change=change)


def bytecode_cut_off(*names: str) -> Build:
    """Import a package, and then cut off the bytecode that was kept of it."""
    def change(w: World, site: Path) -> None:
        run([python_of(site.parents[2]), "-c", "import germkit"], env={"PATH": "/usr/bin:/bin"})
        for name in names:
            for file in (site / "germkit" / "__pycache__").glob(f"{name}.*.pyc"):
                file.write_bytes(file.read_bytes()[:30])
    return installed(change=change)


MISHAPS = [
    Situation("folder in a file's place", in_its_place(Path.mkdir), "germkit", "files-missing", says="trial.py",
              remedy="command"),
    Situation("pipe in a file's place", in_its_place(os.mkfifo), "germkit", "files-missing", says="trial.py",
              remedy="command"),
    Situation("link to itself", in_its_place(lambda p: p.symlink_to(p.name)), "germkit", "files-missing",
              remedy="command"),
    Situation("file emptied that a star brings in", installed("germkit", {
        "germkit/__init__.py": "from germkit.trial import *\nx = Trial\n", "germkit/trial.py": "class Trial: pass\n"},
        change=lambda w, site: write(site / "germkit/trial.py", "")), "germkit", "file-corrupt",
        says="trial.py of germkit",
        remedy="command"),
    Situation("start of a part emptied", installed("germkit", {
        "germkit/__init__.py": "import germkit.parts\nx = germkit.parts.ROWS\n",
        "germkit/parts/__init__.py": "ROWS = 1\n"},
        change=lambda w, site: write(site / "germkit/parts/__init__.py", "")), "germkit", "file-corrupt", says="parts",
        remedy="command"),
    Situation("asked by a changed file, and an extra's", lambda w,
              e: (w.wheels.add("fastgrid"), w.wheels.install(w.wheels.add(
        "germkit", "2", {"germkit.py": "x = 1\n"}, extras={"fast": ["fastgrid"]}), site_of(e)), write(
        site_of(e) / "germkit.py", "import fastgrid\n"), None)[-1], "germkit", "mixed-install", says="germkit.py",
        remedy="command"),
    Situation("bytecode cut off", bytecode_cut_off("trial"), "germkit", "bytecode-stale", says="cut off",
              remedy="command"),
    Situation("bytecode cut off, asked for first", bytecode_cut_off("__init__"), "germkit", "bytecode-stale",
              says="__init__",
              remedy="command"),
    Situation("bytecode cut off, asked for by dots", lambda w, e: (installed("germkit", {
        "germkit/__init__.py": "from .trial import Trial\n", "germkit/trial.py": "class Trial: pass\n"})(w, e),
        run([python_of(e), "-c", "import germkit"], env={"PATH": "/usr/bin:/bin"}),
        [f.write_bytes(f.read_bytes()[:20]) for f in site_of(e).glob("germkit/__pycache__/trial.*.pyc")], None)[-1],
        "germkit",
        "bytecode-stale", says="trial", remedy="command"),
    Situation("all bytecode cut off", bytecode_cut_off("*"), "germkit", "bytecode-stale", remedy="command"),
    *[Situation(name, struck(name), "seedling", slug, remedy="edit" if name.startswith(
        ("link line", "folder before", "start code", "switched")) else "command")
      for name, (_, slug) in ACCIDENTS.items()],
    Situation("code of a link line puts a folder first", lambda w, e: (reset_path(w, planted(w, e)), write(
        site_of(e) / "seedling/beds/rows.py", "from bisect import bisect\nROWS = 6\n"), None)[-1], "seedling",
        "hidden-by-path", says="bisect", remedy="edit"),
    Situation("compiled part lost, its source is loaded", installed("germkit", {
        "germkit/__init__.py": "raise ValueError('germkit.tray.Tray size changed, may indicate binary incompatibility."
                               " Expected 24 from C header, got 16 from PyObject')\n",
        "germkit/tray.py": "", f"germkit/tray{ending(BASE_PYTHON)}": b"\x7fELF"}, change=_lost_part), "germkit",
        "files-missing", says="tray"),
    Situation("standard library hidden, nobody says so", _hidden_clock, "germkit", "hidden-by-file", says="token.py",
              remedy="edit"),
    Situation("own file of a standard name, not to blame", lambda w, e: (write(w.project / "string.py", ""), installed(
        "germkit", {"germkit.py": "raise ValueError(\"the mode must be 'string' or 'rows'\")\n"})(w, e), None)[-1],
        "germkit", "raises", says="the mode must be"),
    Situation("cut off behind native code", _cut_off_behind, "nativeseed", "file-corrupt", says="cut off"),
    Situation("own file taken for what is elsewhere", _own_file_only, "seedling.beds", "hidden-by-file",
              says="taken for seedling"),
    Situation("start hidden by PYTHONPATH", _start_hidden, "json", "hidden-by-path", at="kernel:lab",
              says="encodings", remedy="edit"),
    Situation("name that the module's own __getattr__ refuses", lambda w, e: (installed("germkit", {
        "germkit/__init__.py": "if True:\n    trays = 6\n\n\ndef __getattr__(name):\n    raise AttributeError("
                               "f'module {__name__!r} has no attribute {name!r}')\n"})(w, e), write(
        w.project / "plan.py", "import germkit\nx = germkit.tryas\n"), None)[-1], "plan", "attribute-absent",
        says="tryas", remedy="edit"),
    Situation("two letters wrong in a part's name", lambda w, e: (installed("germkit", {
        "germkit/__init__.py": "", "germkit/propagator.py": ""})(w, e), write(
        w.project / "plan.py", "import germkit.porpogator\n"), None)[-1], "plan", "submodule-absent",
        says="porpogator", remedy="edit"),
    Situation("newer version for other Pythons alone", _newer_for_others, "soilbook.peat", "submodule-absent",
              says="soilbook 2", remedy="command"),
]
