"""Packages that are installed in a world: whole, changed afterwards, with parts that are really compiled."""

from __future__ import annotations

import os
import shutil
import struct
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

import pytest

from tests.support.build import (
    BASE_PYTHON,
    SHORT,
    World,
    run,
    site_of,
    write,
)

Build = Callable[[World, Path], None]
KIT: dict[str, str | bytes] = {
    "germkit/__init__.py": "from germkit.trial import Trial\n",
    "germkit/trial.py": "class Trial:\n    rows = 6\n", "germkit/tray.py": "cells = 48\n"}


def installed(name: str = "germkit", files: Mapping[str, str | bytes] | None = None, version: str = "2",
              change: Callable[[World, Path], object] | None = None, requires: Sequence[str] = ()) -> Build:
    """Install a wheel, keep it for pip, and then do something to what was installed."""
    def build(w: World, lab: Path) -> None:
        w.wheels.install(w.wheels.add(name, version, dict(files or KIT), requires), site_of(lab))
        if change is not None:
            change(w, site_of(lab))
    return build


def replace(file: str, content: str | bytes) -> Build:
    """Install the kit, then write something else into one of its files."""
    return installed(change=lambda w, site: write(site / file, content))


def ending(python: str) -> str:
    """Return the suffix of compiled modules of an interpreter."""
    return run([python, "-c", "import sysconfig; print(sysconfig.get_config_var('EXT_SUFFIX'))"]).stdout.strip()


def compiled(w: World, name: str, body: str = "return PyModule_Create(&made);", *link: str | Path,
             before: str = "", python: str = BASE_PYTHON) -> bytes:
    """Compile a real extension module with the headers of an interpreter."""
    work = w.root / "native"
    headers = run([python, "-c", "import sysconfig; print(sysconfig.get_path('include'))"]).stdout.strip()
    if not os.path.exists(os.path.join(headers, "Python.h")):
        pytest.skip(f"no headers of {python}")
    write(work / f"{name}.c", (
        "#include <Python.h>\n#include <stdlib.h>\n#include <signal.h>\n" + before +
        f'\nstatic struct PyModuleDef made = {{PyModuleDef_HEAD_INIT, "{name}", 0, -1, 0}};\n'
        f"PyMODINIT_FUNC PyInit_{name}(void) {{ {body} }}\n"))
    done = run(["gcc", "-shared", "-fPIC", f"-I{headers}", "-o", work / f"{name}.so", work / f"{name}.c",
    *link],
               cwd=work)
    assert done.returncode == 0, done.stderr
    return (work / f"{name}.so").read_bytes()


def library(w: World, name: str, code: str, *options: str | Path) -> Path:
    """Compile a shared library; return its path."""
    work = w.root / "native"
    write(work / f"{name}.c", code)
    done = run(["gcc", "-shared", "-fPIC", "-o", work / name, work / f"{name}.c", f"-Wl,-soname,{name}",
    *options],
               cwd=work)
    assert done.returncode == 0, done.stderr
    return work / name


def native(make: Callable[[World], bytes], **more: str | bytes) -> Build:
    """Install a package with a compiled part."""
    def build(w: World, lab: Path) -> None:
        files = {"nativeseed/__init__.py": "from nativeseed import ext\n",
        f"nativeseed/ext{ending(BASE_PYTHON)}":
                 make(w), **more}
        w.wheels.install(w.wheels.add("nativeseed", "1", files), site_of(lab))
    return build


def patched(place: int, form: str, value: int) -> Callable[[World], bytes]:
    """Return a maker of an extension whose ELF header says something else."""
    def make(w: World) -> bytes:
        data = bytearray(compiled(w, "ext"))
        struct.pack_into(form, data, place, value)
        return bytes(data)
    return make


def bounded(bound: str, code: str) -> Build:
    """Install a package that declares for which Pythons it is, whether this is one or not."""
    def build(w: World, lab: Path) -> None:
        w.wheels.install(w.wheels.add("germkit", "2", {"germkit/__init__.py": code}, requires_python=bound),
                         site_of(lab))
    return build


def failing(name: str, code: str, **more: object) -> Build:
    """Install a package that needs the distribution fastgrid, which pip can find."""
    def build(w: World, lab: Path) -> None:
        w.wheels.add("fastgrid", "1")
        w.wheels.install(w.wheels.add(name, "1", {f"{name}.py": code}, **more), site_of(lab))
    return build


def installation(change: Callable[[Path], object]) -> Build:
    """Lay out two installations of this Python, their files linked, and change the library of one."""
    def build(w: World, lab: Path) -> None:
        base = Path(BASE_PYTHON).resolve().parent.parent
        for name in ("whole", "broken"):
            home = w.home / ".pyenv/versions" / name
            (home / "bin").mkdir(parents=True)
            shutil.copy(base / "bin" / f"python{SHORT}", home / "bin" / f"python{SHORT}")
            (home / "bin" / "python").symlink_to(f"python{SHORT}")
            (home / "include").symlink_to(base / "include")
            library = home / "lib" / f"python{SHORT}"
            (library / "site-packages").mkdir(parents=True)
            for file in (base / "lib" / f"python{SHORT}").iterdir():
                if file.name not in ("site-packages", "__pycache__"):
                    (library / file.name).symlink_to(file)
        change(w.home / ".pyenv/versions/broken/lib" / f"python{SHORT}")
    return build
