"""Pasted texts: what real programs printed on this machine is judged with the Python and the files that it is of."""

from __future__ import annotations

import sys
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from tests.support.build import World, carry_out, make_venv, python_of, run, site_of, write

JWT = {"jwt/__init__.py": "x = 1\n"}


@dataclass(frozen=True)
class Printed:
    """A project whose script fails: its files, what is installed, how it is started, and what must be answered."""

    name: str
    files: dict[str, str]
    start: tuple[str, ...]
    cause: str
    says: str = ""
    remedy: str = ""  # the kind of the first one, carried out where it is not for a person to do
    wheels: dict[str, dict[str, str]] = field(default_factory=dict)
    by_file: bool = True  # `why FILE` has the same cause


PRINTED = [
    Printed("own file of a package's name", {"grid.py": "from grid import go\n"}, ("grid.py",), "hidden-by-file",
            remedy="edit", wheels={"grid": {"grid/__init__.py": "def go(): pass\n"}}),
    Printed("own file of a library's name", {"random.py": "import tempfile\n", "run.py": "import tempfile\n"},
            ("run.py",), "hidden-by-file", remedy="edit"),
    Printed("own test folder", {"test/__init__.py": "", "run.py": "import test.support\n"}, ("run.py",),
            "hidden-by-file", remedy="edit"),
    Printed("a ring", {"a.py": "from b import y\nx = 1\n", "b.py": "from a import x\ny = 1\n", "run.py": "import a\n"},
            ("run.py",), "circular-import"),
    Printed("script of a package, relative", {"pkg/__init__.py": "", "pkg/h.py": "x = 1\n",
                                              "pkg/run.py": "from .h import x\nprint(x)\n"},
            ("pkg/run.py",), "relative-import-alone", says="part of the package pkg"),
    Printed("script of a package, absolute", {"pkg/__init__.py": "", "pkg/h.py": "x = 1\n",
                                              "pkg/run.py": "from pkg.h import x\nprint(x)\n"},
            ("pkg/run.py",), "own-code-unreachable"),
    Printed("script beside the package", {"pkg/__init__.py": "", "tools/run.py": "import pkg\n"}, ("tools/run.py",),
            "own-code-unreachable", remedy="edit"),
    Printed("nothing of that name", {"run.py": "import fastgrid\n"}, ("run.py",), "not-installed"),
    Printed("another project's module", {"run.py": "import jwt\njwt.encode({})\n"}, ("run.py",), "name-differs",
            remedy="command", wheels={"jwt": JWT}, by_file=False),
    Printed("an extra that the message speaks of", {"run.py": "import gridstyle\ngridstyle.style()\n"}, ("run.py",),
            "extra-absent", says="extra output", by_file=False,
            wheels={"gridstyle": {"gridstyle.py": "def style(): raise ImportError('style requires inkpot')\n"}}),
]


def text_of(w: World, lab: Path, case: Printed) -> Path:
    """Lay the project out, run it, and keep what it printed."""
    for name, files in case.wheels.items():
        extras = {"output": ["inkpot>=3"]} if name == "gridstyle" else {}
        w.wheels.install(w.wheels.add(name, "1.0", files, extras=extras), site_of(lab))
    w.wheels.add("PyJWT", "2.0", {"jwt/__init__.py": "def encode(*a): pass\n"})
    for name, text in case.files.items():
        write(w.project / name, text)
    ran = run([python_of(lab), *case.start], cwd=w.project, env=w.env)
    assert ran.returncode, case.name
    return write(w.root / "printed.txt", ran.stderr)


@pytest.mark.parametrize("case", PRINTED, ids=lambda c: c.name)
def test_printed_here(case: Printed, world: World, validate) -> None:
    """The cause is that of `why FILE`; nothing is evidence that is not there; the first remedy mends."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    text = text_of(world, lab, case)
    answer = world.answer("why", "--traceback", str(text))
    validate(answer)
    first = answer["result"]["imports"][0]["causes"][0]
    assert first["cause"] == case.cause and case.says in first["because"], first
    assert all(Path(e["path"]).exists() for e in first["evidence"] if e["path"]), first["evidence"]
    assert answer["result"]["imports"][0]["interpreter"]["path"].startswith(str(lab))
    if case.by_file:
        seen = world.answer("why", *case.start[:1])["result"]["imports"]
        assert case.cause in {f["cause"] for r in seen for f in r["causes"][:1]}, seen
    if case.remedy:
        carry_out(first["remedies"][0], case.remedy, world)
        run_again = [python_of(lab), *(n for n in case.start if (world.project / n).exists())]
        assert run(run_again, cwd=world.project, env=world.env).returncode == 0


def test_which_python_is_meant(world: World) -> None:
    """That of the project where the file lies, else this shell's; a text from elsewhere is judged by itself."""
    lab, own = world.venv("lab"), make_venv(world.project / ".venv")
    world.activate(lab)
    write(world.project / "run.py", "import fastgrid\n")
    ran = run([python_of(own), str(world.project / "run.py")], env=world.env)
    absent = "ModuleNotFoundError: No module named 'fastgrid'\n"
    elsewhere = ran.stderr.replace(str(world.project), "/home/ada/work")
    for text, prefix in ((ran.stderr, own), (f">>> import fastgrid\n{absent}", lab), (absent, lab), (elsewhere, None)):
        answer = world.answer("why", "--traceback", str(write(world.root / "t.txt", text)))
        found, notes = answer["result"]["imports"][0], {n["note"] for n in answer["notes"]}
        assert found["causes"][0]["cause"] == "not-installed"
        assert ("tried-at" in notes, "from-text" in notes) == (prefix is not None, prefix is None)
        if prefix is None:
            assert {r["kind"] for r in found["causes"][0]["remedies"]} == {"manual"}
            assert all(e["path"] is None or e["path"] in text for e in found["causes"][0]["evidence"])
        else:
            assert found["interpreter"]["path"].startswith(str(prefix))
    answer = world.answer("why", "--traceback", str(write(world.root / "t.txt", elsewhere)), "--at", f"env:{lab}")
    assert answer["result"]["imports"][0]["interpreter"]["path"].startswith(str(lab))


def test_two_test_files_of_one_name(world: World) -> None:
    """What a test runner says of them is explained, and the name that is given is a test's still."""
    for folder in ("a", "b"):
        write(world.project / folder / "test_x.py", "def test_it(): pass\n")
    argv = [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "-o", "addopts="]
    ran = run(argv, cwd=world.project, env=world.env)
    answer = world.answer("why", "--traceback", str(write(world.root / "t.txt", ran.stdout)))
    first = answer["result"]["imports"][0]["causes"][0]
    assert first["cause"] == "hidden-by-file"
    carry_out(first["remedies"][0], "edit", world)
    assert run(argv, cwd=world.project, env=world.env).returncode == 0


PACKAGE = {"pkg/__init__.py": "", "pkg/h.py": "x = 1\n"}
IN_PACKAGES = {
    "asks whether it is main": ("from .h import x\nif __name__ == '__main__':\n    pass\n", "relative-import-alone"),
    "first line": ("#!/usr/bin/env python\nimport pkg.h\n", "own-code-unreachable"),
    "does something": ("import pkg.h\nprint(pkg.h.x)\n", "own-code-unreachable"),
    "a neighbour by its plain name": ("import h\nprint(h.x)\n", None),
    "no sign of a script": ("from .h import x\ndef f():\n    return x\n", "part-of-package"),
}


@pytest.mark.parametrize("name", IN_PACKAGES)
def test_file_in_a_package(name: str, world: World) -> None:
    """A script is judged as Python runs it, the way to run it works; what is no script as a part of its package."""
    lab, (code, expected) = world.venv("lab"), IN_PACKAGES[name]
    world.activate(lab)
    for file, text in {**PACKAGE, "pkg/tool.py": code}.items():
        write(world.project / file, text)
    answer = world.answer("why", "pkg/tool.py")
    causes = [f for r in answer["result"]["imports"] for f in r["causes"]]
    if expected in (None, "part-of-package"):
        assert (causes, answer["status"]) == ([], "ok")
        assert [n["note"] for n in answer["notes"]] == ([expected] if expected else [])
        return
    assert causes[0]["cause"] == expected
    assert run([python_of(lab), "pkg/tool.py"], cwd=world.project, env=world.env).returncode, "it fails, as is said"
    carry_out(causes[0]["remedies"][0], "command", world)
