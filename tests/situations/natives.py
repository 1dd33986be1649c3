"""Native parts that find the wrong copy of a library, or were built elsewhere: each compiled for real."""

from __future__ import annotations

import io
import shutil
import tarfile
from collections.abc import Sequence
from pathlib import Path

from tests.situations.general import Situation
from tests.situations.reach import kernel
from tests.support.build import BASE_PYTHON, World, python_of, site_of, write
from tests.support.packages import Build, compiled, ending, installed, library, native

OLD, NEW = "int husk(void) { return 1; }\n", "int husk(void) { return 1; }\nint bran(void) { return 2; }\n"
USES = "bran(); return PyModule_Create(&made);"
BEFORE = "int husk(void);int bran(void);"


def versioned(w: World, name: str) -> str:
    """Return the option that gives a library's functions the symbol version SEED_2, or SEED_1 alone."""
    maps = {"two": "SEED_1 { };\nSEED_2 { bran; husk; } SEED_1;\n", "one": "SEED_1 { bran; husk; };\n"}
    return f"-Wl,--version-script={write(w.root / 'native' / f'{name}.map', maps[name])}"


def two_copies(*, beside: bool, symbol_versions: bool = False) -> Build:
    """Have a kernel's LD_LIBRARY_PATH lead to a copy that lacks something; the whole one is elsewhere.

    It lies `beside` the part that needs it, where that looks, or in the environment's folder of libraries.
    """
    def build(w: World, lab: Path) -> None:
        older = library(w, "libhusk.so.1", NEW, versioned(w, "one")) if symbol_versions else library(w, "libhusk.so.1",
                                                                                                     OLD)
        (w.home / "old").mkdir()
        shutil.move(older, w.home / "old" / "libhusk.so.1")
        whole = library(w, "libhusk.so.1", NEW, *([versioned(w, "two")] if symbol_versions else []))
        data = compiled(w, "ext", USES, whole, "-Wl,-rpath,$ORIGIN", before=BEFORE)
        native(lambda w: data)(w, lab)
        shutil.move(whole, (site_of(lab) / "nativeseed" if beside else lab / "lib") / "libhusk.so.1")
        kernel(w, "trials", python_of(lab), LD_LIBRARY_PATH=f"{w.home / 'old'}:/nowhere")
    return build


BACKEND = '''\
import os, zipfile
def build_wheel(folder, settings=None, metadata=None, part=("nativeseed/__init__.py", "built = 'here'\\n")):
    name, info = "nativeseed-1-py3-none-any.whl", "nativeseed-1.dist-info"
    with zipfile.ZipFile(folder + "/" + name, "w") as wheel:
        wheel.writestr(*part)
        wheel.writestr(info + "/METADATA", "Metadata-Version: 2.1\\nName: nativeseed\\nVersion: 1\\n")
        wheel.writestr(info + "/WHEEL", "Wheel-Version: 1.0\\nGenerator: here\\n" +
                       "Root-Is-Purelib: true\\nTag: py3-none-any\\n")
        wheel.writestr(info + "/RECORD", "")
    return name
def build_editable(folder, settings=None, metadata=None):
    return build_wheel(folder, part=("nativeseed.pth", os.getcwd() + "\\n"))
'''


BUILD = {"pyproject.toml": "[build-system]\nrequires = []\nbuild-backend = 'backend'\nbackend-path = ['.']\n",
         "backend.py": BACKEND, "PKG-INFO": "Metadata-Version: 2.1\nName: nativeseed\nVersion: 1\n"}


def own_project(w: World, lab: Path) -> None:
    """Install a copy of the person's own project, and ask in its folder."""
    installed("nativeseed", {"nativeseed/__init__.py": ""})(w, lab)
    for name, text in {**BUILD, "nativeseed/__init__.py": "new = 1\n"}.items():
        write(w.project / name, text + ("[project]\nname = 'nativeseed'\nversion = '1'\n" if "toml" in name else ""))


def source(w: World) -> None:
    """Lay the source of a project into the folder that pip is told of; it builds itself and needs nothing."""
    with tarfile.open(w.wheels.folder / "nativeseed-1.tar.gz", "w:gz") as archive:
        for name, text in BUILD.items():
            entry = tarfile.TarInfo(f"nativeseed-1/{name}")
            entry.size = len(text.encode())
            archive.addfile(entry, io.BytesIO(text.encode()))


def built_elsewhere(*, sources: bool = False, other: bool = False) -> Build:
    """Install a wheel as pip has it, of which the compiled part needs what no library here has."""
    def build(w: World, lab: Path) -> None:
        whole = library(w, "libhusk.so.1", NEW)
        data = compiled(w, "ext", USES, whole, f"-Wl,-rpath,{whole.parent}", before=BEFORE)
        library(w, "libhusk.so.1", OLD)
        native(lambda w: data)(w, lab)
        if sources:
            source(w)
        if other:
            w.wheels.add("nativeseed", "2")
    return build


def closed_by_ctypes(code: str, **more: str) -> Build:
    """Install a package that loads a library of the system by its name."""
    return installed("sowsound", {"sowsound.py": code, **more})


def with_library(place: str, *options: str, ours: bool = True, requires: Sequence[str] = ()) -> Build:
    """Install a part that needs a library which lies at a place in the site folder, `ours` or another's package."""
    def build(w: World, lab: Path) -> None:
        whole = library(w, "libhusk.so.1", NEW)
        part = {"nativeseed/__init__.py": "from nativeseed import ext\n",
                f"nativeseed/ext{ending(BASE_PYTHON)}": compiled(w, "ext", USES, whole, *options, before=BEFORE)}
        lies = {place: whole.read_bytes()} if place else {}
        w.wheels.install(w.wheels.add("nativeseed", "1", {**part, **(lies if ours else {})}, requires), site_of(lab))
        if lies and not ours:
            w.wheels.install(w.wheels.add("huskbin", "1", lies), site_of(lab))
        kernel(w, "trials", python_of(lab))
    return build


RUNPATH = "-Wl,-rpath,$ORIGIN/../huskbin/lib"


def required_library(installed_code: str, library_name: str, requires: str, *, declared: bool = True) -> Build:
    """Have a library come with what a part requires: not installed, or in a version without what is needed."""
    def build(w: World, lab: Path) -> None:
        with_library("", RUNPATH, requires=[requires] if declared else ["huskbin"])(w, lab)
        new = (w.root / "native" / "libhusk.so.1").read_bytes()
        if installed_code:
            old = library(w, "libhusk.so.1", installed_code).read_bytes()
            w.wheels.install(w.wheels.add("huskbin", "1", {f"huskbin/lib/{library_name}": old}), site_of(lab))
        w.wheels.add("huskbin", "2", {"huskbin/lib/libhusk.so.1": new})
    return build


def for_musl(w: World, lab: Path) -> None:
    """Install a part that was linked against the other C library; pip would have the right one."""
    other = library(w, "libc.musl-x86_64.so.1", "int husk(void) { return 1; }\n")
    part = compiled(w, "ext", "husk(); return PyModule_Create(&made);", other, "-nostdlib", before="int husk(void);")
    native(lambda w: part)(w, lab)
    other.unlink()
    w.wheels.add("nativeseed", "1", {"nativeseed/__init__.py": ""})


def required_further_down(w: World, lab: Path) -> None:
    """Have the library of a required distribution need that of one which is required in its turn."""
    with_library("", RUNPATH, requires=["huskbin"])(w, lab)
    core = library(w, "libgrain.so.3", "int grain(void) { return 3; }\n")
    husk = library(w, "libhusk.so.1", NEW + "int grain(void);\nint both(void) { return grain(); }\n", core,
                   "-Wl,-rpath,$ORIGIN/../../grainbin/lib").read_bytes()
    w.wheels.install(w.wheels.add("huskbin", "1", {"huskbin/lib/libhusk.so.1": husk}, ["grainbin==3"]), site_of(lab))
    w.wheels.add("grainbin", "3", {"grainbin/lib/libgrain.so.3": core.read_bytes()})


NATIVES = [
    *[Situation(f"library in {name}, where nobody looks", with_library(place, ours=ours), "nativeseed",
                "library-missing", at="kernel:trials", says=f"site-packages/{place.rpartition('/')[0]}.",
                remedy="edit")
      for name, place, ours in (("its own folder", "nativeseed/libhusk.so.1", True),
                                ("its own folder of libraries", "nativeseed/lib/libhusk.so.1", True),
                                ("another package", "vendor/husk/lib/libhusk.so.1", False),
                                ("another package's libraries", "huskbin.libs/libhusk.so.1", False))],
    Situation("library of a requirement that is not here", required_library("", "", "huskbin>=1"), "nativeseed",
              "library-missing", remedy="command"),
    Situation("library of a requirement in an old version", required_library(NEW, "libhusk.so.0", "huskbin>=2"),
              "nativeseed", "library-missing", remedy="command"),
    Situation("symbol of a requirement in an old version", required_library(OLD, "libhusk.so.1", "huskbin>=2"),
              "nativeseed", "symbol-missing", says="of huskbin 1, does not have", remedy="command"),
    Situation("symbol of a newer version, undeclared", required_library(OLD, "libhusk.so.1", "", declared=False),
              "nativeseed", "symbol-missing", says="of huskbin 1, does not have", remedy="command"),
    Situation("made for the other C library", for_musl, "nativeseed", "foreign-platform",
              says="the musl C library, and this Python for the GNU C library", remedy="command"),
    Situation("library of a requirement's requirement", required_further_down, "nativeseed", "library-missing",
              says="libgrain.so.3", remedy="command"),
    Situation("older copy first, by the variable", two_copies(beside=True), "nativeseed", "symbol-missing",
              at="kernel:trials",
              says="old/libhusk.so.1 first, as LD_LIBRARY_PATH holds", remedy="edit"),
    Situation("older copy first, symbol version", two_copies(beside=True, symbol_versions=True), "nativeseed",
              "symbol-missing",
              at="kernel:trials", says="needs SEED_2", remedy="edit"),
    Situation("older copy first, whole one where nobody looks", two_copies(beside=False), "nativeseed",
              "symbol-missing",
              at="kernel:trials", says="lib/libhusk.so.1 has", remedy="edit"),
    Situation("built elsewhere, and nothing else to be had", built_elsewhere(), "nativeseed", "symbol-missing",
              says="bran"),
    Situation("built elsewhere, source to be had", built_elsewhere(sources=True), "nativeseed", "symbol-missing",
              remedy="command"),
    Situation("built elsewhere, another version to be had", built_elsewhere(other=True), "nativeseed", "symbol-missing",
              remedy="command"),
    Situation("copy of one's own project", own_project, "nativeseed", "hidden-by-file", outcome="imports",
              remedy="command"),
    Situation("loaded by ctypes", closed_by_ctypes("import ctypes\nctypes.CDLL('libseedsnd.so.1')\n"), "sowsound",
              "library-missing", says="sowsound 2 needs the shared library libseedsnd.so.1"),
    Situation("looked for by name", closed_by_ctypes(
        "from ctypes.util import find_library as _find_library\nname = _find_library('seedsnd')\nif name is None:\n"
        "    raise OSError('seedsnd library not found')\n"), "sowsound", "library-missing", says="libseedsnd"),
    Situation("looked for by name, of a known package", closed_by_ctypes(
        "from ctypes.util import find_library\nif not find_library('spatialindex'):\n"
        "    raise ImportError('failed to find libspatialindex')\n"), "sowsound", "library-missing",
        says="libspatialindex"),
    Situation("name found, and another reason", closed_by_ctypes(
        "from ctypes.util import find_library\nassert find_library('c')\nraise OSError('sound card not found')\n"),
        "sowsound", "raises", says="sound card"),
]
