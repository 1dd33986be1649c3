"""Parts that packages dropped or brought: the line as it has to be now, or the version that has them."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path

import pytest
from packaging.requirements import Requirement

from kalyx.core.model import Place
from kalyx.core.tables import import_names
from kalyx.core.verdicts.causes.absent.moved_parts import _line_now
from tests.support.build import World, carry_out, run, site_of, write

LINES = [  # the part, what it is now, the line, the line as it has to be
    ("a.b", "c", "import a.b", "import c"), ("a.b", "c.d", "import a.b as x", "import c.d as x"),
    ("a.b", "c", "import a.b.inner", "import c.inner"), ("a.b", "b", "from a import b", "import b"),
    ("a.b", "c", "from a import b", "import c as b"), ("a.b", "c.b", "from a import b as x",
    "from c import b as x"),
    ("a.b", "a", "from a.b import one, two as t", "from a import one, two as t"),
    ("a.b", "a", "from a.b import *", "from a import *"), ("a.b", "c", "from a import b, other", None),
    ("a.b", "c", "import a.b, os", None), ("a.b", "c", "from .a import b", None),
    ("a:n", "a:m", "from a import n", "from a import m"), ("a:n", "c.d:n", "from a import n as k",
    "from c.d import n as k"),
    ("a:n", "a:m", "from a import n, o", None), ("a:n", "a:m", "x = a.n(1) + a.n(2)", "x = a.m(1) + a.m(2)"),
    ("a:n", "a:m", "x = al.n", "x = al.m"), ("a:float", "builtins:float", "x = a.float(3)", "x = float(3)"),
    ("a:n", "c:m", "x = a.n", None), ("a:n", "a:m", "def f(x=a.n):", "def f(x=a.m):"), ("a:n", "a:m",
    "x = a.name", None),
    ("a:n", "a:m", "x = a.n + b.n", None),
]


@pytest.mark.parametrize(("part", "now", "line", "expected"), LINES)
def test_lines(part: str, now: str, line: str, expected: str | None) -> None:
    """Imports and uses in every form; where more than the part would change, the person does it."""
    assert _line_now(Place("f.py", 1, text=line), part, now) == expected


def test_table() -> None:
    """Each entry names a module, versions that exclude others, and something else to import."""
    content = json.loads((Path(import_names.__file__).parent / "moved_names.json").read_text())["moved"]
    assert len(content) > 100
    for part, (versions, now) in content.items():
        module, _, name = part.partition(":")
        assert all(p.isidentifier() for p in module.split(".")) and (not name or name.isidentifier()), part
        specifier = list(Requirement(versions).specifier)
        assert len(specifier) == 1 and specifier[0].operator in ("<", ">="), part
        assert now != part and all(p.isidentifier() for p in now.replace(":", ".").split(".") if now), part
        assert not now or now.startswith("builtins:") or (":" in now) == bool(name) or module != now, part


# what it is: (package, its files in the new version, the person's line, the line after the first remedy)
KIT: dict[str, tuple[str, Mapping[str, str], str, str]] = {
    "module of another package": ("scikit-learn", {"sklearn/externals/__init__.py": ""},
                                  "from sklearn.externals import joblib", "import joblib"),
    "module that was renamed": ("scikit-learn", {"sklearn/__init__.py": "",
    "sklearn/model_selection.py": "split = 1\n"},
                                "from sklearn.cross_validation import split",
                                "from sklearn.model_selection import split"),
    "names in the package itself": ("moviepy", {"moviepy/__init__.py": "Clip = 1\n"},
                                    "from moviepy.editor import *", "from moviepy import *"),
    "a name that was renamed": ("Django", {"django/utils/encoding.py": "force_str = str\n"},
                                "from django.utils.encoding import force_text",
                                "from django.utils.encoding import force_str"),
    "a name of the standard library": ("Werkzeug", {"werkzeug/urls.py": ""},
    "from werkzeug.urls import url_quote as q",
                                       "from urllib.parse import quote as q"),
    "an attribute": ("numpy", {"numpy/__init__.py": "nan = 1\n"}, "import numpy as np; x = np.NaN",
                     "import numpy as np; x = np.nan"),
    "a builtin": ("numpy", {"numpy/__init__.py": ""}, "import numpy; x = numpy.float(1)",
    "import numpy; x = float(1)"),
}


@pytest.mark.parametrize("what", KIT)
def test_own_line(what: str, world: World, validate) -> None:
    """One's own line is written as it has to be now, and runs then; the older version is offered too."""
    name, files, line, after = KIT[what]
    world.activate(world.venv("lab", pip=True))
    lab = world.home / "envs" / "lab"
    world.wheels.install(world.wheels.add(name, "9.0", files), site_of(lab))
    world.wheels.install(world.wheels.add("joblib", "1.0"), site_of(lab))
    write(world.project / "recipe.py", f"# from the web\n{line}\nprint('done')\n")
    document = world.answer("why", "recipe")
    validate(document)
    first = document["result"]["imports"][0]["causes"][0]
    assert first["cause"] in ("submodule-absent", "attribute-absent"), first
    assert any("has it" in e["says"] and "table" in e["says"] for e in first["evidence"]), first
    carry_out(first["remedies"][0], "edit", world)
    assert (world.project / "recipe.py").read_text().splitlines()[1] == after
    done = run(["python", "recipe.py"], cwd=world.project, env=world.env)
    assert done.stdout == "done\n", done.stderr
    assert any(a.startswith(f"{name}<") for r in first["remedies"] for a in r["argv"] or ())


@pytest.mark.parametrize(("newer", "wanted"), [(True, "--upgrade"), (False, "MarkupSafe>=0.23,<2.1")])
def test_package_that_counts_on_it(newer: bool, wanted: str, world: World) -> None:
    """A package that asks: a newer one of it where there is one, else the last version that had the part."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    hidden = "globals()['soft_' + 'unicode'] = 1\n"  # so that reading the wheel alone does not tell
    for version, code in (("2.0", hidden), ("2.1", "soft_str = 1\n")):
        safe = world.wheels.add("MarkupSafe", version, {"markupsafe.py": code})
    old = world.wheels.add("pageseed", "1.0", {"pageseed.py": "from markupsafe import soft_unicode\n"},
                           ["MarkupSafe>=0.23"])
    if newer:
        world.wheels.add("pageseed", "2.0", {"pageseed.py": "from markupsafe import soft_str\n"},
        ["MarkupSafe"])
    for wheel in (safe, old):
        world.wheels.install(wheel, site_of(lab))
    first = world.answer("why", "pageseed")["result"]["imports"][0]["causes"][0]
    assert first["cause"] == "attribute-absent" and wanted in first["remedies"][0]["argv"], first
    carry_out(first["remedies"][0], "command", world)
    assert world.answer("why", "pageseed")["exit"] == 0


def test_part_that_came_later(world: World) -> None:
    """What only newer versions have is had by one."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    world.wheels.add("typing-extensions", "4.8", {"typing_extensions.py": "TypeAliasType = 1\n"})
    world.wheels.install(world.wheels.add("typing-extensions", "4.0", {"typing_extensions.py": ""}),
    site_of(lab))
    first = world.answer("why", "typing_extensions:TypeAliasType")["result"]["imports"][0]["causes"][0]
    carry_out(first["remedies"][0], "command", world)
    assert world.answer("why", "typing_extensions:TypeAliasType")["exit"] == 0
