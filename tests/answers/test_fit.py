"""``fit``: the environments that can run some code, what the others lack, and remedies after which it really runs."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest

from kalyx.core.facts.packaging.requirements import suits
from tests.answers.test_enrol import with_real_kernel
from tests.situations.reach import conda_like
from tests.support.build import (
    BASE_PYTHON,
    SHORT,
    World,
    carry_out,
    kernelspec,
    make_venv,
    notebook,
    other_pythons,
    python_of,
    run,
    site_of,
    write,
)

# Code, and the Pythons that it is for as fit says; held against every Python of this machine
CODE = {
    "match": ("match 1:\n    case 1:\n        pass\n", ">=3.10"),
    "match without a space": ("match(1):\n    case 1:\n        pass\n", ">=3.10"),
    "call of a match": ("match = print\nmatch(1)\n", ">=3.0"),
    "walrus in a list": ("x = [\n    y\n    for n in range(3)\n    if (y := n)\n]\n", ">=3.8"),
    "by position, in lines": ("def f(\n    a,\n    /\n):\n    return a\n", ">=3.8"),
    "decorator called twice": ("def a(x):\n    return lambda y: lambda f: f\n@a(1)(2)\ndef f():\n    pass\n", ">=3.9"),
    "walrus": ("if (n := 3) > 2:\n    pass\n", ">=3.8"),
    "by position": ("def f(a, /):\n    return a\n", ">=3.8"),
    "union as a type": ("def f(x: int | None) -> str | None:\n    return x\n", ">=3.10"),
    "lazy union": ("from __future__ import annotations\ndef f(x: int | None):\n    return x\n", ">=3.7"),
    "generic as a type": ("def f(x: list[int]):\n    return x\n", ">=3.9"),
    "decorator": ("buttons = [lambda f: f]\n@buttons[0]\ndef f():\n    pass\n", ">=3.9"),
    "equals": ("x = 1\nprint(f'{x=}')\n", ">=3.8"),
    "equals in a word": ("x = 1\nprint('{x=}', f'{x}')\n", ">=3.6"),
    "brackets": ("import io\nwith (io.StringIO() as a, io.StringIO() as b):\n    pass\n", ">=3.9"),
    "brackets of one": ("import io\nwith (io.StringIO()) as a, io.StringIO():\n    pass\n", None),
    "module that came": ("import tomllib\n", ">=3.11"),
    "module that may be there": ("try:\n    import tomllib\nexcept ImportError:\n    tomllib = None\n", None),
    "name that came": ("from functools import cache\n", ">=3.9"),
    "name behind a dot": ("import math\nprint(math.prod([1, 2]))\n", ">=3.8"),
    "name of another": ("class math:\n    prod = 1\nprint(math.prod)\n", None),
    "name under a condition": ("import sys, math\nif sys.version_info >= (3, 8):\n    print(math.prod([1]))\n", None),
    "name in one decision": (
        "import sys, types\nif sys.version_info >= (3, 10) and isinstance(1, types.UnionType):\n    pass\n", None),
    "name in one of two": ("import math\nprint(math.prod([1]) if hasattr(math, 'prod') else 1)\n", None),
    "answer with a name": (
        "import sys, math\nNEWER = sys.version_info >= (3, 8)\nif NEWER:\n    print(math.prod([1]))\n", None),
    "left before": ("import math\ndef f():\n    if not hasattr(math, 'prod'):\n        return 1\n"
                    "    return math.prod([1])\nf()\n", None),
    "ends without a name": (
        "import math, sys\ntry:\n    math.prod([1])\nexcept AttributeError:\n    sys.exit(1)\n", ">=3.8"),
    "goes on without a name": ("import math, sys\ntry:\n    math.prod([1])\nexcept AttributeError:\n    pass\n", None),
    "left for another reason": ("import math\ndef f(x):\n    if hasattr(x, 'prod'):\n        return 1\n"
                                "    return math.prod([1])\nf(1)\n", ">=3.8"),
    "module that is written to": ("import sys\nsys.modules['seeds'] = sys\nprint(sys.platlibdir)\n", ">=3.9"),
    "name that went": ("from collections import Mapping\n", "<3.10"),
    "module that went": ("import imp\n", None),
}


def _fit(world: World, *args: str) -> dict:
    return world.answer("fit", *args)["result"]  # type: ignore[return-value]


# Runs every file of a folder; the last line says which of them came to their end
RUN_ALL = """
import io, json, os, sys
done = {}
for name in os.listdir(sys.argv[1]):
    with io.open(os.path.join(sys.argv[1], name), encoding="utf-8") as file:
        text = file.read()
    try:
        exec(compile(text, name, "exec", dont_inherit=True), {"__name__": "__main__"})
        done[name[:-3]] = True
    except BaseException:
        done[name[:-3]] = False
print()
print(json.dumps(done))
"""


def test_pythons_that_can_run_it(world: World, validate) -> None:
    """What is said of the versions of Python is what every Python here says itself, when it runs the code."""
    pythons = {v: p for v, p in other_pythons().items() if v[0] in "23"}
    for version, python in pythons.items():
        if version[0] == "3":  # an older one makes no environments itself
            make_venv(world.home / "envs" / f"py{version}", python)
    for name, (code, _) in CODE.items():
        write(world.root / "code" / f"{name}.py", code)
    said = {v: run([p, "-c", RUN_ALL, world.root / "code"], env=world.env).stdout for v, p in pythons.items()}
    for name, (code, specifier) in CODE.items():
        write(world.project / "a.py", code)
        document = world.answer("fit", "a.py")
        validate(document)
        result = document["result"]
        assert (result["python"] or {}).get("specifier") == specifier, (name, result["python"])
        judged = {e["environment"]["name"]: e for e in result["environments"]}
        for version in pythons:
            runs = json.loads(said[version].splitlines()[-1])[name]
            if version[0] == "2":
                assert suits((result["python"] or {"specifier": ""})["specifier"], "2.7.18") == runs, name
            else:
                assert judged[f"py{version}"]["fits"] == runs, (name, version, judged[f"py{version}"])


def _lab(world: World, name: str, *wheels: tuple[str, str], **more: bool) -> str:
    lab = world.venv(name, **more)
    for distribution, version in wheels:
        code = {"germkit/__init__.py": "rows = 1\n", "germkit/trays.py": ""} if distribution == "germ-kit" else None
        world.wheels.install(world.wheels.add(distribution, version, code), site_of(lab))
    return str(lab)


def test_environments_are_held_against_it(world: World, validate) -> None:
    """The best first: what is lacking, in another version, damaged, or built for another Python does not fit."""
    world.activate(world.venv("shell"))
    whole = _lab(world, "whole", ("germ-kit", "2"), ("seedling", "1"))
    old = _lab(world, "old", ("germ-kit", "1"), ("seedling", "1"))
    damaged = _lab(world, "damaged", ("germ-kit", "2"), ("seedling", "1"))
    (site_of(world.home / "envs" / "damaged") / "germkit" / "trays.py").unlink()
    foreign = _lab(world, "foreign", ("seedling", "1"))
    world.wheels.install(world.wheels.add("germ-kit", "2.1", {
        "germkit/__init__.py": "", "germkit/_core.cpython-36m-x86_64-linux-gnu.so": "x"}),
        site_of(world.home / "envs" / "foreign"))
    write(world.project / "pyproject.toml", '[project]\nname = "x"\nversion = "1"\nrequires-python = ">=3.8"\n'
          'dependencies = ["germ-kit>=2"]\n[project.optional-dependencies]\nplots = ["nowhere"]\n')
    write(world.project / "helpers.py", "")
    write(world.project / "src" / "bank" / "__init__.py", "")
    write(world.project / "plan.py", "import germkit, seedling, helpers, bank\nfrom germkit import rows\n"
          "from typing import TYPE_CHECKING\nif TYPE_CHECKING:\n    import onlytypes\n"
          "try:\n    import fastseed\nexcept ImportError:\n    import seedling as fastseed\n"
          "import pkgutil\nHAS_DRYER = pkgutil.find_loader('dryerkit') is not None\n"
          "if HAS_DRYER:\n    import dryerkit\n")
    write(world.project / "tests" / "test_plan.py", "import trybench\n")
    document = world.answer("fit", ".")
    validate(document)
    result = document["result"]
    assert (document["exit"], result["best"]) == (0, whole)
    needs = {n["module"]: n for n in result["needs"]}
    assert needs["trybench"]["optional"], "only a test imports it"
    assert not {"helpers", "bank", "nowhere"} & set(needs)
    assert (needs["germkit"]["distribution"], needs["germkit"]["specifier"]) == ("germ-kit", ">=2")
    assert {p["path"] for p in needs["germkit"]["asked_by"]} == {
        str(world.project / "plan.py"), str(world.project / "pyproject.toml")}
    assert all(needs[n]["optional"] for n in ("fastseed", "onlytypes", "dryerkit"))
    because = {e["environment"]["path"]: " ".join(x["because"] for x in e["lacks"]) for e in result["environments"]}
    assert because[whole] == "" and "germ-kit 1 is there, and is not >=2" in because[old]
    assert "damaged" in because[damaged] and "trays.py is gone" in because[damaged]
    assert "was built for another Python" in because[foreign]
    used = [e["environment"]["name"] for e in result["environments"] if e["used_here"]]
    assert used == ["shell"]
    alone = _fit(world, ".", "--in", "old")
    assert [e["environment"]["path"] for e in alone["environments"]] == [old] and alone["best"] is None
    assert "whole can run" in world.kalyx("fit", ".").stdout.splitlines()[0]


def test_stand_ins(world: World) -> None:
    """A stand-in for a module that went, or did not come yet, is as good."""
    world.activate(world.venv("shell"))
    newest = max((v for v in other_pythons() if v in ("3.12", "3.13", "3.14")), default="")
    if not newest:
        pytest.skip("no Python here that has lost a module")
    new = make_venv(world.home / "envs" / "new", other_pythons()[newest])
    write(world.project / "b.py", "import imp\n")
    judged = {e["environment"]["path"]: e for e in _fit(world, "b.py")["environments"]}
    assert f"Python {newest}" in judged[str(new)]["lacks"][0]["because"] and not judged[str(new)]["fits"]
    write(new / "lib" / f"python{newest}" / "site-packages" / "imp.py", "")
    judged = {e["environment"]["path"]: e for e in _fit(world, "b.py")["environments"]}
    assert judged[str(new)]["fits"]


def test_remedies_make_it_run(world: World) -> None:
    """Put into the nearest, or a new environment with all of it: the code really runs, and fit says so."""
    near = _lab(world, "near", ("germ-kit", "2"), pip=True)
    world.activate(world.venv("shell"))
    world.wheels.add("humidlog", "1.2")
    code = 'import germkit, humidlog\nprint("it runs")\n'
    script = write(world.project / "a.py", f'# /// script\n# dependencies = ["humidlog>=1"]\n# ///\n{code}')
    result = _fit(world, "a.py")
    assert result["best"] is None and [r["do"].split()[0] for r in result["remedies"]] == ["Put", "Make"]
    put, make = result["remedies"]
    assert run(put["argv"], cwd=world.project, env=world.env).returncode == 0
    assert _fit(world, "a.py")["best"] == near
    assert "it runs" in run([python_of(world.home / "envs" / "near"), script], env=world.env).stdout
    shutil.rmtree(near)
    world.wheels.add("germ-kit", "2", {"germkit/__init__.py": ""})
    done = run(make["argv"], cwd=world.project, env=world.env)
    assert done.returncode == 0, done.stderr
    assert "it runs" in run([make["argv"][2] + "/bin/python", script], env=world.env).stdout


def test_a_notebook_is_given_its_kernel(world: World) -> None:
    """Enrolled first where there is no kernel, then switched to it: after that it is used here, and nothing is left."""
    lab = with_real_kernel(world, "seedlab")
    world.wheels.install(world.wheels.add("germ-kit", "2", {"germkit/__init__.py": ""}), site_of(lab))
    other = world.venv("other")
    world.activate(other)
    kernelspec(world.home, "other", [python_of(other), "-m", "ipykernel_launcher", "-f", "{connection_file}"])
    book = notebook(world.project / "a.ipynb", "other", "import germkit")
    first = _fit(world, "a.ipynb")
    assert first["best"] == str(lab) and first["remedies"][0]["argv"][1] == "enrol"
    carry_out(first["remedies"][0], "command", world)
    second = _fit(world, "a.ipynb")
    carry_out(second["remedies"][0], "edit", world)
    assert json.loads(book.read_text())["metadata"]["kernelspec"]["name"] == "seedlab"
    third = _fit(world, "a.ipynb")
    assert third["best"] == str(lab) and third["environments"][0]["used_here"] and not third["remedies"]
    assert world.answer("why", "a.ipynb")["exit"] == 0
    apart = world.answer("fit", str(book), cwd=world.root)["result"]
    assert apart["best"] == str(lab) and apart["environments"][0]["used_here"] and not apart["remedies"]


def test_what_is_required_in_turn(world: World) -> None:
    """What a needed distribution requires and is not there is lacking; so is what another system alone has."""
    lab = world.venv("lab")
    world.activate(lab)
    for name, requires in (("germkit", ["soilbook>=1"]), ("soilbook", ["traygrid; python_version>='3'", "winkit; "
                                                                    "sys_platform=='win32'"])):
        world.wheels.install(world.wheels.add(name, "1", requires=requires), site_of(lab))
    write(world.project / "a.py", "import germkit\n")
    lacks = next(e for e in _fit(world, "a.py")["environments"] if e["environment"]["path"] == str(lab))["lacks"]
    assert [x["distribution"] for x in lacks] == ["traygrid"] and "soilbook 1 requires traygrid" in lacks[0]["because"]
    world.wheels.install(world.wheels.add("traygrid", "1"), site_of(lab))
    assert _fit(world, "a.py")["best"] == str(lab)
    write(world.project / "b.py", "import winreg\n")
    assert _fit(world, "b.py")["best"] is None
    write(world.project / "c.py", "import sys\nif sys.platform == 'win32':\n    import winreg\n")
    assert _fit(world, "c.py")["best"] == str(lab)


def test_names_of_a_project(world: World) -> None:
    """What the project asks for is no second need of a module that it brings; a guess is not installed beside it."""
    world.activate(world.venv("shell"))
    write(world.project / "pyproject.toml", '[project]\nname = "x"\nversion = "1"\ndependencies = ["py-germkit>=2"]\n'
          '[project.optional-dependencies]\nplot = ["seedplot"]\n')
    write(world.project / "a.py", "import germkit\ndef draw():\n    import seedplot, winreg\n")
    write(world.project / "tests" / "test_a.py", "from graphlib import TopologicalSorter\nmatch 1:\n    case 1: pass\n")
    result = _fit(world, ".")
    needs = {(n["module"], n["distribution"], n["specifier"], n["optional"]) for n in result["needs"]}
    assert ("germkit", "py-germkit", ">=2", False) in needs and ("seedplot", "seedplot", "", True) in needs
    assert result["python"] is None, "only a test asks for a newer one"
    assert all("winreg" not in x["because"] for e in result["environments"] for x in e["lacks"])
    write(world.project / "b.py", "import oddname\n")
    write(world.project / "requirements.txt", "otherwise-called\n")
    for remedy in _fit(world, ".")["remedies"]:
        assert "oddname" not in remedy["argv"], remedy


# Code, and the environments that it really runs in: some distributions share a name (PEP 420, 794)
SHARED = {
    "import acre.seeds": {"both", "one"}, "from acre import seeds": {"both", "one"},
    "import acre.soil": {"both", "two"},
    "from acre import seeds, soil": {"both"}, "from acre.soil.deep import wet": {"both", "two"},
    "import acre": {"both", "one", "two"}, "import acre.own, acre.seeds": {"both", "one"}, "import acre.rain": set(),
    "from orbit import core": {"two"}, "import orbit.far": {"one"}, "import orbit.core, orbit.far": set(),
    "from flow import Graph": {"both"}, "from flow.parts import x": {"both"},
}


def test_parts_of_a_shared_name(world: World) -> None:
    """Of a name that several distributions share, the part that is imported must be there, one's own part aside."""
    world.activate(world.venv("shell"))
    seeds = world.wheels.add("acre-seeds", "1", {"acre/seeds/__init__.py": ""})
    soil = world.wheels.add("acre-soil", "1", {"acre/soil/__init__.py": "", "acre/soil/deep.py": "wet = 1\n"})
    envs = {name: world.venv(name) for name in ("one", "two", "both")}
    for name, wheels in (("one", [seeds]), ("two", [soil]), ("both", [seeds, soil])):
        for wheel in wheels:
            world.wheels.install(wheel, site_of(envs[name]))
    for name, part in (("two", "core"), ("one", "far")):  # as it was done before: each has the package's own file
        world.wheels.install(world.wheels.add(f"orbit-{part}", "1", {
            "orbit/__init__.py": "__path__ = __import__('pkgutil').extend_path(__path__, __name__)\n",
            f"orbit/{part}.py": ""}), site_of(envs[name]))
    world.wheels.install(world.wheels.add("flow", "1", {  # a package of its own, which others may add to
        "flow/__init__.py": "__path__ = __import__('pkgutil').extend_path(__path__, __name__)\nclass Graph: pass\n",
        "flow/parts.py": "x = 1\n"}), site_of(envs["both"]))
    write(world.project / "acre" / "own.py", "")
    for code, runs_in in SHARED.items():
        write(world.project / "a.py", code + "\n")
        really = {n for n, env in envs.items() if run([python_of(env), "a.py"], cwd=world.project).returncode == 0}
        judged = {e["environment"]["name"]: e for e in _fit(world, "a.py")["environments"]}
        assert {n for n in envs if judged[n]["fits"]} == really == runs_in, code
    write(world.project / "a.py", "from acre import soil\n")
    result = _fit(world, "a.py", "--in", "one")
    assert [(n["module"], n["distribution"]) for n in result["needs"]] == [("acre.soil", "acre-soil")]
    carry_out(result["remedies"][0], "command", world)
    assert run([python_of(envs["one"]), "a.py"], cwd=world.project).returncode == 0


def test_what_the_shell_adds(world: World) -> None:
    """What PYTHONPATH has is lacked by no environment here, and said; what stands where nothing runs is not needed."""
    lab = _lab(world, "lab")
    world.activate(world.home / "envs" / "lab")
    write(world.home / "modules" / "clusterkit.py", "")
    write(world.project / "a.py", "import clusterkit\nif False:\n    import never\nif 0: import nowhere\n")
    assert _fit(world, "a.py")["best"] is None
    world.env["PYTHONPATH"] = str(world.home / "modules")
    document = world.answer("fit", "a.py")
    assert document["result"]["best"] == lab and "clusterkit" in document["notes"][-1]["message"]
    assert run([python_of(Path(lab)), "a.py"], cwd=world.project, env=world.env).returncode == 0


def test_packages_of_conda_that_are_no_python(world: World) -> None:
    """They decide nothing where nothing of conda's is, and are never asked of an index of Python's."""
    lab = _lab(world, "lab", ("seedling", "1"))
    world.activate(world.home / "envs" / "lab")
    write(world.project / "environment.yml",
          "dependencies:\n  - python >=3.8\n  - seedling\n  - nodejs>=18\n  - libfar\n")
    write(world.project / "a.py", "import seedling\n")
    assert _fit(world, ".")["best"] == lab
    write(world.project / "b.py", "import lacking\n")
    result = _fit(world, ".")
    assert result["best"] is None
    assert not [w for r in result["remedies"] for w in r["argv"] if w.startswith(("nodejs", "libfar", "python"))]
    (world.project / "b.py").unlink()
    far = conda_like(world, world.project, "seedling")
    write(far / "conda-meta" / "nodejs-20.1-h1_0.json", "{}")
    judged = {e["environment"]["kind"]: e for e in _fit(world, ".")["environments"]}
    assert [x["distribution"] for x in judged["conda"]["lacks"]] == ["libfar"] and judged["venv"]["fits"]


def test_proved_by_importing(world: World) -> None:
    """What reading cannot tell, importing does: one that breaks is said to break, with its cause."""
    world.activate(world.venv("shell"))
    good, bad = _lab(world, "good", ("seedling", "1")), world.venv("bad")
    write(site_of(bad) / "seedling.py", "raise ValueError('the tray is wet')\n")
    write(world.project / "a.py", "import seedling\n")
    assert {e["environment"]["name"] for e in _fit(world, "a.py")["environments"] if e["fits"]} == {"good", "bad"}
    judged = {e["environment"]["name"]: e for e in _fit(world, "a.py", "--prove")["environments"]}
    assert (judged["good"]["proven"], judged["bad"]["proven"], judged["bad"]["fits"]) == (True, False, False)
    write(world.project / "c.py", "import seedling\nfrom seedling import sprout\nfrom json import dumps, nothing\n")
    document = world.answer("fit", "c.py", "--prove", "--in", "good")
    assert [b.partition(" does")[0] for b in document["result"]["environments"][0]["breaks"]] == [
        "sprout of seedling", "nothing of json"] and not document["result"]["remedies"]
    assert "kalyx why" in document["notes"][0]["message"] and document["exit"] == 1
    write(site_of(Path(good)) / "spare.py", "raise ValueError('the spare is wet')\n")
    for first, fits in (("seedling", True), ("gone_kit", False)):  # what stands in for nothing is not needed
        write(world.project / "d.py", f"try:\n    import {first}\nexcept ImportError:\n    import spare\n")
        assert _fit(world, "d.py", "--prove", "--in", "good")["environments"][0]["proven"] is fits
    broken = site_of(world.venv("ends"))
    write(broken / "sitecustomize.py", "raise SystemExit(7)\n")
    write(world.project / "b.py", "x = 1\n")
    ends = {e["environment"]["name"]: e for e in _fit(world, "b.py", "--prove")["environments"]}["ends"]
    assert (ends["proven"], ends["fits"]) == (False, False), "its Python ends at once"
    assert "the tray is wet" in judged["bad"]["breaks"][0] and good == judged["good"]["environment"]["path"]


# Files that are no use, each with a word of the note that names it
BROKEN = {
    "a.ipynb": ("{", "not a notebook"), "b.py": ("import seedling\ndef (:\n", "line 2"),
    "c.py": (b"\xff\xfe", "decoded"),
    "pyproject.toml": ("[project\n", "pyproject.toml"), "pylock.toml": ("packages = 3\n", "pylock.toml"),
    "Pipfile": ("[[[", "Pipfile"), "setup.cfg": ("x", "setup.cfg"),
}


def test_broken_files_cost_themselves_alone(world: World) -> None:
    """Each kind of broken file is a note that names it; the rest is answered."""
    lab = _lab(world, "lab", ("seedling", "1"))
    world.activate(world.home / "envs" / "lab")
    for name, (content, _) in BROKEN.items():
        write(world.project / name, content)
    write(world.project / "whole.py", "import seedling\n")
    write(world.project / "requirements.txt", "seedling\n")
    document = world.answer("fit", ".")
    assert (document["exit"], document["result"]["best"]) == (0, lab)
    said = " ".join(n["message"] for n in document["notes"])
    assert not [name for name, (_, word) in BROKEN.items() if word not in said], said
    write(world.project / "d.py", "# /// script\n# dependencies = 3\n# ///\nimport seedling\n")
    assert "PEP 723" in world.answer("fit", "d.py")["notes"][0]["message"]
    for args, status in ((("nowhere.py",), 3), ((), 2), (("whole.py", "--in", "nix"), 3)):
        assert world.answer("fit", *args)["exit"] == status, args


def test_what_was_read_is_remembered(world: World) -> None:
    """A second run reads only what has changed since; a damaged memory costs nothing."""
    world.activate(world.venv("shell"))
    for number in range(130):  # enough for several processes
        write(world.project / f"part{number}.py", f"import lib{number}\nfrom part{number - 1} import x\n")
    first = _fit(world, ".")
    assert len(first["files"]) == 130 and {n["module"] for n in first["needs"]} == {f"lib{n}" for n in range(130)}
    kept = next((world.home / ".cache" / "kalyx").glob("needs-*.json"))
    assert _fit(world, ".") == first
    write(world.project / "part7.py", "import another\n")
    changed = {n["module"] for n in _fit(world, ".")["needs"]}
    assert "another" in changed and "lib7" not in changed
    for damage in ("{", "[]", '{"form": 1, "files": {"x": 3}}', kept.read_text().replace('"imports":', '"other":')):
        kept.write_text(damage)
        assert {n["module"] for n in _fit(world, ".")["needs"]} == changed
    assert SHORT


def _linked(world: World) -> str:
    """An environment that sees a package of another one, which is linked into it."""
    base = _lab(world, "base", ("germkit", "1"))
    opened = world.venv("open")
    write(site_of(opened) / "more.pth", f"{site_of(Path(base))}\n")
    shutil.move(site_of(Path(base)), world.home / "shared")
    write(site_of(opened) / "more.pth", f"{world.home / 'shared'}\n")
    return str(opened)


def _of_conda(world: World) -> str:
    return str(conda_like(world, world.project, "germkit"))


def _user_site(world: World) -> str:
    """The base itself, which looks into the user site."""
    site = world.home / ".local" / "lib" / f"python{SHORT}" / "site-packages"
    world.wheels.install(world.wheels.add("germkit", "1"), site)
    return str(Path(BASE_PYTHON).resolve().parent.parent)


def _old_metadata(world: World) -> str:
    site = site_of(world.venv("old"))
    write(site / "germkit.py", "")
    write(site / "Germ_Kit-0.9.egg-info", "Metadata-Version: 1.0\nName: Germ-Kit\nVersion: 0.9\n")
    return str(world.home / "envs" / "old")


KINDS = {"linked": _linked, "conda's layout": _of_conda, "user site": _user_site,
         "old metadata": _old_metadata}


@pytest.mark.parametrize("kind", KINDS)
def test_environments_of_every_kind(kind: str, world: World) -> None:
    """Where the code really imports it fit says so; contrast finds no difference to itself; weigh counts as du does."""
    world.activate(world.venv("shell"))
    path = KINDS[kind](world)
    script = write(world.project / "a.py", "import germkit\n")
    judged = {e["environment"]["path"]: e for e in _fit(world, "a.py", "--prove")["environments"]}
    assert path in judged, list(judged)
    python = judged[path]["interpreter"]["path"]
    assert run([python, script], env=world.env).returncode == 0
    assert judged[path]["fits"] and judged[path]["proven"] is True, judged[path]
    fitting = [e for p, e in judged.items() if e["fits"] and p != path]
    assert all(e["environment"]["kind"] == "base" for e in fitting) and (not fitting or kind == "user site")
    assert world.answer("contrast", path, path)["exit"] == 0
    if kind != "user site":
        counted = run(["du", "-s", "--block-size=1", path]).stdout.split()[0]
        assert world.answer("weigh", "--at", path)["result"]["total"] == int(counted)
