"""``why`` at seats of every interpreter of the machine, from 2.7 on, PyPy among them: the same causes are found."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from tests.support.build import World, other_pythons, run, write
from tests.support.thorough import some_pythons


@dataclass(frozen=True)
class Module:
    """A module that was installed for an interpreter, or lies in the working folder, and what is to be said of it.

    ``files`` is what its wheel holds, ``own`` the person's files, ``lost`` what is deleted after the installation;
    ``since`` and ``until`` are the versions that the row is about.
    """

    name: str
    cause: str | None
    says: str = ""
    files: dict[str, str] = field(default_factory=dict)
    own: dict[str, str] = field(default_factory=dict)
    lost: tuple[str, ...] = ()
    requires: tuple[str, ...] = ()
    extras: dict[str, list[str]] = field(default_factory=dict)
    since: tuple[int, int] = (2, 7)
    until: tuple[int, int] = (9, 9)
    pypy: bool = True
    outcome: str = "fails"


NEW = OLD = (3, 3)
MODULES = [
    Module("whole", None, files={"whole/__init__.py": "from whole.part import x\n", "whole/part.py": "x = 1\n"},
           outcome="imports"),
    Module("own_whole", None, own={"own_whole.py": "x = 1\n"}, outcome="imports"),
    Module("guarded", None, files={"guarded.py": "try:\n    import zorkmid\nexcept ImportError:\n    zorkmid = None\n"},
           outcome="imports"),
    Module("nowhere", "not-installed", "nowhere is not installed"),
    Module("own_whoel", "name-misspelt", "own_whole"),
    Module("whole.prat", "submodule-absent", "whole.prat"),
    Module("whole:nothing", "attribute-absent", "nothing"),
    Module("needy", "dependency-absent", "needy 1 needs seedlib", requires=("seedlib>=2",),
           files={"needy/__init__.py": "import needy.core\n", "needy/core.py": "import seedlib\n"}),
    Module("deep", "dependency-absent", "needy_two 1 needs seedlib", requires=("needy_two",),
           files={"deep.py": "import needy_two\n"}),
    Module("needy_two", "dependency-absent", "needy_two 1 needs seedlib", requires=("seedlib",),
           files={"needy_two.py": "import seedlib\n"}),
    Module("reader", "extra-absent", "extra fast", files={"reader.py": "import fastgrid\n"},
           extras={"fast": ["fastgrid>=1"]}),
    Module("lost", "files-missing", "part.py", files={"lost/__init__.py": "import lost.part\n", "lost/part.py": ""},
           lost=("lost/part.py",)),
    Module("ghost", "metadata-only", "ghost 1", files={"ghost.py": ""}, lost=("ghost.py",)),
    Module("torn", "file-corrupt", "torn.py", files={"torn.py": "x = 1\n"}, own={"SITE/torn.py": "x = (1,\n"}),
    Module("hiding", "hidden-by-file", "colorsys.py", files={"hiding.py": "from colorsys import rgb_to_hsv\n"},
           own={"colorsys.py": "x = 1\n"}),
    Module("ring_a", "circular-import", "ring_a.py", own={"ring_a.py": "from ring_b import two\none = 1\n",
                                                          "ring_b.py": "from ring_a import one\ntwo = 2\n"}),
    Module("boom", "raises", "no seeds", own={"boom.py": "raise ValueError('no seeds')\n"}),
    Module("leaves", "raises", "SystemExit", own={"leaves.py": "import sys\nsys.exit(3)\n"}),
    Module("broken", "raises", "broken.py, line", own={"broken.py": "x = (\n"}, pypy=False),
    Module("ends", "crash", "status 3", own={"ends.py": "import os\nos._exit(3)\n"}),
    Module("dies", "crash", "SIGSEGV", own={"dies.py": "import os\nos.kill(os.getpid(), 11)\n"}),
    Module("patricide", "crash", "started it", own={"patricide.py": "import os\nos.kill(os.getppid(), 9)\n"}),
    Module("forks", None, own={"forks.py": "import os\npid = os.fork()\nif not pid:\n"
                                       "    os._exit(5)\nos.waitpid(pid, 0)\n"},
           outcome="imports"),
    Module("talks", None, own={"talks.py": "import os, sys\nsys.stdout.write('x' * 99999)\n"
                                       "os.write(2, b'{\"who\": 1}')\n"},
           outcome="imports"),
    Module("dashed_name", "own-code-unreachable", "dashed-name.py", own={"dashed-name.py": ""}),
    Module("below", "own-code-unreachable", "lib/below.py", own={"lib/below.py": ""}),
    Module("relative", "relative-import-alone", "no __init__.py", own={"relative.py": "from .own_whole import x\n"}),
    Module("two", "python2-source", "print", own={"two.py": "print 'seeds'\n"}, since=NEW),
    Module("annotated", "python-too-old", "annotated.py",
           own={"annotated.py": "def f(x: int, *, y: int = 1) -> int:\n    return x\nz: int = 1\n"},
           until=(3, 0), pypy=False),
    Module("walrus", "python-too-old", "3.8", own={"walrus.py": "if (n := 1):\n    pass\n"}, since=(3, 4),
           until=(3, 8), pypy=False),
    Module("ConfigParser", "stdlib-removed", "3.0", since=NEW),
    Module("tomllib", "stdlib-not-yet", "3.11", until=(3, 11), pypy=False),
    Module("unittest.mock", "stdlib-not-yet", "3.3", until=OLD, pypy=False),
    Module("distutils", "stdlib-removed", "3.12", since=(3, 12), pypy=False),
    Module("winreg", "stdlib-not-built", "Windows only", since=NEW),
    Module("waits", "hang", "within", own={"waits.py": "import time\nwhile True:\n    time.sleep(1)\n"}),
]


def user_site(python: str, world: World) -> Path:
    """Return the folder that an interpreter takes for the user's own packages."""
    code = "import site; print(site.getusersitepackages())"
    return Path(run([python, "-c", code], env=world.env, cwd="/").stdout.strip())


def planted(world: World, site: Path, rows: list[Module]) -> None:
    """Install and write what the rows are about."""
    for row in rows:
        if row.files:
            world.wheels.install(world.wheels.add(row.name, "1", dict(row.files), row.requires, extras=row.extras),
                                 site)
        for name in row.lost:
            (site / name).unlink()
        for name, text in row.own.items():
            write(site / name[5:] if name.startswith("SITE/") else world.project / name, text)


@pytest.mark.parametrize("version", some_pythons(other_pythons()))
def test_causes_at_every_interpreter(version: str, world: World, validate) -> None:
    """One row of each kind at each interpreter: outcome and cause are right, and nothing else is said before it."""
    python = other_pythons()[version]
    said = run([python, "-c", "import sys; print('%d.%d' % sys.version_info[:2]); "
                "print(hasattr(sys, 'pypy_version_info'))"],
               env=world.env, cwd="/").stdout.split()
    number, is_pypy = tuple(map(int, said[0].split("."))), said[1] == "True"
    rows = [r for r in MODULES if r.since <= number < r.until and (r.pypy or not is_pypy)]
    planted(world, user_site(python, world), rows)
    document = world.answer("why", *[r.name for r in rows], "--at", f"python:{python}", "--timeout", "4")
    validate(document)
    found = {}
    for row, report in zip(rows, document["result"]["imports"], strict=True):
        first = report["causes"][0] if report["causes"] else None
        found[row.name] = (report["outcome"], first and first["cause"], not first or row.says in first["because"])
    assert found == {r.name: (r.outcome, r.cause, True) for r in rows}
    for report in document["result"]["imports"]:
        assert report["interpreter"]["version"].startswith(said[0])
        assert not report["origin"] or report["origin"] == "built-in" or report["origin"].startswith("/")
        for finding in report["causes"]:
            assert all(e["path"] is None or e["path"].startswith("/") for e in finding["evidence"]), finding
            assert finding["evidence"] and finding["remedies"], finding
            assert not re.search(r"None|\{|\}", finding["because"]), finding
