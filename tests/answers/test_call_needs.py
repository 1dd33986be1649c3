"""What calls of a file need later: each line is really run, and what is said of it held against that."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest

from tests.support.build import World, carry_out, kernelspec, python_of, run, site_of, write

# A library that asks for what it needs in every way that libraries do; seedlink is here, all others are not
LIBRARY: dict[str, str] = {
    "trialbook/__init__.py": (
        "from trialbook.sheets import *\nfrom trialbook import stores as store\n"
        "from .tables import Table, read, chain\n"
        "from .plots import Plot\n"),
    "trialbook/_helper.py": (
        "import importlib\nNAMES = {'sheetkit': 'sheet-kit'}\n"
        "def optional(name, why='', *, errors='raise'):\n"
        "    '''Import it.\n\nclass of\ndef nothing\n    '''\n"
        "    shown = NAMES.get(name)\n    said = f'{shown if shown is not None else name} is missing {why}'\n"
        "    assert errors in ('raise', 'ignore')\n"
        "    try:\n        found = importlib.import_module(name)\n"
        "    except ImportError:\n        if errors == 'raise':\n            raise ImportError(said)\n"
        "        return None\n"
        "    return found\n"),
    "trialbook/sheets.py": (
        "__all__ = ['open_sheet', 'plain', 'sum_up', 'flagged', 'checked', 'asked', 'replaced', 'late', 'either',\n"
        "           'sure', 'ignored', 'early', 'decided', 'linked', 'deep', 'spelt', 'tables_of']\n"
        "import os\nfrom trialbook._helper import optional\n"
        "try:\n    import fastsum\nexcept ImportError:\n    fastsum = None\n"
        "try:\n    import flagkit\n    HAS_FLAG = True\nexcept ImportError:\n    HAS_FLAG = False\n"
        "try:\n    from replkit import replaced\nexcept ImportError:\n"
        "    def replaced(*args):\n        raise ImportError('replkit is needed')\n"
        "def plain(path):\n    import sheetkit\n    return sheetkit.open(path)\n"
        "def open_sheet(path, engine='sheetkit'):\n    return optional(engine)\n"
        "def sum_up(rows):\n    if fastsum is not None:\n        return fastsum.of(rows)\n    return sum(rows)\n"
        "def flagged():\n    if not HAS_FLAG:\n        raise ImportError('flagkit')\n"
        "def checked():\n    from importlib.util import find_spec\n    if find_spec('checkkit') is None:\n"
        "        raise ImportError('checkkit')\n"
        "def asked():\n    kit = optional('askkit', errors='ignore')\n    if kit is None:\n"
        "        raise ImportError('askkit')\n"
        "def late():\n    from trialbook import late_part\n"
        "def either(text='x'):\n    try:\n        import firstkit as kit\n    except ImportError:\n"
        "        import secondkit as kit\n    return kit\n"
        "def sure(path):\n    for name in ('firstkit', 'secondkit'):\n        try:\n            return optional(name)\n"
        "        except ImportError:\n            pass\n    raise ImportError('neither')\n"
        "def ignored():\n    import contextlib\n    with contextlib.suppress(ImportError):\n        import nothingkit\n"
        "    try:\n        import nothingkit\n    except ImportError:\n        pass\n"
        "def early(rows):\n    if len(rows) > 1:\n        return rows\n    import rowkit\n"
        "def decided(path, mode='r', fast=None):\n    if fast is not None and mode == 'w':\n        import fastkit\n"
        "    if isinstance(path, str) and hasattr(path, 'lower'):\n        return path\n    import pathkit\n"
        "def linked():\n    import seedlink\n    return seedlink\n"
        "def deep(n):\n    return _deeper(0) if n else None\n"
        "def _deeper(n):\n    return _deepest()\ndef _deepest():\n    return optional('deepkit')\n"
        "def spelt():\n    name = f\"{'spelt'}kit\"\n    return __import__(name)\n"
        "def tables_of(path):\n    return optional('trialbook.hidden')\n"),
    "trialbook/late_part.py": "from trialbook._helper import optional\ntopkit = optional('topkit')\n",
    "trialbook/hidden.py": "rows = 1\n",
    "trialbook/stores.py": (
        "class Store:\n    _engines = None\n    def __init__(self, path, engine=None):\n"
        "        if engine is None:\n            engine = 'lines'\n        self._reader = ENGINES[engine](path)\n"
        "class _Lines:\n    def __init__(self, path):\n        self.path = path\n"
        "class _Grid(_Lines):\n    def __init__(self, path):\n        super().__init__(path)\n        import gridkit\n"
        "class _Cube(_Grid):\n    pass\n"
        "ENGINES = {'lines': _Lines, 'grid': _Grid, 'cube': _Cube}\n"
        "def pick(kind):\n    raise_for = {'a': _Grid, 'b': _Cube}\n    return raise_for[str(kind)]('x')\n"),
    "trialbook/tables.py": (
        "from __future__ import annotations\nfrom trialbook._helper import optional\n"
        "from typing import TYPE_CHECKING\nif TYPE_CHECKING:\n    from trialbook.plots import Plot\n"
        "    import typingkit\n"
        "class Base:\n    def to_grid(self, path: str) -> None:\n        optional('gridkit')\n"
        "    @property\n    def style(self):\n        import stylekit\n        return stylekit\n"
        "class Table(Base):\n    @classmethod\n    def blank(cls) -> Table:\n        return cls()\n"
        "    def sorted(self, key=None) -> Table | None:\n        return self\n"
        "    def plot(self) -> Plot:\n        from trialbook.plots import Plot\n        return Plot(self)\n"
        "    def __enter__(self):\n        return self\n    def __exit__(self, *args):\n        return None\n"
        "def read(path) -> Table:\n    return Table()\n"
        "def chain(table):\n    return table\n"),
    "trialbook/plots.py": (
        "class Plot:\n    def __init__(self, table):\n        self.table = table\n"
        "    def show(self):\n        return self._draw('screen')\n"
        "    def _draw(self, where):\n        if where == 'screen':\n            import screenkit\n"
        "        elif where == 'page':\n            import pagekit\n"),
}
# line -> the modules that are said to be needed (as the note names them)
CALLS: dict[str, str] = {
    "tb.plain('a')": "sheetkit", "tb.open_sheet('a')": "sheetkit", "tb.open_sheet('a', engine='otherkit')": "otherkit",
    "tb.sum_up([1])": "", "tb.flagged()": "flagkit", "tb.checked()": "checkkit", "tb.asked()": "askkit",
    "tb.replaced()": "replkit", "tb.late()": "topkit", "tb.either()": "firstkit or secondkit",
    "tb.sure('p')": "firstkit or secondkit", "tb.ignored()": "", "tb.early([1, 2])": "", "tb.decided('p')": "",
    "tb.decided('p', 'w', 1)": "fastkit", "tb.linked()": "", "tb.deep(2)": "deepkit", "tb.spelt()": "speltkit",
    "tb.tables_of('x')": "", "tb.store.Store('p')": "", "tb.store.Store('p', engine='grid')": "gridkit",
    "tb.store.Store('p', engine='cube')": "gridkit", "tb.store.pick('a')": "gridkit",
    "tb.read('a').to_grid('b')": "gridkit", "tb.Table.blank().sorted().to_grid('b')": "gridkit",
    "table.style": "stylekit", "table.plot()": "", "table.plot().show()": "screenkit",
    "tb.chain(table).style": "stylekit",
    "with tb.Table() as t: t.to_grid('x')": "gridkit",
    "[tb.plain(x) for x in ()]": "", "sheet('x')": "sheetkit",
    "own.load('x')": "ownkit", "own.through('x')": "gridkit", "missing_name = len('x')": "",
}
HEAD = "import trialbook as tb\nimport own\nfrom trialbook import plain as sheet\ntable = tb.read('x')\n"
OWN = "import trialbook\ndef load(x):\n    import ownkit\ndef through(x):\n    return trialbook.read(x).to_grid(x)\n"


def laid_out(world: World) -> Path:
    """Install the library; what one of its extras asks for is here, in an old version, and another's to be had."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    wheels = world.wheels
    wheels.install(wheels.add("trialbook", "3", LIBRARY, extras={
        "all": ["sheet-kit>=2", "seedlink>=1", "gridkit>=3", "stylekit"], "sheets": ["sheet-kit>=2"],
        "grid": ["gridkit>=3"]}), site_of(lab))
    wheels.install(wheels.add("seedlink", "1.5"), site_of(lab))
    wheels.add("sheet-kit", "2.1", {"sheetkit.py": "def open(path): return path\n"})
    wheels.add("gridkit", "3.2")
    write(world.project / "own.py", OWN)
    return lab


def said_of(document: dict, lines: int) -> dict[int, str]:
    """Map lines to what the notes say that they need and that is not here."""
    found: dict[int, list[str]] = {}
    for note in (n["message"] for n in document["notes"] if n["note"] == "call-needs"):
        match = re.search(r"line (\d+)(?: \(lines? ([\d, ]+) too\))?: \S+ needs (.*?), which (is|are) (not )?here",
                          note)
        assert match, note
        for line in [match[1], *(match[2].split(", ") if match[2] else [])]:
            found.setdefault(int(line) - lines, []).extend([match[3]] if match[5] else [])
    return {line: ", ".join(names) for line, names in found.items()}


@pytest.mark.parametrize("form", ["script", "notebook", "--no-run"])
def test_calls_of_a_file(world: World, validate, form: str) -> None:
    """What is said of each line is so: an import fails in it, or none does; in all forms of the question."""
    lab = laid_out(world)
    code = HEAD + "\n".join(CALLS) + "\n"
    path = write(world.project / "trial.py", code)
    if form == "notebook":
        kernelspec(world.home, "lab", [python_of(lab), "-m", "x"])
        path = world.project / "trial.ipynb"
        cells = [{"cell_type": "code", "source": "%matplotlib inline\n" + code}]
        path.write_text(json.dumps({"cells": cells, "metadata": {"kernelspec": {"name": "lab"}}, "nbformat": 4}))
    document = world.answer("why", path.name, *(["--no-run"] if form == "--no-run" else []))
    validate(document)
    said = said_of(document, HEAD.count("\n") + (form == "notebook"))
    assert {line: said.get(n, "") for n, line in enumerate(CALLS, 1)} == CALLS
    assert any("seedlink, which is here: seedlink 1.5" in n["message"] for n in document["notes"])
    if form != "script":
        return
    for line, needs in CALLS.items():
        done = run([python_of(lab), "-c", HEAD + line], cwd=world.project, env=world.env)
        assert bool(re.search("ImportError|ModuleNotFoundError", done.stderr)) == bool(needs), (line, done.stderr)
    assert document["status"] == "ok" and document["exit"] == 0, "nothing of it is an import of the file"


def test_what_a_note_offers_mends(world: World) -> None:
    """The line of a note is typed as it stands: the extra's requirement comes, and the note is gone."""
    lab = laid_out(world)
    write(world.project / "trial.py", "import trialbook\ntrialbook.plain('x')\ntry:\n    trialbook.spelt()\n"
                                      "except ImportError:\n    pass\n")
    notes = [n for n in world.answer("why", "trial.py")["notes"] if n["note"] == "call-needs"]
    assert len(notes) == 1 and "under its extra sheets" in notes[0]["message"], "and none of what is caught"
    asks = LIBRARY["trialbook/sheets.py"].split("\n").index("    import sheetkit") + 1
    assert f"{site_of(lab)}/trialbook/sheets.py, line {asks}," in notes[0]["message"]
    line = notes[0]["message"].rpartition("To put it here: ")[2]
    assert line == f"kalyx put 'sheet-kit>=2' --at script:{world.project}/trial.py"
    put = world.kalyx("put", "sheet-kit>=2", "--at", f"script:{world.project}/trial.py")
    assert put.returncode == 0, put.stdout + put.stderr
    after = [n["message"] for n in world.answer("why", "trial.py")["notes"]]
    assert len(after) == 1 and after[0].endswith("needs sheetkit, which is here: sheet-kit 2.1.")
    assert run([python_of(lab), "trial.py"], cwd=world.project, env=world.env).returncode == 0
    world.wheels.add("sheet-kit", "1.0", {"sheetkit.py": "def open(path): return path\n"})
    carry_out({"do": "Install it.", "kind": "command", "cwd": None, "env": {}, "edits": [], "moves": [],
               "argv": [python_of(lab), "-m", "pip", "install", "-q", "sheet-kit==1.0"]}, "command", world)
    old = [n["message"] for n in world.answer("why", "trial.py")["notes"]]
    assert len(old) == 1 and "which is here as sheet-kit 1.0: too old" in old[0]


def test_addresses_and_endings(world: World) -> None:
    """What hangs on the form of a path or an address is told by the table, and by the driver's own code."""
    lab = world.venv("lab")
    world.activate(lab)
    dialects = {
        "sqlalchemy/__init__.py": "from .create import create_engine\n",
        "sqlalchemy/create.py": "def create_engine(url, **kw):\n    return _strategies[url](kw)\n",
        "sqlalchemy/dialects/__init__.py": "", "sqlalchemy/dialects/seedsql/base.py": "class D: pass\n",
        "sqlalchemy/dialects/seedsql/__init__.py": (
            "from . import base, seeddriver, slowdriver\nbase.dialect = dialect = seeddriver.dialect\n"),
        "sqlalchemy/dialects/seedsql/seeddriver.py": (
            "class Fast:\n    @classmethod\n    def import_dbapi(cls):\n        import seeddb\n        return seeddb\n"
            "dialect = Fast\n"),
        "sqlalchemy/dialects/seedsql/slowdriver.py": (
            "class Slow:\n    @classmethod\n    def dbapi(cls):\n        return __import__('slowdb')\n"
            "dialect = Slow\n")}
    world.wheels.install(world.wheels.add("SQLAlchemy", "2", dialects), site_of(lab))
    write(world.project / "trial.py", (
        "from sqlalchemy import create_engine\ncreate_engine('seedsql://u@h/x')\ncreate_engine('seedsql+slowdriver://h')\n"
        "create_engine('seedsql://h', creator=print)\ncreate_engine(input())\ncreate_engine('nosuch://h')\n"))
    assert said_of(world.answer("why", "trial.py"), 0) == {2: "seeddb", 3: "slowdb"}


def test_odd_code_is_read_to_its_end(world: World) -> None:
    """Depth beyond measure, rings and calls without end cost their own answer alone."""
    lab = laid_out(world)
    ring = "from oddbook.b import x\nfrom oddbook.a import y\ndef f(n=1):\n    return g(n)\n"
    ring += "def g(n):\n    return f(n + 1)\n"
    tries = "kit = None\n" + "try:\n    import oddkit as kit\nexcept ImportError:\n    pass\n" * 1500
    world.wheels.install(world.wheels.add("oddbook", "1", {
        "oddbook/__init__.py": "def __getattr__(name):\n    return print\n", "oddbook/a.py": ring,
        "oddbook/b.py": "x = y = 1\nif x > 1:\n    class C(C):\n        pass\n",
        "oddbook/tries.py": tries + "def h():\n    kit.x\n",
        "oddbook/deep.py": "def d():\n    return " + "(" * 90 + "1" + ")" * 90 + " + 1" * 300 + "\n"}), site_of(lab))
    write(world.project / "trial.py", (
        "import trialbook, oddbook.a, oddbook.b, oddbook.deep, oddbook.tries\noddbook.a.f() if 0 else 0\n"
        "oddbook.tries.h\noddbook.deep.d()\noddbook.nothing()\nx = 1" + " + 1" * 400 + "\nif x == 0:\n    pass\n"
        + "".join(f"elif x == {n}:\n    pass\n" for n in range(300)) + "trialbook.plain('x')\n"))
    done = world.kalyx("why", "trial.py")
    assert "Traceback" not in done.stderr, done.stderr
    assert "trialbook.plain(...) needs sheetkit" in done.stdout or "calls more than is followed" in done.stdout
