"""Each check on hand-built cases, with nothing run: where it speaks, and beside that where it must not."""

from __future__ import annotations

import pytest

from kalyx.core.facts.imports.case import Case
from kalyx.core.model import Place
from kalyx.core.verdicts.index import CHECKS
from kalyx.core.verdicts.judge_import import function_of
from kalyx.core.verdicts.reading.failure import read_failure
from tests.support.case import SITE, START, SUFFIX, absent, distribution, error, made_case

ELF = b"\x7fELF\x02\x01\x01" + bytes(9) + b"\x03\x00\x3e\x00" + bytes(44)  # 64-bit, x86-64
ARM = ELF[:18] + b"\xb7\x00" + ELF[20:]
SEED = distribution("seed", files={"seed/__init__.py": "import bark\n"}, requires=["bark>=2"])
WHOLE = distribution("seed", files={"seed/__init__.py": "from seed import _core\n", "seed/part.py": "x = 1\n"})
LEFT_OUT = {n: t for n, t in WHOLE.items() if not n.endswith("part.py")}
OLD_IMPORTER = distribution("seed", files={"seed.py": "import sys\nclass Finder:\n    def find_module(self, name):\n"
                                           "        return self\nsys.meta_path.append(Finder())\n"})
PARTS, APP = {"SITE/acme/core.py": ""}, distribution("app", requires=["acme-store"])

# cause or cause:function: (a case of it, a case that looks like it and is not)
CASES: dict[str, tuple[Case, Case]] = {
    "hidden-by-file": (
        made_case("json", {"START/json.py": ""}, origin="START/json.py"),
        made_case("json", {"START/notes.py": ""}, origin="LIB/json/__init__.py")),
    "hidden-by-path:hidden_by_path": (
        made_case("seed", {**SEED, "EXTRA/seed.py": ""}, origin="EXTRA/seed.py", path=["/extra", "LIB", "SITE"],
                  env={"PYTHONPATH": "/extra"}),
        made_case("seed", {**SEED, "EXTRA/other.py": ""}, origin="SITE/seed/__init__.py",
                  path=["/extra", "LIB", "SITE"],
                  env={"PYTHONPATH": "/extra"})),
    "hidden-by-user-site": (
        made_case("seed", {**SEED, "USER/seed/__init__.py": ""}, origin="USER/seed/__init__.py",
                  path=["LIB", "USER", "SITE"]),
        made_case("seed", {**SEED, "USER/other.py": ""}, origin="SITE/seed/__init__.py", path=["LIB", "USER", "SITE"])),
    "bytecode-stale": (
        made_case("old", {"SITE/old.pyc": b"\x00\x00\r\n"},
                  error("ImportError", "bad magic number in 'old': b'\\x00\\x00\\r\\n'")),
        made_case("old", {"SITE/old.py": "1/0"}, error("ZeroDivisionError", "division by zero", "SITE/old.py:1"))),
    "file-unreadable": (
        made_case("seed", SEED, error("PermissionError", f"[Errno 13] Permission denied: '{SITE}/seed/__init__.py'",
                                      path="SITE/seed/__init__.py")),
        made_case("seed", SEED, error("PermissionError", "[Errno 13] Permission denied: '/etc/shadow'",
                                      "SITE/seed/__init__.py:1"))),
    "foreign-platform": (
        made_case("seed._core", {**WHOLE, f"SITE/seed/_core{SUFFIX}": ARM, "BASE/bin/python3.11": ELF + b" Py_"},
                  error("ImportError", f"{SITE}/seed/_core{SUFFIX}: cannot open shared object file: No such file or "
                        "directory", path=f"SITE/seed/_core{SUFFIX}")),
        made_case("seed._core", {**WHOLE, f"SITE/seed/_core{SUFFIX}": ELF, "BASE/bin/python3.11": ELF + b" Py_"},
                  error("ImportError", f"{SITE}/seed/_core{SUFFIX}: undefined symbol: x",
                        path=f"SITE/seed/_core{SUFFIX}"))),
    "foreign-abi": (
        made_case("seed._core", {**WHOLE, "SITE/seed/_core.cpython-39-x86_64-linux-gnu.so": ELF},
                  absent("seed._core", "SITE/seed/__init__.py:1")),
        made_case("seed._core", WHOLE, absent("seed._core", "SITE/seed/__init__.py:1"))),
    "metadata-only": (
        made_case("seed", {n: t for n, t in SEED.items() if "dist-info" in n}, absent("seed")),
        made_case("seed", {}, absent("seed"))),
    "file-corrupt": (
        made_case("seed", {**WHOLE, "SITE/seed-1.0.dist-info/RECORD": "seed/__init__.py,sha256=AAAA,400\n",
                           "SITE/seed/__init__.py": "def f(:\n"},
                  error("SyntaxError", "invalid syntax", "SITE/seed/__init__.py:1", line=1)),
        made_case("seed", WHOLE, error("ValueError", "no", "SITE/seed/__init__.py:1"))),
    "files-missing:files_missing": (
        made_case("seed.part", LEFT_OUT, absent("seed.part")),
        made_case("seed.gone", WHOLE, absent("seed.gone"))),
    "files-missing:not_whole": (
        made_case("seed", LEFT_OUT, error("ValueError", "no", "SITE/seed/__init__.py:1")),
        made_case("seed", WHOLE, error("ValueError", "no", "SITE/seed/__init__.py:1"))),
    "mixed-install:mixed_install": (
        made_case("seed", {**WHOLE, "SITE/seed-1.0.dist-info/RECORD": "seed/__init__.py,sha256=AAAA,400\n"},
                  error("AttributeError", "x", "SITE/seed/__init__.py:1")),
        made_case("seed", WHOLE, error("AttributeError", "x", "SITE/seed/__init__.py:1"))),
    "mixed-install:interrupted": (
        made_case("seed", {"SITE/~eed/__init__.py": ""}, absent("seed")),
        made_case("seed", {"SITE/~other/__init__.py": ""}, absent("seed"))),
    "mixed-install:two_installs": (
        made_case("seed", {**SEED, **distribution("seed", "2.0")},
                  error("AttributeError", "x", "SITE/seed/__init__.py:1")),
        made_case("seed", SEED, error("AttributeError", "x", "SITE/seed/__init__.py:1"))),
    "version-conflict": (
        made_case("seed", {**SEED, **distribution("bark", "1.0")},
                  error("ImportError", "cannot import name 'x' from 'bark' (/b)", "SITE/seed/__init__.py:1",
                        name="bark")),
        made_case("seed", {**SEED, **distribution("bark", "2.0")},
                  error("ImportError", "cannot import name 'x' from 'bark' (/b)", "SITE/seed/__init__.py:1",
                        name="bark"))),
    "namespace-split": (
        made_case("seed", {"START/seed/notes.txt": ""}, error(
            "ImportError", "cannot import name 'x' from 'seed' (unknown location)", name="seed"), name="x"),
        made_case("seed", SEED, error("ImportError", f"cannot import name 'x' from 'seed' ({SITE}/seed/__init__.py)",
                                      name="seed"), name="x")),
    "stdlib-not-built": (made_case("sqlite3", {"LIB/sqlite3/__init__.py": "import _sqlite3\n"},
                                   absent("_sqlite3", "LIB/sqlite3/__init__.py:1")),
                         made_case("_nothing", {}, absent("_nothing"))),
    "stdlib-removed": (made_case("distutils", {}, absent("distutils"), version="3.12.1"),
                       made_case("distutils", {}, absent("distutils"))),
    "stdlib-not-yet": (made_case("tomllib", {}, absent("tomllib"), version="3.10.4"),
                       made_case("tomllib", {}, absent("tomllib"))),
    "extra-absent": (
        made_case("seed", {**SEED, **distribution("seed", files={"seed/__init__.py": "import bark\n"},
                                                  requires=["bark>=2; extra == 'all'"], extras=["all"])},
                  absent("bark", "SITE/seed/__init__.py:1")),
        made_case("seed", SEED, absent("bark", "SITE/seed/__init__.py:1"))),
    "site-off": (
        made_case("seed", SEED, absent("seed"), path=["LIB"], flags={"no_site": 1}),
        made_case("seed", {}, absent("seed"), path=["LIB"], flags={"no_site": 1})),
    "dependency-absent:portion_absent": (
        made_case("app", {**PARTS, **APP}, absent("acme.store", "SITE/app/__init__.py:1")),
        made_case("app", {**PARTS, **distribution("app")}, absent("acme.store", "SITE/app/__init__.py:1"))),
    "dependency-absent:dependency_absent": (
        made_case("seed", SEED, absent("bark", "SITE/seed/__init__.py:1")),
        made_case("bark", {}, absent("bark"))),
    "link-broken": (
        made_case("mine", {"SITE/mine.pth": "/home/ada/gone/mine\n"}, absent("mine")),
        made_case("mine", {"SITE/mine.pth": "/home/ada/lab\n"}, absent("mine"))),
    "env-version-skew": (
        made_case("seed", {"LAB/lib/python3.9/site-packages/seed/__init__.py": ""}, absent("seed")),
        made_case("seed", {"LAB/lib/python3.9/site-packages/other/__init__.py": ""}, absent("seed"))),
    "own-code-unreachable:one_deeper": (
        made_case("mine", {"START/mine/mine/__init__.py": "x = 1\n"}, error(
            "ImportError", "cannot import name 'x' from 'mine' (unknown location)", name="mine"), name="x"),
        made_case("mine", {"START/mine/other/__init__.py": "x = 1\n"}, error(
            "ImportError", "cannot import name 'x' from 'mine' (unknown location)", name="mine"), name="x")),
    "own-code-unreachable:own_code_unreachable": (
        made_case("mine", {"START/src/mine/__init__.py": "", "START/pyproject.toml": ""}, absent("mine")),
        made_case("mine", {"START/src/mine.txt": ""}, absent("mine"))),
    "pip-absent": (made_case("pip", {}, absent("pip"), path=["LIB", "/nowhere"]),
                   made_case("pop", {}, absent("pop"))),
    "user-site-off": (
        made_case("seed", {"USER/seed/__init__.py": ""}, absent("seed"), flags={"no_user_site": 1}),
        made_case("seed", {"USER/other/__init__.py": ""}, absent("seed"), flags={"no_user_site": 1})),
    "base-site-off": (
        made_case("seed", {"BASESITE/seed/__init__.py": ""}, absent("seed")),
        made_case("seed", {"BASESITE/seed/__init__.py": ""}, absent("seed"), base=True)),
    "installed-elsewhere:in_target_folder": (
        made_case("seed", distribution("seed", site="START/vendor"), absent("seed")),
        made_case("seed", {"START/vendor/seed-1.0.dist-info/METADATA": "Name: seed\nVersion: 1.0\n"}, absent("seed"))),
    "installed-elsewhere:installed_elsewhere": (
        made_case("seed", {"OTHER/seed/__init__.py": ""}, absent("seed")),
        made_case("seed", {"OTHER/sea/__init__.py": ""}, absent("seed"))),
    "name-differs:name_differs": (made_case("sklearn", {}, absent("sklearn")),
                                  made_case("sprocket", {}, absent("sprocket"))),
    "name-differs:other_project": (
        made_case("jwt", distribution("jwt", files={"jwt/__init__.py": ""}),
                  error("AttributeError", "module 'jwt' has no attribute 'encode'", "START/run.py:2", name="encode")),
        made_case("jwt", distribution("PyJWT", files={"jwt/__init__.py": ""}),
                  error("AttributeError", "module 'jwt' has no attribute 'encode'", "START/run.py:2", name="encode"))),
    "name-misspelt": (made_case("seeds", SEED, absent("seeds")), made_case("sprocket", SEED, absent("sprocket"))),
    "not-installed": (made_case("sprocket", {}, absent("sprocket")),
                      made_case("seed", SEED, absent("bark", "SITE/seed/__init__.py:1"))),
    "python2-source:neighbour_by_plain_name": (
        made_case("seed", {**SEED, "SITE/seed/bark.py": ""}, absent("bark", "SITE/seed/__init__.py:1")),
        made_case("seed", SEED, absent("bark", "SITE/seed/__init__.py:1"))),
    "python2-source:python2_source": (
        made_case("old", {"SITE/old.py": "print 'x'\n"}, error(
            "SyntaxError", "Missing parentheses in call to 'print'. Did you mean print(...)?", "SITE/old.py:1",
            line=1)),
        made_case("old", {"SITE/old.py": "x = (\n"},
                  error("SyntaxError", "'(' was never closed", "SITE/old.py:1", line=1))),
    "python-too-old": (
        made_case("new", {"SITE/new.py": "match x:\n"}, error("SyntaxError", "invalid syntax", "SITE/new.py:1", line=1),
                  version="3.9.1"),
        made_case("new", {"SITE/new.py": "match x y:\n"},
                  error("SyntaxError", "invalid syntax", "SITE/new.py:1", line=1))),
    "python-too-new": (
        made_case("old", {"SITE/old.py": "from collections import Mapping\n", "LIB/collections/__init__.py": ""}, error(
            "ImportError", "cannot import name 'Mapping' from 'collections' (/l)", "SITE/old.py:1", name="collections"),
            loaded={"collections": "LIB/collections/__init__.py"}),
        made_case("old", {"SITE/old.py": "from collections import Nothing\n", "LIB/collections/__init__.py": ""}, error(
            "ImportError", "cannot import name 'Nothing' from 'collections' (/l)", "SITE/old.py:1", name="collections"),
            loaded={"collections": "LIB/collections/__init__.py"})),
    "binary-mismatch": (
        made_case("seed", WHOLE, error("ValueError", "numpy.dtype size changed, may indicate binary incompatibility. "
                                       "Expected 96 from C header, got 88 from PyObject", "SITE/seed/__init__.py:1")),
        made_case("seed", WHOLE, error("ValueError", "the size changed", "SITE/seed/__init__.py:1"))),
    "library-missing": (
        made_case("seed", WHOLE, error("ImportError",
                                       "libGL.so.1: cannot open shared object file: No such file or directory",
                                       "SITE/seed/__init__.py:1")),
        made_case("seed", WHOLE, error("ImportError", "libGL is what I would like", "SITE/seed/__init__.py:1"))),
    "symbol-missing": (
        made_case("seed", {**WHOLE, f"SITE/seed/_core{SUFFIX}": ELF}, error(
            "ImportError", f"{SITE}/seed/_core{SUFFIX}: undefined symbol: gsl_x", "SITE/seed/__init__.py:1",
            path=f"SITE/seed/_core{SUFFIX}")),
        made_case("seed", WHOLE, error("ImportError", "undefined is not a symbol", "SITE/seed/__init__.py:1"))),
    "circular-import": (
        made_case("a", {"START/a.py": "from b import y\nx = 1\n", "START/b.py": "from a import x\n"}, error(
            "ImportError",
            f"cannot import name 'x' from partially initialized module 'a' (most likely due to a circular "
            f"import) ({START}/a.py)", "START/a.py:1", "START/b.py:1", name="a")),
        made_case("a", {"START/a.py": "x = 1\n"},
                  error("ImportError", f"cannot import name 'y' from 'a' ({START}/a.py)", name="a"))),
    "relative-import-alone": (
        made_case("run", {"START/pkg/__init__.py": "", "START/pkg/run.py": "from . import part\n"}, error(
            "ImportError", "attempted relative import with no known parent package", "START/pkg/run.py:1"),
            asked=[Place(f"{START}/pkg/run.py", 1, guard="file")]),
        made_case("run", {}, error("ImportError", "no parents were found", "START/pkg/run.py:1"))),
    "python-too-new:legacy_importer": (
        made_case("seed.moves", OLD_IMPORTER, absent("seed.moves"), version="3.12.1"),
        made_case("seed.moves", OLD_IMPORTER, absent("seed.moves"), version="3.11.9")),
    "submodule-absent:dropped_module": (
        made_case("pkg_resources", distribution("setuptools", "84"), absent("pkg_resources")),
        made_case("pkg_resources", {}, absent("pkg_resources"))),
    "submodule-absent:submodule_absent": (
        made_case("seed.gone", WHOLE, absent("seed.gone")), made_case("seed", {}, absent("seed"))),
    "attribute-absent": (
        made_case("seed", WHOLE, error("ImportError", f"cannot import name 'y' from 'seed' ({SITE}/seed/__init__.py)",
                                       name="seed"), name="y", loaded={"seed": "SITE/seed/__init__.py"}),
        made_case("seed", WHOLE, error("ValueError", "no y", "SITE/seed/__init__.py:1"))),
    "crash": (made_case("seed", WHOLE, outcome="crash"), made_case("seed", WHOLE, outcome="hang")),
    "hang": (made_case("seed", WHOLE, outcome="hang"), made_case("seed", WHOLE, outcome="crash")),
    "hidden-by-path:stdlib_hidden": (
        made_case("seed", {**WHOLE, "EXTRA/random.py": ""}, error("ValueError", "no", "SITE/seed/__init__.py:1"),
                  loaded={"random": "EXTRA/random.py"}, path=["/extra", "LIB", "SITE"], env={"PYTHONPATH": "/extra"}),
        made_case("seed", {**WHOLE, "EXTRA/random.py": ""}, error("ValueError", "no", "SITE/seed/__init__.py:1"),
                  loaded={"random": "LIB/random.py"}, path=["/extra", "LIB", "SITE"], env={"PYTHONPATH": "/extra"})),
    "layer-leak": (
        made_case("seed", {"OTHER/seed/__init__.py": "",
                           "SITE/more.pth": "/home/ada/envs/other/lib/python3.11/site-packages\n",
                           "/home/ada/envs/other/pyvenv.cfg": "home = /opt/py/bin\n"},
                  origin="OTHER/seed/__init__.py", path=["LIB", "SITE", "OTHER"]),
        made_case("seed", {"EXTRA/seed/__init__.py": "", "SITE/more.pth": "/extra\n"}, origin="EXTRA/seed/__init__.py",
                  path=["LIB", "SITE", "/extra"])),
    "raises": (made_case("seed", WHOLE, error("ValueError", "no", "SITE/seed/__init__.py:1")),
               made_case("seed", WHOLE, outcome="hang")),
}


def test_each_has_its_case() -> None:
    """No check of an import is without one."""
    named = {f"{c.cause}:{c.function}" for c in CHECKS}
    assert {n for n in named if n not in CASES and n.partition(":")[0] not in CASES} == set()


@pytest.mark.parametrize("name", CASES)
def test_cause_and_near_miss(name: str) -> None:
    """It is found in its case, and not in the one that is like it."""
    cause, _, function = name.partition(":")
    check = function_of(next(c for c in CHECKS if c.cause == cause and function in ("", c.function)))
    for case, expected in zip(CASES[name], (cause, None), strict=True):
        found = check(case, read_failure(case) if case.obs.outcome == "fails" else None)
        assert (found.cause if found else None) == expected, found
