"""``put``: what pip would break is said before, why it failed is not hidden, and what broke without a word is found."""

from __future__ import annotations

import io
import shlex
import tarfile
from pathlib import Path

import pytest

from kalyx.core.facts.packaging.pip_complaints import Complaint, read_complaint
from tests.support.build import BASE_PYTHON, World, python_of, run, site_of
from tests.support.packages import compiled, ending, library

# What pip printed on its error stream, and what is read of it
PRINTED = {
    "one file for other Pythons": (
        "ERROR: Package 'newkit' requires a different Python: 3.11.7 not in '>=3.12'\n",
        Complaint("newkit is for Python >=3.12, and this is Python 3.11.7", (">=3.12",))),
    "all versions for other Pythons": (
        "ERROR: Ignored the following versions that require a different python version: 1.0 Requires-Python >=3.12; "
        "1.1 Requires-Python >=3.13\nERROR: Could not find a version that satisfies the requirement newkit (from "
        "versions: none)\nERROR: No matching distribution found for newkit\n",
        Complaint("no version of newkit is for this Python: 1.0 is for Python >=3.12; 1.1 is for Python >=3.13",
                  (">=3.12", ">=3.13"))),
    "no index": (
        "WARNING: Retrying (Retry(total=0, connect=None, read=None, redirect=None, status=None)) after connection "
        "broken by 'NewConnectionError('<x>: Failed to establish a new connection: [Errno -3] Temporary failure in "
        "name resolution')': /simple/newkit/\nERROR: Could not find a version that satisfies the requirement "
        "newkit (from versions: none)\nERROR: No matching distribution found for newkit\n",
        Complaint("the index cannot be reached: [Errno -3] Temporary failure in name resolution")),
    "a header": (
        "  error: subprocess-exited-with-error\n  × Building wheel for seedc did not run successfully.\n  ╰─> [3]\n"
        "      seedc.c:1:10: fatal error: libpq-fe.h: No such file or directory\n      compilation terminated.\n"
        "      error: command '/usr/bin/gcc' failed with exit code 1\n      [end of output]\n  note: This error "
        "originates from a subprocess, and is likely not a problem with pip.\nERROR: Failed building wheel for seedc\n",
        Complaint("it has to be built here, and the build does not find the header libpq-fe.h", (), "libpq-fe.h",
                  "libpq-dev")),
    "a compiler": (
        "  error: subprocess-exited-with-error\n      error: command 'gcc' failed: No such file or directory\n",
        Complaint("it has to be built here, and the build does not find the tool gcc", (), "gcc", "gcc")),
    "the build's own exception": (
        "  error: subprocess-exited-with-error\n      Traceback (most recent call last):\n      ModuleNotFoundError: "
        "No module named 'setuptools'\n      [end of output]\n",
        Complaint("it has to be built here, and the build failed: ModuleNotFoundError: No module named 'setuptools'")),
    "requirements that exclude each other": (
        "ERROR: Cannot install a==1.0 and b==1.0 because these package versions have conflicting dependencies.\n"
        "ERROR: ResolutionImpossible: for help visit https://pip.pypa.io\n",
        Complaint("Cannot install a==1.0 and b==1.0 because these package versions have conflicting dependencies.")),
    "only a footer below": ("ERROR: the wheel is not a zip file\nnote: a hint of pip's\nhint: another\n",
                            Complaint("the wheel is not a zip file")),
    "nothing": ("", Complaint("")),
}


@pytest.mark.parametrize("name", PRINTED)
def test_reason(name: str) -> None:
    """The reason is read, wherever in the output it stands."""
    assert read_complaint(PRINTED[name][0]) == PRINTED[name][1]


def installed(w: World, lab: Path, name: str, version: str, files: dict[str, str | bytes], *requires: str) -> None:
    w.wheels.install(w.wheels.add(name, version, files, requires), site_of(lab))


def test_conflict_has_a_way_out(world: World) -> None:
    """What would break stops it; the line that is offered installs what was asked for, and breaks nothing."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    installed(world, lab, "traygrid", "1.5", {"traygrid.py": ""})
    installed(world, lab, "germkit", "1.0", {"germkit.py": ""}, "traygrid<2")
    world.wheels.add("traygrid", "2.1", {"traygrid.py": ""})
    world.wheels.add("newkit", "2.0", requires=["traygrid>=2"])
    world.wheels.add("newkit", "1.0", requires=["traygrid"])
    answer = world.answer("put", "newkit")
    assert answer["status"] == "problem" and not answer["result"]["done"]
    typed = answer["result"]["findings"][0]["remedies"][0]["typed"]
    assert world.answer(*shlex.split(typed)[1:])["status"] == "ok"
    assert run([python_of(lab), "-c", "import newkit, germkit"], env=world.env).returncode == 0


def test_what_breaks_without_a_word(world: World) -> None:
    """An import that worked before and fails after is told, though every requirement is met; parts built for numpy 1
    are told before.
    """
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    installed(world, lab, "traygrid", "1.5", {"traygrid.py": "def old(): pass\n"})
    installed(world, lab, "germkit", "1.0", {"germkit.py": "from traygrid import old\n"}, "traygrid")
    installed(world, lab, "numpy", "1.26", {"numpy/__init__.py": ""})
    part = b"\x7fELF numpy.core._multiarray_umath\0"
    installed(world, lab, "sciseed", "1.0", {"sciseed/__init__.py": "", "sciseed/_core.abi3.so": part}, "numpy")
    for name, version in (("traygrid", "2.1"), ("numpy", "2.1")):
        world.wheels.add(name, version, {f"{name}/__init__.py": ""})
    broken = world.answer("put", "traygrid>=2")
    assert (broken["status"], broken["result"]["done"]) == ("problem", True)
    assert [f["cause"] for f in broken["result"]["findings"]] == ["attribute-absent"]
    planned = world.answer("put", "numpy>=2")
    assert (planned["status"], planned["result"]["done"]) == ("problem", False)
    assert [f["cause"] for f in planned["result"]["findings"]] == ["binary-mismatch"]


def test_a_library_that_goes_with_its_version(world: World) -> None:
    """A part that was linked against one version of another package's library: said before that version goes."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    old = library(world, "libgrid.so.15", "int grid(void) { return 15; }\n")
    part = compiled(world, "ext", "grid(); return PyModule_Create(&made);", old, "-Wl,-rpath,$ORIGIN/../gridbin",
                    before="int grid(void);")
    installed(world, lab, "gridbin", "15", {"gridbin/__init__.py": "", "gridbin/libgrid.so.15": old.read_bytes()})
    installed(world, lab, "sciseed", "1.0", {"sciseed/__init__.py": "from sciseed import ext\n",
                                             f"sciseed/ext{ending(BASE_PYTHON)}": part}, "gridbin")
    world.wheels.add("gridbin", "15.1", {"gridbin/__init__.py": "", "gridbin/libgrid.so.15": old.read_bytes()})
    world.wheels.add("gridbin", "16", {"gridbin/__init__.py": "", "gridbin/libgrid.so.16": old.read_bytes()})
    planned = world.answer("put", "gridbin>=16")
    assert (planned["status"], planned["result"]["done"]) == ("problem", False)
    finding = planned["result"]["findings"][0]
    assert finding["cause"] == "library-missing" and "needs libgrid.so.15 of gridbin 15" in finding["because"]
    same = world.answer("put", "gridbin==15.1")
    assert same["status"] == "ok", same["result"]["findings"]
    assert run([python_of(lab), "-c", "import sciseed"], env=world.env).returncode == 0


def test_build_that_fails(world: World) -> None:
    """A real build that lacks a header: its name, and what has it."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    code = ("import sys\ndef build_wheel(*a, **k):\n    print('seedc.c:1:10: fatal error: libpq-fe.h: No such file or "
            "directory', file=sys.stderr)\n    sys.exit(1)\n")
    tools = "[build-system]\nrequires = []\nbuild-backend = 'back'\nbackend-path = ['.']\n"
    files = {"pyproject.toml": tools, "back.py": code, "PKG-INFO": "Metadata-Version: 2.1\nName: seedc\nVersion: 1.0\n"}
    with tarfile.open(world.wheels.folder / "seedc-1.0.tar.gz", "w:gz") as archive:
        for name, text in files.items():
            info = tarfile.TarInfo(f"seedc-1.0/{name}")
            info.size = len(text)
            archive.addfile(info, io.BytesIO(text.encode()))
    answer = world.answer("put", "seedc")
    assert "does not find the header libpq-fe.h" in answer["result"]["message"], answer
