"""``why`` on code that is for another version of Python, tried with real interpreters of each version."""

from __future__ import annotations

import json
import sys

import pytest

from kalyx.core.tables import standard_library
from tests.support.build import World, other_pythons, run, site_of, write
from tests.support.packages import bounded

# (version, code, cause, what the answer speaks of)
CODE = [
    ("3.6", "from __future__ import annotations\n", "python-too-old", "syntax"),
    ("3.6", "import asyncio\nasyncio.run\n", "python-too-old", "asyncio.run, which came with Python 3.7"),
    ("3.6", "from contextlib import nullcontext\n", "python-too-old", "3.7"),
    ("3.6", "import subprocess as s\ns.run(['true'], capture_output=True)\n", "python-too-old",
     "the parameter capture_output of subprocess.run"),
    ("3.7", "def f(a, /):\n    pass\n", "python-too-old", "by position only"),
    ("3.7", "if (n := 1):\n    pass\n", "python-too-old", ":="),
    ("3.7", "x = 1\ny = f'{x=}'\n", "python-too-old", "f-string"),
    ("3.7", "import math\nmath.prod([1])\n", "python-too-old", "math.prod"),
    ("3.7", "reversed({})\n", "raises", "not reversible"),
    ("3.8", "from functools import cache\n", "python-too-old", "functools.cache"),
    ("3.8", "def f(x: list[int]):\n    return x[0]\n", "python-too-old", "list[...]"),
    ("3.8", "from queue import Queue as Q\n\n\ndef f(\n    x: Q[int],\n): pass\n", "python-too-old",
     "queue.Queue[...]"),
    ("3.8", "import collections.abc as c\nx: c.Iterable[int] = []\n", "python-too-old",
     "collections.abc.Iterable[...]"),
    ("3.8", "'abc'.removeprefix('a')\n", "python-too-old", "str.removeprefix"),
    ("3.8", "{} | {}\n", "python-too-old", "two values of dict"),
    ("3.8", "from pathlib import Path\nPath('a').with_stem('b')\n", "python-too-old", "with_stem"),
    ("3.8", "class Path:\n    pass\n\n\nPath().with_stem\n", "raises", "with_stem"),
    ("3.8", "with (open(__file__) as a, open(__file__) as b):\n    pass\n", "python-too-old", "with in brackets"),
    ("3.9", "def f(x: int | None):\n    pass\n", "python-too-old", "| between types"),
    ("3.9", "def f(x: int | 'Later'):\n    pass\n", "raises", "'type' and 'str'"),
    ("3.9", "from dataclasses import dataclass\n\n\n@dataclass(slots=True)\nclass A:\n    x: int = 1\n",
     "python-too-old", "the parameter slots of dataclasses.dataclass"),
    ("3.9", "list(zip([1], [2], strict=True))\n", "python-too-old", "the parameter strict of zip"),
    ("3.9", "x = 1\nmatch x:\n    case 1:\n        pass\n", "python-too-old", "match"),
    ("3.10", "from typing import Self\n", "python-too-old", "3.11"),
    ("3.10", "import asyncio\nasyncio.TaskGroup\n", "python-too-old", "asyncio.TaskGroup"),
    ("3.10", "try:\n    pass\nexcept* ValueError:\n    pass\n", "python-too-old", "except*"),
    ("3.10", "import tomllib\n", "stdlib-not-yet", "3.11"),
    ("3.7", "from importlib.metadata import version\n", "stdlib-not-yet",
     "importlib.metadata is part of Python's standard "
     "library only since 3.8"),
    ("3.7", "import multiprocessing.shared_memory\n", "stdlib-not-yet", "3.8"),
    ("3.11", "import email.Utils\n", "stdlib-removed", "email.Utils"),
    ("3.11", "type X = int\n", "python-too-old", "the type statement"),
    ("3.11", "def f[T](x: T) -> T:\n    return x\n", "python-too-old", "type parameters"),
    ("3.11", 'x = f"{"a"}"\n', "python-too-old", "f-string with quotes"),
    ("3.11", 'd = {}\nx = f"{d["a"]}"\n', "python-too-old", "f-string with quotes"),
    ("3.11", 'x = f"{\n1\n}"\n', "python-too-old", "a new line inside"),
    ("3.11", 'a = 1\nx = f"{a)}"\n', "raises", "unmatched"),
    ("3.6", "from __future__ import annotations\n", "python-too-old", "came with 3.7"),
    ("3.9", "import time\ntime.clock()\n", "python-too-new", "3.8"),
    ("3.9", "import base64\nbase64.encodestring(b'')\n", "python-too-new", "base64.encodestring"),
    ("3.9", "from plistlib import readPlist\n", "python-too-new", "3.9"),
    ("3.9", "import threading\nthreading.current_thread().isAlive()\n", "python-too-new", "isAlive"),
    ("3.9", "import html.parser\nhtml.parser.HTMLParser().unescape('x')\n", "python-too-new", "unescape"),
    ("3.10", "import collections\n\n\nclass A(collections.MutableMapping):\n    pass\n", "python-too-new", "3.10"),
    ("3.10", "import asyncio\nasyncio.Queue(loop=None)\n", "python-too-new", "the parameter loop"),
    ("3.11", "import asyncio\n\n\n@asyncio.coroutine\ndef f():\n    pass\n", "python-too-new", "3.11"),
    ("3.11", "open(__file__, 'U')\n", "python-too-new", "'U'"),
    ("3.12", "import pkgutil\npkgutil.ImpImporter\n", "python-too-new", "3.12"),
    ("3.12", "import configparser\nconfigparser.ConfigParser().readfp\n", "python-too-new", "readfp"),
    ("3.12", "from distutils.version import LooseVersion\n", "stdlib-removed", "3.12"),
    ("3.13", "import cgi\n", "stdlib-removed", "3.13"),
    ("3.13", "x = xrange(3)\n", "python2-source", "xrange"),
    ("3.13", "for k, v in {}.iteritems():\n    pass\n", "python2-source", "iteritems"),
    ("3.13", "def f(x: int[3]):\n    pass\n", "raises", "not subscriptable"),
]


TRY_EACH = """
import importlib, sys
for name in sys.argv[1:]:
    try:
        importlib.import_module(name)
    except BaseException:
        print(name)
"""


@pytest.mark.parametrize("version", sorted({v for v, *_ in CODE}))
def test_code_of_another_version(version: str, world: World) -> None:
    """What came later or went before is named, with the version; what never was there is not."""
    python = other_pythons().get(version)
    if python is None:
        pytest.skip(f"no Python {version} on this machine")
    cases = {f"fresh{n}": case for n, case in enumerate(c for c in CODE if c[0] == version)}
    for name, (_, code, _, _) in cases.items():
        write(world.project / f"{name}.py", code)
    fail = run([python, "-c", TRY_EACH, *cases], cwd=world.project, env=world.env).stdout.split()
    reports = world.answer("why", *cases, "--at", f"python:{python}")["result"]["imports"]
    assert fail == list(cases) == [r["module"] for r in reports]
    for report, (_, code, cause, says) in zip(reports, cases.values(), strict=True):
        assert report["outcome"] == "fails" and len(report["causes"]) == 1, (code, report)
        first = report["causes"][0]
        assert (first["cause"], says in first["because"]) == (cause, True), (code, first)


@pytest.mark.parametrize(("code", "wrote"), [
    ("from collections import Mapping\n", "from collections.abc import Mapping"),
    ("from fractions import gcd as g\n", "from math import gcd as g"),
    ("import inspect\nspec = inspect.getargspec\n", "spec = inspect.getfullargspec"),
])
def test_name_that_took_its_place(code: str, wrote: str, world: World) -> None:
    """In the person's own code the name that took a dropped one's place is written by an edit that works."""
    world.activate(world.venv())
    file = write(world.project / "former.py", code)
    edit = world.answer("why", "former")["result"]["imports"][0]["causes"][0]["remedies"][0]["edits"][0]
    assert edit["after"] == wrote
    write(file, file.read_text().replace(edit["before"], edit["after"]))
    assert world.answer("why", "former")["status"] == "ok"


@pytest.mark.parametrize("bounds", ["", ">=3.15"])
def test_version_for_this_python_comes_first_where_pip_can_find_it(bounds: str, world: World) -> None:
    """Only what declares its Pythons lets pip choose a version; else another Python is the first remedy."""
    if sys.version_info >= (3, 12) and not bounds:
        pytest.skip("the statement is none of a newer Python here")
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    bounded(bounds, "raise RuntimeError('no')\n")(world, lab) if bounds else world.wheels.install(
        world.wheels.add("germkit", "2", {"germkit.py": "type X = int\n"}), site_of(lab))
    world.wheels.add("germkit", "1", {"germkit.py": ""})
    first = world.answer("why", "germkit")["result"]["imports"][0]["causes"][0]
    assert first["cause"] == "python-too-old"
    kinds = [r["kind"] for r in first["remedies"]]
    assert kinds == (["command", "manual"] if bounds else ["manual", "command"])
    if bounds:
        assert run(first["remedies"][0]["argv"], env=world.env, cwd=world.project).returncode == 0
        assert world.answer("why", "germkit")["status"] == "ok"


ASKED = ("typing", "math", "functools", "itertools", "collections", "dataclasses", "contextlib", "inspect",
         "asyncio", "pathlib", "statistics", "datetime", "threading", "string", "shutil", "enum")
CHECK = """\
import importlib, json, sys
table = json.load(open(sys.argv[1]))
found = {}
for kind in ("names", "members"):
    for owner, names in table[kind].items():
        module, _, last = (owner, "", "") if kind == "names" else owner.rpartition(".")
        try:
            value = importlib.import_module(module)
            value = getattr(value, last) if last else value
        except (ImportError, AttributeError):
            continue
        found.update({owner + "." + n: hasattr(value, n) for n in names})
print(json.dumps(found))
"""


def test_library_table_agrees_with_the_interpreters(world: World) -> None:
    """What the table says came or went is there from that version on, or until it, and nowhere else."""
    table = {kind: {k: v for k, v in standard_library.library_names()[kind].items()
                    if (k if kind == "names" else k.rpartition(".")[0]) in (*ASKED, "builtins")}
             for kind in ("names", "members")}
    spans = {f"{owner}.{name}": span for kind in table.values() for owner, names in kind.items()
             for name, span in names.items()}
    assert len(spans) > 400
    file = write(world.root / "table.json", json.dumps(table))
    first = tuple(map(int, standard_library.library_names()["versions"][0].split(".")))
    for short, python in other_pythons().items():
        version = tuple(map(int, short.split("."))) if short[0].isdigit() else (0, 0)
        if version < first:
            continue
        for name, has in json.loads(run([python, "-W", "ignore", "-c", CHECK, file]).stdout).items():
            came, _, went = spans[name].partition("-")
            there = (not came or version >= tuple(map(int, came.split(".")))) and (
                not went or version < tuple(map(int, went.split("."))))
            assert has == there, (name, short)
