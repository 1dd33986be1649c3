"""Compiled parts, really compiled: for others, cut off, without a library or a symbol, ending the process."""

from __future__ import annotations

import struct
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.situations.general import Situation
from tests.support.build import World, other_pythons, run, site_of, write
from tests.support.packages import Build, compiled, installed, library, native, patched


def _windows_file(w: World, lab: Path) -> None:
    head = b"MZ" + b"\0" * 58 + struct.pack("<I", 64) + b"PE\0\0" + struct.pack("<H", 0x8664) + b"\0" * 100
    files = {"seedscan/__init__.py": "from seedscan._pixels import scan\n"}
    w.wheels.install(w.wheels.add("seedscan", "3", {**files, "seedscan/_pixels.cp311-win_amd64.pyd": head}),
                     site_of(lab))
    w.wheels.add("seedscan", "3", {**files, "seedscan/_pixels.py": "scan = 1\n"})


def _broken_then_whole(content: Callable[[World], bytes]) -> Build:
    """Install a compiled part that is damaged afterwards; pip has the whole one."""
    def build(w: World, lab: Path) -> None:
        native(lambda w: compiled(w, "ext"))(w, lab)
        file = next((site_of(lab) / "nativeseed").glob("ext*"))
        file.write_bytes(content(w))
    return build


def _deep_library(w: World, lab: Path) -> None:
    inner = library(w, "libroots.so.2", "int roots(void) { return 1; }\n")
    outer = library(w, "libstems.so.1", "int roots(void); int stems(void) { return roots(); }\n", inner)
    data = compiled(w, "ext", "stems(); return PyModule_Create(&made);", outer,
    "-Wl,-rpath," + str(outer.parent),
                    before="int stems(void);")
    native(lambda w: data)(w, lab)
    inner.unlink()


def _own_library(w: World, lab: Path) -> None:
    made = library(w, "libgrain-1a2b.so.1", "int grain(void) { return 1; }\n")
    data = compiled(w, "ext", "grain(); return PyModule_Create(&made);", made,
                    "-Wl,-rpath,$ORIGIN/../nativeseed.libs", before="int grain(void);")
    native(lambda w: data, **{"nativeseed.libs/libgrain-1a2b.so.1": made.read_bytes()})(w, lab)
    (site_of(lab) / "nativeseed.libs" / "libgrain-1a2b.so.1").unlink()
    made.unlink()


def _symbol(w: World, lab: Path) -> None:
    made = library(w, "libhusk.so.1", "int husk(void) { return 1; }\n")
    data = compiled(w, "ext", "husk(); return PyModule_Create(&made);", made, "-Wl,-rpath," + str(made.parent),
                    before="int husk(void);")
    library(w, "libhusk.so.1", "int other(void) { return 1; }\n")
    native(lambda w: data)(w, lab)


def _symbol_version(w: World, lab: Path) -> None:
    work = w.root / "native"
    code = "int husk(void) { return 1; }\n"
    write(work / "two.map", "SEED_1.0 { };\nSEED_2.0 { husk; } SEED_1.0;\n")
    write(work / "one.map", "SEED_1.0 { husk; };\n")
    made = library(w, "libhusk.so.1", code, f"-Wl,--version-script={work / 'two.map'}")
    data = compiled(w, "ext", "husk(); return PyModule_Create(&made);", made, "-Wl,-rpath," + str(work),
                    before="int husk(void);")
    library(w, "libhusk.so.1", code, f"-Wl,--version-script={work / 'one.map'}")
    native(lambda w: data)(w, lab)


def _other_abi(w: World, lab: Path) -> None:
    old = other_pythons().get("2.7") or pytest.skip("no Python 2.7 here")
    work = w.root / "native"
    headers = run([old, "-c", "import sysconfig; print(sysconfig.get_path('include'))"]).stdout.strip()
    write(work / "ext.c", '#include <Python.h>\nvoid initext(void) { Py_InitModule("ext", 0); }\n')
    run(["gcc", "-shared", "-fPIC", f"-I{headers}", "-o", work / "ext.so", work / "ext.c"])
    files = {"nativeseed/__init__.py": "from nativeseed import ext\n", "nativeseed/ext.so":
             (work / "ext.so").read_bytes()}
    w.wheels.install(w.wheels.add("nativeseed", "1", files), site_of(lab))


def _needs_newer_interface(w: World, lab: Path) -> None:
    """A compiled part that compares the version of an interface, as the real ones do."""
    for version in ("1", "2"):
        w.wheels.add("seedarray", version, {"seedarray.py": f"api = {version}\n"})
    w.wheels.install(str(w.wheels.folder / "seedarray-1-py3-none-any.whl"), site_of(lab))
    installed("germkit", {"germkit.py": (
        "import seedarray\nif seedarray.api < 2:\n    raise RuntimeError('seedarray: module compiled against "
        "API version 0x2 but this version of seedarray is 0x1')\n")})(w, lab)


COMPILED = [
    Situation("Windows file", _windows_file, "seedscan", "foreign-platform", says="Windows", remedy="command"),
    Situation("other machine", native(patched(18, "<H", 183)), "nativeseed", "foreign-platform",
    says="AArch64"),
    Situation("32 bits", native(patched(4, "<B", 1)), "nativeseed", "foreign-platform"),
    Situation("Python 2's extension without a tag", _other_abi, "nativeseed", "foreign-abi"),
    Situation("compiled part cut off",
    _broken_then_whole(lambda w: (w.root / "native/ext.so").read_bytes()[:3000]),
              "nativeseed", "file-corrupt", remedy="command"),
    Situation("compiled part empty", _broken_then_whole(lambda w: b""), "nativeseed", "file-corrupt",
              remedy="command"),
    Situation("compiled part is text", _broken_then_whole(lambda w: b"<html>404</html>\n" * 99), "nativeseed",
              "file-corrupt", remedy="command"),
    Situation("compiled part cut at the end", _broken_then_whole(
        lambda w: (w.root / "native/ext.so").read_bytes()[:9000]), "nativeseed", "file-corrupt",
        remedy="command"),
    Situation("own library of the wheel gone", _own_library, "nativeseed", "files-missing", says="libgrain"),
    Situation("library further down", _deep_library, "nativeseed", "library-missing", says="libroots.so.2"),
    Situation("undefined symbol", _symbol, "nativeseed", "symbol-missing", says="husk"),
    Situation("symbol version", _symbol_version, "nativeseed", "symbol-missing", says="SEED_1.0"),
    Situation("C interface of a newer version", _needs_newer_interface, "germkit", "binary-mismatch",
              says="seedarray", remedy="command"),
    Situation("symbol like Python's own", native(lambda w: compiled(
        w, "ext", "PySeed_Sow(); return PyModule_Create(&made);", before="void PySeed_Sow(void);")),
        "nativeseed",
        "symbol-missing", says="PySeed_Sow"),
    Situation("compiled under another name", native(lambda w: compiled(w, "other")), "nativeseed",
    "symbol-missing",
              says="PyInit_ext"),
    Situation("crash in a compiled part", native(lambda w: compiled(w, "ext", "raise(SIGSEGV); return 0;")),
              "nativeseed", "crash", says="SIGSEGV"),
    Situation("abort", native(lambda w: compiled(w, "ext", "abort(); return 0;")), "nativeseed", "crash",
              says="SIGABRT"),
]
