"""What texts tell of files without a tree, never less than it does: a large project need not be parsed whole."""

from __future__ import annotations

import json
import os
from pathlib import Path

import pytest

from kalyx.core.facts.source_code import needs
from kalyx.core.facts.source_code.needs import needs_as_data
from kalyx.core.facts.source_code.scan import Scan, scan_of_data, scans_as_data
from kalyx.core.machine.local import RealMachine
from kalyx.core.model import version_pair
from tests.answers.test_fit import CODE
from tests.answers.test_fit_code import SYNTAX
from tests.support.build import KALYX, World, run, write

# Imports as people write them, and as nobody does; what is not told from the text alone is parsed
IMPORTS = (
    "import a, b.c as d", "import a ; import b", "if x: import a", "try: import a\nexcept: pass", "\timport a\n",
    "import a  # why", "from a import b", "from a import (b, c as d)", "from a import (\n    b,  # one\n    c,\n)",
    "from a import *", "from . import a", "from .. import a", "from .b import c as d", "from.b import c",
    "from a import(b)", "from a.b import*", "x = 1; from a import b", "class A:\n    import b", "import a.b.c",
    "try:\n    import a\nexcept ImportError:\n    a = None\n", "try:\n    import a\nexcept ImportError:\n    raise\n",
    "try:\n    import a\nexcept ValueError:\n    pass\n", "try:\n    import a\n    f()\nexcept ImportError:\n    x\n",
    "try:\n    import a\n# c\n\n    from b import d\nexcept (OSError, ImportError) as e:\n    print(e)\nx = 1\n",
    "try:\n    import a\nexcept Exception:\n    if x:\n        raise\ny = 1\n", "def f():\n    import a\n",
    "try:\n    import a\nexcept ImportError: pass\nelse:\n    import b\n", "import os\nos.posix_openpt(1)",
    "from collections import Mapping", "import a if 0 else b",
)
# These only Python's own parser reads
ODD = (
    "import \\\n  a", "from a \\\n  import b", "from a . b import c", "import a . b", "from . . import a", "import é",
    "from a import é", "from a import \\\n  b", "import sys\nsys.path.append('x')", "__import__('a')",
    "import importlib\nimportlib.import_module('a')", "print 'x'", "from sys import path\npath.append('x')",
    "import string as s\ns.letters", "# /// script\n# dependencies = []\n# ///\n", "except_ = 1\n<<<<<<< HEAD\n",
)


def _scan(path: Path) -> Scan | None:
    return scan_of_data(json.loads(json.dumps(scans_as_data(RealMachine(), [str(path)], "")))[0])


def _less_than_the_tree(path: Path, scan: Scan) -> list[object]:
    """Return what the tree of a file shows and its text does not."""
    read = needs_as_data(RealMachine(), [str(path)], "")[0]
    seen = {(module, name) for module, name, _ in scan.imports}
    tried = seen - {(module, name) for module, name, is_tried in scan.imports if not is_tried}
    left: list[object] = [read["folders"], read["unread"], read["block"]] if any(
        (read["folders"], read["unread"], read["block"])) else []
    for module, name, line, guard, *_ in read["imports"]:
        if (module, name) not in seen and not module.startswith("."):
            left.append(("not seen", module, name, line))
        if (module, name) in tried and guard not in ("try", "typing"):
            left.append(("not tried", module, name, line))
    for version, is_oldest, what, line, _ in read["bounds"]:
        of_import = what.startswith("the standard library's") or tuple(what.rsplit(".", 1)) in seen
        if not of_import and not (is_oldest and version_pair(version) <= version_pair(scan.newest)):
            left.append((version, what, line, scan.newest))
    return left


def test_texts_tell_no_less(tmp_path: Path) -> None:
    """Every import, and every form of syntax, that a tree shows has been seen in the text."""
    library = Path(os.__file__).parent
    texts = [*IMPORTS, *ODD, *SYNTAX, *(code for code, _ in CODE.values())]
    files = [write(tmp_path / f"m{number}.py", text) for number, text in enumerate(texts)]
    files += [path for number, path in enumerate(sorted(library.rglob("*.py"))) if number % 60 == 0]
    scans = {path: _scan(path) for path in files}
    assert {p: left for p, scan in scans.items() if scan is not None and (left := _less_than_the_tree(p, scan))} == {}
    for text, path in zip(texts, files, strict=False):
        if text in IMPORTS or text in ODD:
            assert (scans[path] is None) == (text in ODD), text
    assert sum(scan is None for scan in scans.values()) < len(files) / 4, "most need no tree"


def _project(folder: Path) -> None:
    """Make a project of many files that mostly import the same, and some that say something else, late."""
    for number in range(320):
        write(folder / f"part{number // 40}" / f"m{number}.py",
              "import os, json\nfrom numpy import array\nfrom . import beside\nimport part0.m1\n"
              f"def f{number}(x):\n    import late_kit\n    return os.path.join(x, 'import prose')\n")
    write(folder / "part1" / "a_guarded.py", "try:\n    import guarded_kit\nexcept ImportError:\n    pass\n")
    write(folder / "part7" / "z_firm.py", "import guarded_kit\n")
    write(folder / "part3" / "z_said.py", '"""As in\n\nimport said_kit\n"""\nimport json\n')
    write(folder / "part5" / "z_match.py", "import json\nmatch json:\n    case 1:\n        pass\n")
    write(folder / "part6" / "z_gone.py", "import string\nprint(string.letters)\n")
    write(folder / "part6" / "z_old.py", "import json\nprint 'x'\n")
    write(folder / "part6" / "z_path.py", "import json, sys\nsys.path.append('/opt/kits')\n")
    write(folder / "part6" / "z_instead.py", "try:\n    import aa_kit\nexcept ImportError:\n    import bb_kit\n")
    write(folder / "tests" / "test_a.py", "import test_kit\nx = [y := 1, *z]\n")


def test_large_project_as_if_parsed_whole(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    """Of very many files few are parsed; what is needed is the same, and is said again from what is remembered."""
    from kalyx import api

    _project(world.project)
    environment = world.venv("shell")
    world.activate(environment)
    for name, value in world.env.items():
        monkeypatch.setenv(name, value)
    monkeypatch.chdir(world.project)

    def needed() -> dict[str, object]:
        answer = api.fit(".", only=[str(environment)])
        assert answer.python is not None
        return {"needs": [(n.module, n.distribution, n.optional, n.only_where, n.asked_by[0]) for n in answer.needs],
                "python": answer.python.specifier, "lacks": [x.because for x in answer.environments[0].lacks]}

    by_choice, again = needed(), needed()
    note = next(n["message"] for n in world.answer("fit", ".")["notes"] if n["note"] == "not-parsed")
    assert int(note.split()[0]) > 280, note
    monkeypatch.setattr(needs, "VERY_MANY", 10_000)
    assert by_choice == again == needed()
    names = {row[0] for row in by_choice["needs"]}  # type: ignore[attr-defined]
    assert {"numpy", "late_kit", "guarded_kit", "bb_kit", "test_kit"} <= names and "said_kit" not in names
    write(world.project / "part2" / "m81.py", "import new_kit\n")
    said = run([KALYX, "fit", "."], cwd=world.project, env=world.env).stdout
    assert "new_kit" in said
