"""``fit`` and the code: what cannot be parsed, what it adds to its path, which parts of packages it imports."""

from __future__ import annotations

import json
import os
import sys
from pathlib import Path

import pytest

from tests.support.build import World, carry_out, make_venv, other_pythons, python_of, run, site_of, write


def _fit(world: World, *args: str) -> dict:
    return world.answer("fit", *args)["result"]  # type: ignore[return-value]


R = {"cells": [{"cell_type": "code", "source": "library(dplyr)\nx <- 3\n"}], "nbformat": 4, "nbformat_minor": 5,
     "metadata": {"kernelspec": {"name": "ir", "language": "R"}}}
# Files that the Python of these tests cannot parse: the Pythons that they are for, or what is said instead of an answer
UNPARSED = {
    "old.py": ("import os\nprint 'x'\n", "<3.0"), "raised.py": ("raise ValueError, 'x'\n", "<3.0"),
    "new.py": ("x = t'{1}'\n", ">=3.14"), "broken.py": ("import (\n", "line 1: "),
    "prose.py": ("use `x` here\n", "line 1: "),
    "nul.py": ("\0", "null bytes"), "r.ipynb": (json.dumps(R), "its cells are R"), "cut.ipynb": ("{", "not a notebook"),
    "cells.ipynb": (json.dumps({"cells": [{"cell_type": "code", "source": s} for s in ("import (", "import os")],
                                "metadata": {}, "nbformat": 4, "nbformat_minor": 5}), ""),
}


@pytest.mark.skipif(sys.version_info >= (3, 14), reason="there is nothing newer")
def test_code_that_cannot_be_parsed(world: World) -> None:
    """It is said which Python it is for, where its line tells; else that nothing can be told: never that it can run."""
    world.activate(world.venv("shell"))
    for name, (content, expected) in UNPARSED.items():
        write(world.project / name, content)
        document = world.answer("fit", name)
        result = document["result"]
        if expected[:1] in "<>":
            python = result["python"] or {"specifier": ""}
            assert (document["exit"], python["specifier"]) == (1 if expected else 0, expected), name
        else:
            assert (document["exit"], expected in result["message"]) == (3, True), (name, result)
    for number in range(8):
        write(world.project / "mixed" / f"m{number}.py", "import json\n")
    write(world.project / "mixed" / "left.py", "print 'x'\n")
    assert _fit(world, "mixed")["python"] is None, "one file that was left behind does not decide"


# Code, each of a form that the next line needs no other for; every Python here says itself whether it can read it
SYNTAX = (
    "x=1\nprint(f'{x}')", "async def f():\n    await g()", "def f():\n    x=1\n    def g():\n        nonlocal x",
    "def f(*, a): pass", "def f(a: int): pass", "def f() -> int: pass", "def f():\n    yield from g()", "a @ b",
    "a @= b", "raise A from b", "x: int = 1", "class A: x: int", "class A:\n    x: int\n", "a, *b = c", "d={**a}",
    "f(*a, *b)", "f(\n    *a,\n    b)", "f(**a, b=1)", "[*a, 1]", "class A(B, metaclass=C): pass",
    "class A(\n    metaclass=C):\n    pass", "lambda x, /: 0", "def f():\n    return *a, b", "a[0, *b]", "{b:=0}",
    "a[*b]", "{(b:=0)}", "{c:=0 for b in d}", "a = print", "a = [print(b) for b in c]", "if print(a): pass",
    "def f():\n    return (*a, b)", "def f():\n    yield a, *b", "a[b:=0]", "a[(b:=0)]", "def f(*args: *T): pass",
    "for x in *a, *b: pass", "for x in (*a, 1): pass", "x = 1_000", "print('x')", "print('a', end='')", "print(*a)",
    "async def f():\n    return [[i async for i in a] for j in b]", "async def f():\n    return [i async for i in a]",
    "async def f():\n    yield 1", "print(\n    'a',\n    file=b)", "try:\n    pass\nexcept A as e:\n    pass", "{1,2}",
    "from __future__ import print_function\nprint('a', end='')", "...", "a[...]", '"""\nf"{x}"\n"""', "# f'{x}'",
    "x = 'a' if'x' else 1", "x = 2 *a\nf(*a)\ny = a[1] * b", "x = {'a': 1, 'b': 2}", "lambda a: {a: 1}",
    "def f(a, b=1, *args, c=2, **k): pass", "@a.b(1)\ndef f(): pass", "f'{a[\"x\"]}'", "f'{x}\\n'", 'f"""{\nx}"""',
    "f'{x:{w}}'", "f'{d[\"#\"]}'", "f'{x}' 'a'", "rf'\\d{x}'", "f'{x:\\n}'",
)
# And what an older one can make no tree of
FREE_F_STRINGS = ("f'{a['x']}'", "f'{chr(10) + '\\n'}'", 'f"""{a["""x"""]}"""', "f'{\nx}'", "f'{x # c\n}'",
                  "f'{f'{x}'}'")
READ = """
import json, sys
sys.path.insert(0, sys.argv[1])
from kalyx.core.facts.source_code.needs import read_needs_anew, with_old_forms
from kalyx.core.machine.local import RealMachine
machine, said = RealMachine({}, "/"), []
for file in sys.argv[2:]:
    bounds = with_old_forms(machine, read_needs_anew(machine, [file]))[0].bounds
    said.append(max([[int(n) for n in b.version.split(".")] for b in bounds if b.is_oldest], default=[2, 7]))
print(json.dumps(said))
"""
COMPILE = """
import io, json, sys
said = []
for file in sys.argv[1:]:
    try:
        compile(io.open(file, "rb").read(), file, "exec", dont_inherit=True)
        said.append(True)
    except SyntaxError:
        said.append(False)
print(json.dumps(said))
"""


@pytest.mark.parametrize("reader", [v for v in ("", "3.13") if not v or v in other_pythons()])
def test_syntax_of_each_version(reader: str, tmp_path: Path) -> None:
    """The oldest Python that is said to read some code is the oldest that does, whichever Python Kalyx runs on."""
    import kalyx

    codes = [*SYNTAX, *(FREE_F_STRINGS if reader else ())]
    files = [write(tmp_path / f"{number}.py", code + "\n") for number, code in enumerate(codes)]
    source = Path(str(kalyx.__file__)).parent.parent
    said = json.loads(run([other_pythons().get(reader, sys.executable), "-c", READ, source, *files]).stdout)
    reads = {v: json.loads(run([p, "-c", COMPILE, *files]).stdout) for v, p in other_pythons().items() if v[0] in "23"}
    for number, (code, version) in enumerate(zip(codes, said, strict=True)):
        for other, can in reads.items():
            assert can[number] == ([int(n) for n in other.split(".")] >= version), (code, version, other)


# Lines by which code adds a folder to its own path, and whether it then runs with what is there; None: not to be told
ADDING = {
    "sys.path += [here + '/extra']": True, "sys.path[:0] = [here + '/extra', 'x']": True,
    "sys.path = sys.path + [here + '/extra']": True, "from sys import path; path.append(here + '/extra')": True,
    "path = []; path.append(here + '/extra')": False, "sys.path.extend((here, here + '/extra'))": True,
    "ROOT = here\nsys.path.append(ROOT + '/extra')": True,
    "root = Path(__file__).parent\nif 'x' not in sys.path:\n    sys.path.insert(0, str(root / 'extra'))": True,
    "place = os.path.abspath(os.path.join('extra'))\nif place not in sys.path:\n    sys.path.append(place)": True,
    "BASE: Path = Path(__file__).parent\nEXTRA = BASE.joinpath('extra')\nsys.path.append(f'{EXTRA}')": True,
    "root, name = os.path.split(os.path.abspath(__file__))\nsys.path.append(root + '/extra')": None,
    "root = os.path.split(os.path.abspath(__file__))[0]\nsys.path.append(root + '/extra')": True,
    "for name in ('src', 'extra'):\n    sys.path.append(os.path.join(here, name))": True,
    "for one in [here + '/src', here + '/extra']:\n    sys.path.insert(0, one)": True,
    "import inspect\nsys.path.append(os.path.join(os.path.dirname(inspect.getfile(inspect.currentframe())), 'extra'))":
        True,
    "sys.path.append(sys.path[0] + '/extra')": True, "sys.path.append(str(Path().resolve() / 'extra'))": True,
    "root = here + '/src'\nroot = here + '/extra'\nsys.path.append(root)": None,
    "try:\n    top = here\nexcept NameError:\n    top = os.getcwd() + '/src'\nsys.path.append(top + '/extra')": True,
    "try:\n    top = str(get_ipython())\nexcept NameError:\n    top = here + '/extra'\nsys.path.append(top)": None,
    "root = here + '/src'\nsys.path.append(root)": False, "a = 'b'\nsys.path.append(a)\nb = a\na = b": False,
}


def test_what_code_adds_to_its_path(world: World) -> None:
    """Modules in folders that code adds are its own; where only running tells which folder that is, a note says so."""
    lab = world.venv("lab")
    world.activate(lab)
    write(world.project / "extra" / "helpful.py", "")
    for line, runs in ADDING.items():
        line = line.replace("here", "os.path.dirname(os.path.abspath(__file__))")
        write(world.project / "a.py", f"import os, sys\nfrom pathlib import Path\n{line}\nimport helpful\n")
        document = world.answer("fit", "a.py", "--in", f"env:{lab}")
        if runs is None:  # it runs, and that cannot be told by reading
            assert "path-changed" in {n["note"] for n in document["notes"]}, line
            continue
        assert (document["status"] == "ok") == runs, line
        assert (run([python_of(lab), "a.py"], cwd=world.project, env=world.env).returncode == 0) == runs, line
    write(world.project / "a.py", "import os, sys\nsys.path.append(os.environ['EXTRA'])\nimport helpful\n")
    said = world.answer("fit", "a.py")["notes"]
    assert [(n["note"], "line 2" in n["message"]) for n in said] == [("path-changed", True)]


def test_parts_that_a_version_does_not_have(world: World, validate) -> None:
    """Where it is known which versions have what is imported, another does not fit; the remedy brings one that does."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    world.wheels.install(world.wheels.add("Flask", "3.0", {"flask/__init__.py": ""}), site_of(lab))
    world.wheels.add("Flask", "2.2", {"flask/__init__.py": "Markup = str\n"})
    write(world.project / "a.py", "import flask\n")
    assert _fit(world, "a.py")["best"] == str(lab)
    write(world.project / "a.py", "try:\n    from flask import Markup\nexcept ImportError:\n    Markup = str\n")
    assert _fit(world, "a.py")["best"] == str(lab)
    script = write(world.project / "a.py", "import os\nfrom flask import Markup\n")
    document = world.answer("fit", "a.py")
    validate(document)
    judged = next(e for e in document["result"]["environments"] if e["environment"]["path"] == str(lab))
    assert "has no flask.Markup" in judged["lacks"][0]["because"] and judged["lacks"][0]["wanted"] == "<3"
    carry_out(document["result"]["remedies"][0], "command", world)
    assert _fit(world, "a.py")["best"] == str(lab)
    assert run([python_of(lab), script], cwd=world.project, env=world.env).returncode == 0
    write(world.project / "requirements.txt", "flask>=3\n")
    at_odds = _fit(world, ".")
    assert at_odds["best"] is None and not at_odds["remedies"], "no version has it, and is one that is asked for"
    assert "at-odds" in {n["note"] for n in world.answer("fit", ".")["notes"]}


# Modules of a package, and whether it has them
INSIDE = {"rowkit.plots": True, "rowkit.plots.bars": True, "rowkit.old": False, "rowkit.plots.pies": False,
          "rowkit.said": True, "rowkit.fast": True}


def test_modules_inside_a_package(world: World) -> None:
    """What no file of a package is cannot be imported of it; what its first file speaks of may be brought by that."""
    lab = world.venv("lab")
    world.activate(lab)
    ending = run([python_of(lab), "-c", "import sysconfig as s; print(s.get_config_var('EXT_SUFFIX'))"]).stdout.strip()
    world.wheels.install(world.wheels.add("rowkit", "2", {
        "rowkit/__init__.py": "from . import said\n", "rowkit/plots/__init__.py": "",
        "rowkit/plots/bars.py": "", f"rowkit/fast{ending}": "", "rowkit/said.py": ""}), site_of(lab))
    for module, is_there in INSIDE.items():
        write(world.project / "a.py", f"import {module}\n")
        result = _fit(world, "a.py")
        assert (result["best"] == str(lab)) == is_there, module
        if not is_there:
            judged = next(e for e in result["environments"] if e["environment"]["path"] == str(lab))
            assert f"rowkit 2 has no module {module}" in judged["lacks"][0]["because"] and not result["remedies"]
        if module != "rowkit.fast":
            assert (run([python_of(lab), "a.py"], cwd=world.project, env=world.env).returncode == 0) == is_there
    made = "import sys, types\nsys.modules['olderkit.made'] = types.ModuleType('made')\n"
    world.wheels.install(world.wheels.add("olderkit", "1", {"olderkit/__init__.py": made}), site_of(lab))
    write(world.project / "a.py", "import olderkit.made\n")
    assert _fit(world, "a.py")["best"] == str(lab)


FINDER = """import sys
from importlib.util import spec_from_file_location
MAPPING: dict[str, str] = {mapping}
class Finder:
    @classmethod
    def find_spec(cls, name, path=None, target=None):
        return spec_from_file_location(name, MAPPING[name] + '/__init__.py') if name in MAPPING else None
def install():
    sys.meta_path.append(Finder)
"""


def test_an_editable_project_that_was_moved(world: World) -> None:
    """What an import hook leads to has to be there; so has what a .pth file adds."""
    lab = world.venv("lab")
    world.activate(lab)
    source = write(world.home / "src" / "plotkit" / "__init__.py", "").parent
    mapping = repr({"plotkit": str(source)})
    write(site_of(lab) / "__editable___plotkit_1_finder.py", FINDER.replace("{mapping}", mapping))
    write(site_of(lab) / "__editable__.plotkit-1.pth",
          "import __editable___plotkit_1_finder; __editable___plotkit_1_finder.install()\n")
    write(world.home / "lib" / "raykit.py", "")
    write(site_of(lab) / "raykit.pth", f"{world.home / 'lib'}\n")
    for name, gone in (("plotkit", source), ("raykit", world.home / "lib")):
        write(world.project / "a.py", f"import {name}\n")
        for runs in (True, False):
            assert (_fit(world, "a.py")["best"] == str(lab)) == runs, name
            assert (run([python_of(lab), "a.py"], cwd=world.project, env=world.env).returncode == 0) == runs
            if runs:
                gone.rename(gone.with_name("elsewhere"))


# Code whose alternatives, and what brings back what Python dropped, hold in some versions of Python alone
BY_VERSION = (
    "try:\n    from typing import Any, Self\nexcept ImportError:\n    from typing_extensions import Any, Self\n",
    "try:\n    from collections import Mapping\nexcept ImportError:\n    from collections.abc import Mapping\n",
    "try:\n    import zoneinfo\nexcept ImportError:\n    from backports import zoneinfo\n",
    "try:\n    from flask import Markup\nexcept ImportError:\n    from markupsafe import Markup\n",
    "try:\n    from flask import Flask\nexcept ImportError:\n    from quart import Quart as Flask\n",
    "import distutils.util\n", "import asynchat\n",
)


@pytest.mark.parametrize("version", [v for v in ("3.8", "3.11", "3.13") if v in other_pythons()])
def test_as_it_runs_in_each_version(version: str, world: World) -> None:
    """What fits is what runs: names that alternatives have to have, and what setuptools brings back."""
    import setuptools

    lab = make_venv(world.home / "envs" / "lab", other_pythons()[version])
    site = lab / "lib" / f"python{version}" / "site-packages"
    world.wheels.install(world.wheels.add("Flask", "3.0", {"flask/__init__.py": "Flask = 1\n"}), site)
    for code in BY_VERSION:
        script = write(world.project / "a.py", code)
        if "distutils" in code and version > "3.9":
            ours = Path(setuptools.__file__).parent.parent
            for name in ("setuptools", "_distutils_hack", "distutils-precedence.pth"):
                (site / name).symlink_to(ours / name)
        judged = world.answer("fit", "a.py", "--in", f"env:{lab}")["result"]["environments"][0]
        ran = run([python_of(lab), script], env=world.env)
        assert judged["fits"] == (ran.returncode == 0), (code, judged["lacks"], ran.stderr)
    for switch in ("local", "stdlib"):
        world.env["SETUPTOOLS_USE_DISTUTILS"] = switch
        write(world.project / "a.py", "import distutils.util\n")
        judged = world.answer("fit", "a.py", "--in", f"env:{lab}")["result"]["environments"][0]
        runs = run([python_of(lab), "-c", "import distutils.util"], env=world.env).returncode == 0
        read = world.answer("why", "distutils", "--no-run", "--at", f"env:{lab}")["result"]["imports"][0]
        assert (judged["fits"], not read["causes"]) == (runs, runs), switch


# A file that is run, others of one's own, and what is lacking then
OWN_CODE: dict[str, tuple[str, dict[str, str], set[str]]] = {
    "beside it": ("import tools", {"tools.py": "import lost_a"}, {"lost_a"}),
    "steps away": ("import one", {"one.py": "import two", "two.py": "from three import x",
                                  "three.py": "import lost_a\nx = 1"}, {"lost_a"}),
    "a package": ("from kit.rows import row", {"kit/__init__.py": "from . import base", "kit/base.py": "import lost_a",
                                               "kit/rows/__init__.py": "from ..side import row", "kit/unused.py":
                                               "import lost_b", "kit/side.py": "row = 1\nimport lost_c"},
                  {"lost_a", "lost_c"}),
    "a name of a module": ("from tools import lost_a", {"tools.py": "lost_a = 1", "lost_a.py": "import lost_b"}, set()),
    "one that imports it again": ("import one", {"one.py": "import two", "two.py": "import one"}, set()),
    "a package before a module": ("import kit", {"kit/__init__.py": "", "kit.py": "import lost_a"}, set()),
    "only tried": ("try:\n    import tools\nexcept ImportError:\n    tools = None",
                   {"tools.py": "import lost_a"}, set()),
    "added folder": ("import os, sys\nhere = os.path.dirname(os.path.abspath(__file__))\n"
                     "sys.path.insert(0, os.path.join(here, 'more'))\nimport tools",
                     {"more/tools.py": "import lost_a"}, {"lost_a"}),
}


@pytest.mark.parametrize("name", OWN_CODE)
def test_own_code_is_followed(name: str, world: World) -> None:
    """What modules of one's own need is needed; it fits where it runs."""
    lab = world.venv("lab")
    code, others, lacking = OWN_CODE[name]
    for path, text in others.items():
        write(world.project / path, text + "\n")
    script = write(world.project / "start.py", code + "\n")
    result = _fit(world, "start.py", "--in", f"env:{lab}")
    judged = result["environments"][0]
    assert {one["module"] for one in judged["lacks"]} == lacking
    assert judged["fits"] == (run([python_of(lab), script], env=world.env).returncode == 0)


def test_a_part_cannot_be_told(world: World, validate) -> None:
    """Where a file that is named, or imported, cannot be read as code, the answer is for the others, and says so."""
    lab = world.venv("lab")
    write(world.project / "good.py", "import os\n")
    write(world.project / "broken.py", "import (\n")
    write(world.project / "start.py", "import broken\n")
    for names, told in ((("good.py", "broken.py"), "good.py. Of "), (("start.py",), "start.py. Of ")):
        document = world.answer("fit", *names, "--in", f"env:{lab}")
        validate(document)
        assert (document["status"], document["exit"], document["result"]["best"]) == ("unknown", 3, str(lab))
        said = world.kalyx("fit", *names, "--in", f"env:{lab}").stdout
        assert told in said and "broken.py it cannot be told" in " ".join(said.split())
    assert world.answer("fit", ".", "--in", f"env:{lab}")["status"] == "ok", "of a folder it may be a file of no use"


def test_own_code_that_a_file_does_not_find(world: World) -> None:
    """A module of the project's that is not beside the file, nor installed, is told of; the answer is there."""
    lab = world.venv("lab")
    world.activate(lab)
    write(world.project / "pyproject.toml", "[project]\nname = 'ourkit'\nversion = '1'\n")
    write(world.project / "src" / "ourkit" / "__init__.py", "")
    write(world.project / "src" / "ourkit" / "part.py", "import ourkit\n")
    script = write(world.project / "scripts" / "start.py", "import ourkit\n")
    write(world.project / "tests" / "test_it.py", "import ourkit\n")

    def told(name: str) -> bool:
        document = world.answer("fit", name)
        assert document["result"]["best"] == str(lab)
        return "own-elsewhere" in {n["note"] for n in document["notes"]}

    for name, expected in (("scripts/start.py", True), (".", False), ("src/ourkit/part.py", False),
                           ("tests/test_it.py", False)):
        assert told(name) == expected, name
    assert run([python_of(lab), script], env=world.env).returncode
    write(site_of(lab) / "ours.pth", str(world.project / "src"))
    assert not told("scripts/start.py") and not run([python_of(lab), script], env=world.env).returncode


HARD = {  # code that would take for ever if it were followed to its end
    "loops in loops": "for a in ({0}):\n for b in ({0}):\n  for c in ({0}):\n   sys.path.append(a + b + c)".format(
        ", ".join(f"'{n}'" for n in range(900))),
    "twice as long": "\n".join(["a0 = 'ab'", *(f"a{n + 1} = a{n} + a{n} + a{n} + a{n}" for n in range(30))])
        + "\nsys.path.append(a19)",
    "one of the other": "a = b\nb = a\nsys.path.append(a)", "far down": f"sys.path.append({'/'.join(['a'] * 900)})",
    "very many": "\n".join(f"a{n} = 'x'\nsys.path.append(a{n})" for n in range(3000)),
    "no path": "sys.path.append('\\0')",
}


@pytest.mark.parametrize("name", HARD)
def test_folders_that_are_hard_to_tell(name: str, world: World) -> None:
    """They are not told, in no time; what is lacking is told all the same."""
    lab = world.venv("lab")
    write(world.project / "a.py", f"import sys\n{HARD[name]}\nimport lost_a\n")
    done = world.kalyx("fit", "a.py", "--json", "--in", f"env:{lab}", memory=1_500_000_000)
    assert [one["module"] for one in json.loads(done.stdout)["result"]["environments"][0]["lacks"]] == ["lost_a"]


CELLS = {  # cells of a notebook, and what is lacking
    "%load_ext lost_a\n%load_ext autoreload": {"lost_a"}, "%load_ext lost_a.magics": {"lost_a"},
    "%run -i tool.py x": {"lost_t"}, "%run tool": {"lost_t"}, "%run 'other book.ipynb'": {"lost_n"},
    "%run -m lost_a": {"lost_a"}, "%run $name": set(), "if True:\n    %run tool.py": {"lost_t"}, "%run gone.py": set(),
    "import sys\ntry:\n    top = __file__\nexcept NameError:\n    top = 'more'\nsys.path.append(top)\nimport deeper":
        {"lost_d"}, "%%writefile made.py\nimport lost_a\n===\nimport made": {"lost_a"},
    "%%writefile -a 'sub/made.py'\nx = 1\n===\nfrom sub import made": set(),
    "%matplotlib inline": {"matplotlib"}, "%pylab\n===\nload_ext lost_a": {"matplotlib", "numpy", "lost_a"},
    "# %run tool.py\nx = '%run tool.py'": set(),
}


@pytest.mark.parametrize("cells", CELLS)
def test_what_magics_import(cells: str, world: World) -> None:
    """Extensions are modules, files that are run are read, and what a cell writes is the notebook's own."""
    lab = world.venv("lab")
    write(world.project / "tool.py", "import lost_t\n")
    write(world.project / "more" / "deeper.py", "import lost_d\n")
    for name, texts in (("a.ipynb", cells.split("\n===\n")), ("other book.ipynb", ["import lost_n"])):
        write(world.project / name, json.dumps({
            "cells": [{"cell_type": "code", "source": text} for text in texts], "metadata": {}, "nbformat": 4,
            "nbformat_minor": 5}))
    judged = _fit(world, "a.ipynb", "--in", f"env:{lab}")["environments"][0]
    assert {one["module"] for one in judged["lacks"]} == CELLS[cells]
    if "%run" in cells:  # the same where it is tried: what runs so is told where the notebook's kernel runs it
        told = world.answer("why", "a.ipynb", "--at", f"env:{lab}")["result"]
        failing = {r["module"]: r["asked"][0]["path"] for r in told["imports"] if r["outcome"] == "fails"}
        assert set(failing) == CELLS[cells], cells
        assert {os.path.basename(path) for path in failing.values()} <= {"tool.py", "other book.ipynb", "a.ipynb"}
