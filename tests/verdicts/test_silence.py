"""Two accidents at once, on hand-built cases: each of two checks would speak, and one of them is heard."""

from __future__ import annotations

from collections.abc import Mapping

import pytest

from kalyx.core.facts.imports.case import Case
from kalyx.core.model import Finding, ObservedError
from kalyx.core.verdicts import explanations
from kalyx.core.verdicts.catalogue import CHECKS as SAID
from kalyx.core.verdicts.index import CHECKS
from kalyx.core.verdicts.judge_import import function_of, judge_import
from kalyx.core.verdicts.reading.failure import read_failure
from tests.support.case import SITE, SUFFIX, absent, distribution, error, made_case, placed
from tests.verdicts.test_causes import APP, ARM, CASES, ELF, LEFT_OUT, OLD_IMPORTER, PARTS, SEED, WHOLE

Files = Mapping[str, str | bytes]
RUN, START_FILE = "START/run.py:1", "SITE/seed/__init__.py"
CORE, CORE_OF_39 = f"SITE/seed/_core{SUFFIX}", "SITE/seed/_core.cpython-39-x86_64-linux-gnu.so"
ROWS, ROWS_OF_2 = "SITE/seed-1.0.dist-info/RECORD", "SITE/seed-2.0.dist-info/RECORD"
WRITTEN_OVER = "seed/__init__.py,sha256=AAAA,400\n"


def metadata(files: Files) -> Files:
    """Return what is left of a distribution when all of its code is gone."""
    return {n: t for n, t in files.items() if "dist-info" in n}


def lacks_name(name: str = "y", file: str = START_FILE, asker: str = RUN) -> ObservedError:
    """Return the exception for a name that the module `seed` has not."""
    return error("ImportError", f"cannot import name '{name}' from 'seed' ({placed(file)})", asker, name="seed")


def refused(file: str) -> ObservedError:
    """Return the exception for a file that may not be read."""
    return error("PermissionError", f"[Errno 13] Permission denied: '{placed(file)}'", path=file)


def half_made(*places: str) -> ObservedError:
    """Return the exception for a name that `seed` has not yet, at the end of a ring of places."""
    return error("ImportError", "cannot import name 'x' from partially initialized module 'seed' (most likely due to a "
                 f"circular import) ({SITE}/seed/__init__.py)", *places, name="seed")


def stale(module: str) -> ObservedError:
    """Return the exception for compiled code of another version."""
    return error("ImportError", f"bad magic number in '{module}': b'\\x00'")


def syntax(file: str, message: str = "Missing parentheses in call to 'print'. Did you mean print(...)?"
           ) -> ObservedError:
    """Return the exception for a first line that cannot be parsed."""
    return error("SyntaxError", message, f"{file}:1", line=1)


def lacking(files: Files, file: str = START_FILE, name: str = "y", **more: object) -> Case:
    """Return the case of a name that the module `seed` has not, beside another accident."""
    return made_case("seed", files, lacks_name(name, file), name=name, loaded={"seed": file},
                     **more)  # type: ignore[arg-type]


RING = distribution("seed", files={"seed/__init__.py": "from seed.part import y\nx = 1\n",
                                   "seed/part.py": "from seed import x\n"})
IN_A_RING = half_made("SITE/seed/__init__.py:1", "SITE/seed/part.py:1")
BARK, JWT = distribution("bark"), distribution("jwt", files={"jwt/__init__.py": "x = 1\n"})
ENCODE = error("AttributeError", "module 'jwt' has no attribute 'encode'", "START/run.py:2", name="encode")
LEARN, NEAR = distribution("scikit-learn", files={"sklearn/__init__.py": ""}), distribution("seedling")
TWICE = {**WHOLE, **metadata(distribution("seed", "2.0"))}
ELSEWHERE = {"OTHER/seed/__init__.py": ""}
OF_WINDOWS = {**WHOLE, "SITE/seed-1.0.dist-info/WHEEL": "Wheel-Version: 1.0\nTag: cp311-cp311-win_amd64\n"}
PYTHON: Files = {"BASE/bin/python3.11": ELF + b" Py_"}
FIRST = {"path": ["/extra", "LIB", "SITE"], "env": {"PYTHONPATH": "/extra"}}
SHUT = {"path": ["/extra", "LIB", "SITE"], "closed": ["/extra"]}
NO_SITE = {"path": ["LIB"], "flags": {"no_site": 1}}
NO_PIP = {"path": ["LIB", "/nowhere"]}
OLD = distribution("old", files={"old/__init__.py": "print 'x'\n"})
OF_312 = {"SITE/old-1.0.dist-info/METADATA": "Name: old\nVersion: 1.0\nRequires-Python: >=3.12\n"}

# check or cause, and the cause beside which it is silent: a case of both
PLANTED: dict[str, Case] = {
    "foreign-abi beside foreign-platform": made_case(
        "seed._core", {**WHOLE, **PYTHON, CORE_OF_39: ARM}, absent("seed._core", f"{START_FILE}:1")),
    "files-missing beside file-corrupt": lacking(
        {**LEFT_OUT, ROWS: WRITTEN_OVER + "seed/part.py,,\n", START_FILE: ""}, name="part"),
    "mixed-install beside file-corrupt": lacking({**WHOLE, ROWS: WRITTEN_OVER, START_FILE: ""}),
    "mixed-install beside files-missing": lacking({**WHOLE, ROWS: WRITTEN_OVER + "seed/y.py,,\n"}),
    "mixed-install beside metadata-only": made_case(
        "bark", {**BARK, "SITE/bark-1.0.dist-info/RECORD": "bark/__init__.py,sha256=AAAA,400\n", **metadata(SEED)},
        absent("seed", "SITE/bark/__init__.py:1")),
    "dependency-absent:portion_absent beside namespace-split": made_case(
        "app", {"START/acme/x.txt": "", **APP}, absent("acme.store", "SITE/app/__init__.py:1")),
    "dependency-absent:portion_absent beside metadata-only": made_case(
        "app", {**PARTS, **APP, **metadata(distribution("acme-extra", files={"acme/store/__init__.py": ""}))},
        absent("acme.store", "SITE/app/__init__.py:1")),
    "submodule-absent beside dependency-absent:portion_absent": made_case(
        "app", {**PARTS, **APP}, absent("acme.store", "SITE/app/__init__.py:1")),
    "metadata-only beside mixed-install:interrupted": made_case(
        "seed", {"SITE/~eed/__init__.py": "", **metadata(SEED)}, absent("seed")),
    "files-missing beside mixed-install:interrupted": made_case(
        "seed.part", {"SITE/~eed/__init__.py": "", **LEFT_OUT}, absent("seed.part")),
    "mixed-install beside foreign-abi": lacking(
        {**WHOLE, ROWS: WRITTEN_OVER, "SITE/seed/y.cpython-39-x86_64-linux-gnu.so": ELF}),
    "mixed-install:two_installs beside file-corrupt": lacking(
        {**TWICE, START_FILE: "", ROWS: WRITTEN_OVER, ROWS_OF_2: WRITTEN_OVER}),
    "mixed-install:two_installs beside files-missing": lacking(
        {**TWICE, ROWS: "seed/__init__.py,,\nseed/y.py,,\n", ROWS_OF_2: "seed/__init__.py,,\nseed/y.py,,\n"}),
    "mixed-install:two_installs beside foreign-abi": lacking(
        {**TWICE, "SITE/seed/y.cpython-39-x86_64-linux-gnu.so": ELF}),
    "mixed-install:two_installs beside mixed-install": made_case(
        "seed", {**TWICE, **BARK, "SITE/bark/__init__.py": "from seed import y", "SITE/bark-1.0.dist-info/RECORD":
                 "bark/__init__.py,sha256=AAAA,400\n"}, lacks_name(asker="SITE/bark/__init__.py:1"), name="y",
        loaded={"seed": START_FILE}),
    "mixed-install:two_installs beside version-conflict": made_case(
        "seed", {**SEED, **BARK, **metadata(distribution("bark", "1.1"))},
        error("ImportError", "cannot import name 'x' from 'bark' (/b)", f"{START_FILE}:1", name="bark"),
        loaded={"bark": "SITE/bark/__init__.py"}),
    "name-differs:other_project beside file-unreadable": made_case(
        "jwt.gone", {**JWT, "SITE/jwt/gone/x.py": ""}, absent("jwt.gone", RUN), closed=["SITE/jwt/gone"]),
    "name-differs:other_project beside metadata-only": made_case(
        "jwt", {**JWT, **metadata(BARK)}, absent("bark", "SITE/jwt/__init__.py:1")),
    "name-differs:other_project beside mixed-install": made_case(
        "jwt", {**JWT, "SITE/jwt-1.0.dist-info/RECORD": "jwt/__init__.py,sha256=AAAA,400\n"}, ENCODE),
    "dependency-absent beside hidden-by-file": made_case(
        "seed", {**SEED, "START/seed.py": "import bark"}, absent("bark", "START/seed.py:1")),
    "dependency-absent beside hidden-by-path": made_case(
        "seed", {**SEED, "EXTRA/seed.py": "import bark"}, absent("bark", "EXTRA/seed.py:1"), **FIRST),
    "dependency-absent beside file-unreadable": made_case(
        "seed", SEED, absent("bark", f"{START_FILE}:1"), refused("SITE/bark.py")),
    "dependency-absent beside metadata-only": made_case(
        "seed", {**SEED, **metadata(BARK)}, absent("bark", f"{START_FILE}:1")),
    "dependency-absent beside mixed-install": made_case(
        "seed", {**SEED, "SITE/~ark/__init__.py": ""}, absent("bark", f"{START_FILE}:1")),
    "dependency-absent beside foreign-abi": made_case(
        "seed", {**SEED, "SITE/bark.cpython-39-x86_64-linux-gnu.so": ELF}, absent("bark", f"{START_FILE}:1")),
    "dependency-absent beside site-off": made_case(
        "seed", {**SEED, **BARK, "EXTRA/seed.py": "import bark\n"}, absent("bark", "EXTRA/seed.py:1"),
        path=["/extra", "LIB"], flags={"no_site": 1}),
    "base-site-off beside pip-absent": made_case("pip", {"BASESITE/pip/__init__.py": ""}, absent("pip"), **NO_PIP),
    "installed-elsewhere beside pip-absent": made_case("pip", {"OTHER/pip/__init__.py": ""}, absent("pip"), **NO_PIP),
    "installed-elsewhere beside file-unreadable": made_case(
        "seed", {**ELSEWHERE, "EXTRA/x.py": ""}, absent("seed"), **SHUT),
    "installed-elsewhere beside files-missing": made_case(
        "seed", {**ELSEWHERE, **metadata(distribution("seed", files={"seed.py": "", "seed_extra.py": ""})),
                 "SITE/seed_extra.py": ""}, absent("seed")),
    "installed-elsewhere beside metadata-only": made_case("seed", {**ELSEWHERE, **metadata(SEED)}, absent("seed")),
    "installed-elsewhere beside mixed-install": made_case(
        "seed", {**ELSEWHERE, "SITE/~eed/__init__.py": ""}, absent("seed")),
    "not-installed beside metadata-only": made_case(  # even the list of its files is gone
        "seed", {"SITE/seed-1.0.dist-info/METADATA": "Metadata-Version: 2.1\nName: seed\nVersion: 1.0\n"},
        absent("seed")),
    "name-differs beside file-unreadable": made_case("sklearn", {"EXTRA/x.py": ""}, absent("sklearn"), **SHUT),
    "name-differs beside metadata-only": made_case("sklearn", metadata(LEARN), absent("sklearn")),
    "name-differs beside mixed-install": made_case("sklearn", {"SITE/~klearn/__init__.py": ""}, absent("sklearn")),
    "name-differs beside site-off": made_case("sklearn", LEARN, absent("sklearn"), **NO_SITE),
    "name-misspelt beside env-version-skew": made_case(
        "seedlin", {**NEAR, "LAB/lib/python3.9/site-packages/seedlin/__init__.py": ""}, absent("seedlin")),
    "name-misspelt beside file-unreadable": made_case("seedlin", {**NEAR, "EXTRA/x.py": ""}, absent("seedlin"), **SHUT),
    "name-misspelt beside link-broken": made_case(
        "seedlin", {**NEAR, "SITE/seedlin.pth": "/home/ada/gone/seedlin\n"}, absent("seedlin")),
    "name-misspelt beside metadata-only": made_case(
        "seedlin", {**NEAR, **metadata(distribution("seedlin"))}, absent("seedlin")),
    "name-misspelt beside mixed-install": made_case("seedlin", {**NEAR, "SITE/~eedlin/__init__.py": ""},
                                                    absent("seedlin")),
    "name-misspelt beside site-off": made_case(
        "seedlin", {**distribution("seedlin"), "START/seedling.py": ""}, absent("seedlin"), **NO_SITE),
    "name-misspelt beside stdlib-not-yet": made_case("tomllib", distribution("tomlib"), absent("tomllib"),
                                                     version="3.10.4"),
    "name-misspelt beside stdlib-removed": made_case(
        "distutils", distribution("distutil"), absent("distutils"), version="3.12.1"),
    "not-installed beside base-site-off": made_case(
        "seed", {"BASESITE/seed/__init__.py": ""}, absent("seed"), known=False),
    "not-installed beside installed-elsewhere": made_case(
        "seed", distribution("seed", site="START/vendor"), absent("seed")),
    "not-installed beside file-unreadable": made_case("seed", {"EXTRA/x.py": ""}, absent("seed"), **SHUT),
    "python2-source beside file-corrupt": made_case(
        "seed", {**WHOLE, ROWS: WRITTEN_OVER, START_FILE: "print 'x'\n"}, syntax(START_FILE)),
    "python-too-old beside file-corrupt": made_case(
        "seed", {**WHOLE, ROWS: WRITTEN_OVER, START_FILE: "match x:\n"}, syntax(START_FILE, "invalid syntax"),
        version="3.9.1"),
    "python-too-old beside python2-source": made_case("old", {**OLD, **OF_312}, syntax("SITE/old/__init__.py")),
    "binary-mismatch beside files-missing": made_case(
        "seed", {**WHOLE, ROWS: "seed/__init__.py,,\nseed/part.so,,\n"}, error(
            "ValueError",
            "seed.part.Row size changed, may indicate binary incompatibility. Expected 96 from C header, got 88 "
            "from PyObject", f"{START_FILE}:1"), loaded={"seed": START_FILE}),
    "library-missing beside file-corrupt": made_case(
        "seed", {**WHOLE, CORE: ELF[:20], ROWS: f"seed/__init__.py,,\n{CORE[5:]},sha256=AAAA,400\n"},
        error("ImportError", f"{placed(CORE)}: file too short", f"{START_FILE}:1", path=CORE),
        error("ImportError", "libgrain.so.1: cannot open shared object file: No such file or directory",
              f"{START_FILE}:1")),
    "library-missing beside files-missing": made_case(
        "seed", {**WHOLE, CORE: ELF, ROWS: f"seed/__init__.py,,\n{CORE[5:]},,\nseed.libs/libgrain.so.1,,\n"},
        error("ImportError", "libgrain.so.1: cannot open shared object file: No such file or directory",
              f"{START_FILE}:1",
              path=CORE)),
    "symbol-missing beside foreign-platform": made_case(
        "seed", {**WHOLE, **PYTHON, CORE: ARM},
        error("ImportError", f"{placed(CORE)}: wrong ELF class: ELFCLASS64", f"{START_FILE}:1", path=CORE),
        error("ImportError", f"{placed(CORE)}: undefined symbol: gsl_x", f"{START_FILE}:1", path=CORE)),
    "circular-import beside hidden-by-file": made_case(
        "seed", {**SEED, "START/seed.py": "import bark\nx = 1\n", "SITE/bark.py": "from seed import x\n"},
        half_made("START/seed.py:1", "SITE/bark.py:1"), loaded={"seed": "START/seed.py"}),
    "circular-import beside file-corrupt": made_case(
        "seed",
        {**RING, ROWS: "seed/__init__.py,,\nseed/part.py,,\nseed/data.py,sha256=AAAA,400\n", "SITE/seed/data.py": ""},
        IN_A_RING),
    "circular-import beside files-missing": made_case(
        "seed", {**RING, ROWS: "seed/__init__.py,,\nseed/part.py,,\nseed/x.py,,\n"}, IN_A_RING),
    "circular-import beside mixed-install": made_case(
        "seed", {**RING, ROWS: "seed/__init__.py,,\nseed/part.py,sha256=AAAA,400\n"}, IN_A_RING),
    "circular-import beside foreign-abi": made_case(
        "seed", {**RING, "SITE/seed/x.cpython-39-x86_64-linux-gnu.so": ELF}, IN_A_RING),
    "submodule-absent beside hidden-by-file": made_case(
        "seed.gone", {**SEED, "START/seed/__init__.py": ""}, absent("seed.gone", RUN)),
    "submodule-absent beside hidden-by-path": made_case(
        "seed.gone", {**SEED, "EXTRA/seed.py": ""}, absent("seed.gone", RUN), **FIRST),
    "submodule-absent beside file-unreadable": made_case("seed.gone", SEED, absent("seed.gone", RUN),
                                                         refused(START_FILE)),
    "submodule-absent beside foreign-platform": made_case("seed.gone", OF_WINDOWS, absent("seed.gone", RUN)),
    "submodule-absent beside mixed-install": made_case(
        "seed.gone", {**WHOLE, ROWS: WRITTEN_OVER}, absent("seed.gone", f"{START_FILE}:1")),
    "submodule-absent beside name-differs": made_case("jwt.gone", JWT, absent("jwt.gone", RUN)),
    "submodule-absent beside namespace-split": made_case(
        "seed.gone", {**SEED, "EXTRA/seed/gone.py": "x = 1"}, absent("seed.gone", RUN), path=["LIB", "SITE", "/extra"]),
    "submodule-absent beside python-too-new": made_case(
        "seed.moves", OLD_IMPORTER, absent("seed.moves", RUN), version="3.13.0"),
    "submodule-absent beside stdlib-not-yet": made_case(
        "unittest.mock", {"LIB/unittest/__init__.py": ""}, absent("unittest.mock", RUN), version="3.2.1"),
    "submodule-absent beside stdlib-removed": made_case(
        "email.MIMEText", {"LIB/email/__init__.py": ""}, absent("email.MIMEText", RUN)),
    "submodule-absent beside version-conflict": made_case(
        "seed", {**SEED, **BARK}, absent("bark.gone", f"{START_FILE}:1")),
    "attribute-absent beside hidden-by-file": lacking({**SEED, "START/seed.py": ""}, "START/seed.py"),
    "attribute-absent beside hidden-by-path": lacking({**SEED, "EXTRA/seed.py": ""}, "EXTRA/seed.py", **FIRST),
    "attribute-absent beside hidden-by-user-site": lacking(
        {**SEED, "USER/seed.py": ""}, "USER/seed.py", path=["LIB", "USER", "SITE"]),
    "attribute-absent beside bytecode-stale": made_case(
        "seed", {"SITE/seed.pyc": b"\0\0\r\n"}, stale("seed"), lacks_name(), name="y"),
    "attribute-absent beside circular-import": made_case(
        "seed", RING, error("ImportError", "cannot import name 'x'", "SITE/seed/__init__.py:1", "SITE/seed/part.py:1",
                            name="seed"), version="3.6.1"),
    "attribute-absent beside file-corrupt": lacking({**WHOLE, ROWS: WRITTEN_OVER, START_FILE: ""}),
    "attribute-absent beside files-missing": lacking({**WHOLE, ROWS: "seed/__init__.py,,\nseed/y.py,,\n"}),
    "attribute-absent beside foreign-abi": lacking({**WHOLE, "SITE/seed/y.cpython-39-x86_64-linux-gnu.so": ELF}),
    "attribute-absent beside foreign-platform": lacking(OF_WINDOWS),
    "attribute-absent beside mixed-install": lacking({**WHOLE, ROWS: WRITTEN_OVER}),
    "attribute-absent beside python-too-old": made_case(
        "old", {"SITE/old.py": "from typing import Self\n", "LIB/typing.py": ""},
        error("ImportError", "cannot import name 'Self' from 'typing' (/l)", "SITE/old.py:1", name="typing"),
        version="3.9.1", loaded={"typing": "LIB/typing.py"}),
    "crash beside file-corrupt": made_case(
        "seed", {**WHOLE, CORE: ELF[:20], ROWS: f"seed/__init__.py,,\n{CORE[5:]},sha256=AAAA,400\n"}, outcome="crash"),
}


def speaking(case: Case) -> list[str]:
    """Return the names of the checks that would speak, each asked by itself."""
    failure = read_failure(case) if case.obs.outcome == "fails" else None
    return [f"{c.cause}:{c.function}" for c in CHECKS if isinstance(function_of(c)(case, failure), Finding)]


@pytest.mark.parametrize("name", PLANTED)
def test_one_is_heard(name: str) -> None:
    """Both checks would speak; the judge has the cause of the one, and not what the other says."""
    check, _, other = name.partition(" beside ")
    both = [n for n in speaking(PLANTED[name]) if f"{n}:".startswith((f"{check}:", f"{other}:"))]
    assert all([n for n in both if f"{n}:".startswith(f"{word}:")] for word in (check, other)), both
    heard, mine = [f.cause for f in judge_import(PLANTED[name]).causes], check.partition(":")[0]
    theirs = other.partition(":")[0]
    assert theirs in heard and heard.count(mine) == int(mine == theirs)


def test_each_silence_has_a_case() -> None:
    """Whatever a check says it is silent beside, there is a case in which both would speak."""
    explanations.all_explanations()  # all checks are loaded
    together = [set(speaking(c)) for c in [*PLANTED.values(), *(case for pair in CASES.values() for case in pair)]]
    families = {c.name: {c.name, c.cause, c.family} for c in SAID}
    lacking = [f"{c.name} beside {word}" for c in SAID for word in c.not_beside
               if not any(c.name in names and any(word in families[n] for n in names - {c.name}) for names in together)]
    assert lacking == []
