"""Slips in the person's own code: names of files, dots, endings, what was pasted; each mended by what is said."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from tests.support.build import World, kernelspec, notebook, python_of, write


@dataclass(frozen=True)
class Slip:
    """Files of a project, what is asked of them, what must be answered, and how the first remedy mends it.

    A file that ends in .ipynb holds the code of one cell.
    """

    slug: str
    files: dict[str, str | bytes]
    ask: str
    cause: str
    says: str = ""
    remedy: str | None = "edit"
    wrote: str = ""  # what the mended file then holds
    wheels: Sequence[str] = ()

    def build(self, world: World) -> None:
        """Write the files; have one kernel, that of the environment."""
        lab = world.venv("lab", pip=True)
        world.activate(lab)
        kernelspec(world.home, "lab", [python_of(lab), "-m", "ipykernel_launcher", "-f", "{connection_file}"])
        for name in self.wheels:
            world.wheels.add(name)
        for name, text in self.files.items():
            if name.endswith(".ipynb"):
                assert isinstance(text, str)
                notebook(world.project / name, "lab", text)
            else:
                write(world.project / name, text)


def misnamed(file: str, code: str = "rows = 6\n", remedy: str = "edit", **more: object) -> Slip:
    """A file beside the code, whose name no import can mean."""
    return Slip(f"file called {file}", {file: code}, "bed_plan", "own-code-unreachable", says=file.split("/")[0],
                remedy=remedy, **more)  # type: ignore[arg-type]


PLAN: dict[str, str | bytes] = {"beds.py": "rows = 6\n\n\ndef plan():\n    return rows\n"}
SLIPS = [
    misnamed("bed-plan.py"), misnamed("bed plan.py"), misnamed("bed_plan.py.txt"), misnamed("bed_plan.PY"),
    misnamed("bed_plan (1).py"), misnamed("bed-plan/__init__.py"),
    misnamed("bed_plan.ipynb", "rows = 6", remedy="command"),
    Slip("notebook about a package", {"bedplan.ipynb": "import bedplan"}, "bedplan", "not-installed",
         remedy="command", wheels=["bedplan"]),
    Slip("ending in the import", {**PLAN, "m.py": "import beds.py\n"}, "m.py", "submodule-absent",
         wrote="import beds\n"),
    Slip("ending in the import, further inside", {**PLAN, "m.py": "import beds.py as b\n"}, "m", "submodule-absent",
         wrote="import beds as b\n"),
    Slip("function as a module", {**PLAN, "m.py": "import beds.plan as p\n"}, "m.py", "submodule-absent",
         wrote="from beds import plan as p\n"),
    Slip("function as a module, in a notebook", {**PLAN, "a.ipynb": "import beds.plan"}, "a.ipynb", "submodule-absent",
         wrote="from beds import plan"),
    Slip("letters swapped, and used further down", {**PLAN, "m.py": "import bdes\n\nbdes.plan()\n"}, "m.py",
         "name-misspelt",
         says="beds", wrote="import beds\n"),
    Slip("letters swapped, the same words twice", {**PLAN, "m.py": "# first import bdes\nx = 1\nimport bdes\n"}, "m.py",
         "name-misspelt", wrote="# first import bdes\nx = 1\nimport beds\n"),
    Slip("name misspelt", {**PLAN, "m.py": "from beds import plna\n"}, "m.py", "attribute-absent",
         wrote="from beds import plan\n"),
    Slip("name misspelt, in a notebook", {**PLAN, "a.ipynb": "from beds import plna"}, "a.ipynb", "attribute-absent",
         wrote="from beds import plan"),
    Slip("well-known name", {"m.py": "import beautifulsoup4 as soup\n"}, "m.py", "name-differs", says="bs4",
         remedy=None),
    Slip("the same words thrice in a notebook", {
        **PLAN, "a.ipynb": "x = 'import bdes'\nimport bdes\nprint('import bdes')"}, "a.ipynb", "name-misspelt",
        wrote="import bdes'\nimport beds\nprint("),
    # dots and folders
    Slip("dot in a notebook", {"nb/beds.py": "rows = 6\n", "nb/a.ipynb": "from .beds import rows"}, "nb/a.ipynb",
         "relative-import-alone", says="a notebook never is", wrote="from beds import rows"),
    Slip("dot alone in a notebook", {"beds.py": "", "a.ipynb": "from . import beds as b"}, "a.ipynb",
         "relative-import-alone",
         wrote="import beds as b"),
    Slip("two dots in a notebook", {"beds.py": "rows = 6\n", "nb/a.ipynb": "from ..beds import rows"}, "nb/a.ipynb",
         "relative-import-alone", remedy=None),
    Slip("dot in a script", {**PLAN, "m.py": "from .beds import (plan,\n                   rows)\n"}, "m.py",
         "relative-import-alone", says="no __init__.py", wrote="from beds import (plan,\n"),
    Slip("dot in a module", {**PLAN, "m.py": "from .beds import rows\n"}, "m", "relative-import-alone",
         wrote="from beds import rows\n"),
    Slip("folder without a start file, from beside it",
         {"src/beds.py": "rows = 6\n", "nb/a.ipynb": "from src.beds import rows"},
         "nb/a.ipynb", "own-code-unreachable", says="src/beds.py"),
    Slip("folder without a start file, from inside it",
         {"src/beds.py": "rows = 6\n", "src/m.py": "from src.beds import rows\n"},
         "src/m.py", "own-code-unreachable", says="src/beds.py"),
    # what Python only calls a syntax error
    Slip("tabs and blanks", {"m.py": "if 1:\n\tx = 1\n        y = 2\n"}, "m.py", "raises", says="with tabs here",
         remedy="command",
         wrote="        x = 1\n"),
    Slip("tabs for four blanks", {"m.py": "if 1:\n\tx = 1\n    y = 2\n"}, "m.py", "raises", remedy="command",
         wrote="    x = 1\n"),
    Slip("old Windows encoding", {"m.py": b"name = '\x84Rose\x93 \xe9'\n"}, "m.py", "raises", says="cp1252",
         remedy="command",
         wrote="\u201eRose\u201c \u00e9"),
    Slip("old encoding, further inside", {"m.py": "import beds\n", "beds.py": b"name = '\x81\xe9'\n"}, "m", "raises",
         says="beds.py, line 1, is not saved as UTF-8", remedy="command"),
    Slip("UTF-16", {"m.py": "import beds\n", "beds.py": "rows = 6\n".encode("utf-16")}, "m", "raises", says="beds.py",
         remedy="command"),
    Slip("UTF-16 of a script", {"m.py": "rows = 6\n".encode("utf-16")}, "m.py", "raises", says="UTF-16",
         remedy="command"),
    Slip("unfinished merge", {"m.py": "import os\n<<<<<<< HEAD\nimport json\n=======\nimport csv\n>>>>>>> topic\n"},
         "m.py",
         "raises", says="line 2, is in the middle of a merge", remedy=None),
    Slip("prompts", {"m.py": ">>> import json\n>>> for x in ():\n...     x\n...\n"}, "m.py", "raises", says="prompts",
         remedy="command",
         wrote="import json\nfor x in ():\n    x\n"),
    Slip("magic of notebooks", {"m.py": "import json\n%matplotlib inline\n"}, "m.py", "raises", says="line 2",
         wrote="# %matplotlib"),
    Slip("shell line of notebooks", {"m.py": "!ls -l\n"}, "m.py", "raises", says="only notebooks", wrote="# !ls -l\n"),
    Slip("command for the terminal", {"m.py": "pip install beds\n\nx = 1\n"}, "m.py", "raises", says="for the terminal",
         wrote="# pip install beds\n"),
    Slip("typographic quotes", {"m.py": "print(\u201crows\u201d)\n"}, "m.py", "raises", says="U+201C",
         wrote='print("rows")\n'),
    Slip("blank that is none", {"m.py": "x =\u00a01\n"}, "m.py", "raises", says="U+00A0", wrote="x = 1\n"),
    Slip("digit first", {"m.py": "import 2024_beds\n"}, "m.py", "raises", says="begins with a digit", remedy=None),
    Slip("web page", {"m.py": "<!DOCTYPE html>\n<html></html>\n"}, "m.py", "raises", says="web page", remedy=None),
    Slip("notebook under another name", {"beds.py": '{"cells": [], "metadata": {"a": null}}\n',
                                         "m.py": "import beds\n"}, "m",
         "raises", says="that of a notebook", remedy=None),
    Slip("plain mistake", {"m.py": "x = (1,\n"}, "m.py", "raises", says="is not valid in Python", remedy=None),
    Slip("quotes in a string, and no mistake there", {"m.py": "x = '\u201crows\u201d\n"}, "m.py", "raises",
         says="is not valid", remedy=None),
    # modules that have another name in this Python
    Slip("renamed since Python 2", {"m.py": "import ConfigParser\n\nx = ConfigParser.ConfigParser()\n"}, "m.py",
         "stdlib-removed",
         wrote="import configparser as ConfigParser\n"),
    Slip("renamed, with a name of its own", {"m.py": "import cPickle as pickle\n"}, "m.py", "stdlib-removed",
         wrote="import pickle as pickle\n"),
    Slip("renamed, something from it", {"a.ipynb": "from Queue import Empty"}, "a.ipynb", "stdlib-removed",
         wrote="from queue import Empty"),
    Slip("renamed part", {"m.py": "from email.MIMEText import MIMEText\n"}, "m.py", "stdlib-removed",
         wrote="from email.mime.text import MIMEText\n"),
    Slip("gone, and another in its place", {"m.py": "import commands\n"}, "m.py", "stdlib-removed", remedy=None),
    Slip("own module with a name that Python dropped", {"lib/parser.py": "rows = 6\n", "m.py": "import parser\n"},
         "m.py",
         "own-code-unreachable", says="lib/parser.py"),
    Slip("own module that is nowhere near", {"m.py": "from helpers import plan\n"}, "m.py", "not-installed",
         remedy=None),
]
