"""What a project says that it needs: read in every form, and put in as it asks."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path

import pytest
from packaging.specifiers import SpecifierSet

from kalyx.core.facts.packaging.project import Project, read_project
from kalyx.core.facts.packaging.project_files import project_folder
from kalyx.core.facts.packaging.python_wanted import pythons_wanted
from kalyx.core.machine.local import RealMachine
from tests.support.build import World, carry_out, notebook, python_of, run, site_of, write


def find_project(machine: RealMachine, folder: str) -> Project | None:
    """Return what a folder's project says that it needs."""
    place = project_folder(machine, folder)
    return read_project(machine, *place) if place else None


LISTS: dict[str, tuple[str, list[tuple[str, int | None]]]] = {
    "requirements.txt": ("# base\n\nflask==2.0 # web\nnumpy >=1 ; python_version<'4'\n-e .\n--hash=sha256:0\n"
                         "zork[fast] >= 1 --hash=sha256:1\nlong \\\n  ==3\nhttps://x.invalid/y.whl\n"
                         "own @ file:///own.whl\n",
                         [("flask==2.0", 3), ("numpy >=1 ; python_version<'4'", 4), ("zork[fast] >= 1", 7),
                          ("long ==3", 9), ("own @ file:///own.whl", 11)]),
    "requirements-dev.in": ("pytest\n", [("pytest", 1)]),
    "pyproject.toml": (
        "[project]\nname = 'x'\ndependencies = [\n  'flask>=2',\n  \"Zork_Kit\",\n]\n"
        "[project.optional-dependencies]\nfast = ['grid<3']\n[dependency-groups]\n"
        "test = ['pytest', {include-group = 'more'}]\n",
        [("flask>=2", 4), ("Zork_Kit", 5), ("grid<3", 8), ("pytest", 10)]),
    "tool table": (
        "[tool.poetry.dependencies]\npython = '^3.9'\nflask = '^2.1'\nzork = '~1.4.2'\nold = '^0.3.1'\n"
        "any = '*'\nexact = '1.5'\nsome = {version = '>=3', extras = ['a']}\nlocal = {path = '../x'}\n"
        "[tool.poetry.group.dev.dependencies]\nlint = '>=1,<2'\n",
        [("flask>=2.1,<3", 3), ("zork>=1.4.2,<1.5", 4), ("old>=0.3.1,<0.4", 5), ("any", 6), ("exact==1.5", 7),
         ("some[a]>=3", 8), ("local @ file://ABOVE/x", 9), ("lint>=1,<2", 11)]),
    "tool table that says more": (
        "[tool.poetry.dependencies]\npython = '^3.9'\nold = {version = '^1', python = '<3.8'}\n"
        "far = {version = '*', platform = 'win32'}\nmarked = {version = '2', markers = \"os_name == 'nt'\"}\n"
        "perhaps = {version = '1', optional = true}\n"
        "each = [{version = '1', python = '<3.9'}, {version = '^2', extras = ['a', 'b']}]\n",
        [("old>=1,<2; python_version < '3.8'", 3), ("far; sys_platform == 'win32'", 4),
         ("marked==2; (os_name == 'nt')", 5), ("perhaps==1", 6), ("each==1; python_version < '3.9'", 7),
         ("each[a,b]>=2,<3", 7)]),
    "tool table with places": (
        "[tool.poetry.dependencies]\nsome = '1.*'\neither = '^1.0 || ^2.0'\ntwo = '>=1 <3'\n"
        "there = {git = 'git@example.org:a/there.git', tag = 'v1', extras = ['x'], optional = true}\n"
        "wheel = {url = 'https://example.org/wheel-1-py3-none-any.whl', python = '<3.9'}\nmyself = {path = '.'}\n"
        "odd = {git = 'https://example.org/odd', rev = 'a b; x'}\n",
        [("some==1.*", 2), ("either>=1.0,<3", 3), ("two>=1,<3", 4),
         ("there[x] @ git+ssh://git@example.org/a/there.git@v1", 5),
         ("wheel @ https://example.org/wheel-1-py3-none-any.whl ; python_version < '3.9'", 6),
         ("odd @ git+https://example.org/odd@a%20b;%20x", 8)]),
    "sources": (
        "[project]\ndependencies = ['far-kit[x]>=1; os_name==\"nt\"', 'mate', 'plain', 'private']\n"
        "[tool.uv.sources]\nfar_kit = {git = 'https://example.org/far'}\nmate = {workspace = true}\n"
        "private = {index = 'own'}\n", [("far-kit[x] @ git+https://example.org/far ; (os_name==\"nt\")", 2),
                                       ("plain", 2), ("private", 2)]),
    "lists of a build": ("[project]\nname = 'x'\ndynamic = ['dependencies', 'optional-dependencies']\n"
                         "[tool.setuptools.dynamic]\ndependencies = {file = ['more/base.txt', 'nowhere.txt', "
                         "'/etc/passwd', '../x']}\n"
                         "optional-dependencies.fast = {file = 'more/base.txt'}\n"
                         "[tool.hatch.metadata.hooks.requirements_txt]\nfiles = ['more/../more/base.txt']\n",
                         [("listed>=2", 1)]),
    "list of setup.cfg": ("[options]\ninstall_requires = file: more/base.txt\n", [("listed>=2", 1)]),
    "pixi.toml": ("[dependencies]\npython = '3.11.*'\nnumpy = {version = '>=1.2', channel = 'x'}\nzork = '2.1.*'\n"
                  "pytorch = '*'\n[pypi-dependencies]\nflask = {version = '>=2', extras = ['async']}\n",
                  [("numpy>=1.2", 3), ("zork==2.1.*", 4), ("torch", 5), ("flask[async]>=2", 7)]),
    "markers of setup.py": ("from setuptools import setup\nsetup(extras_require={':os_name==\"nt\"': ['far'], 'fast': "
                            "['grid']})\n", [("far; os_name==\"nt\"", 2), ("grid", 2)]),
    "setup.py": (
        "from setuptools import setup\nBASE = ['flask>=2',\n        'zork; python_version>\"3\"']\nif True:\n"
        "    setup(name='x', install_requires=BASE + ['grid', bool], extras_require={'fast': ['quick<3'], **BASE},\n"
        "          python_requires='>=3.8')\n",
        [("flask>=2", 2), ('zork; python_version>"3"', 3), ("grid", 5), ("quick<3", 5)]),
    "setup.py that reads it elsewhere": (
        "import setuptools\nsetuptools.setup(install_requires=open('x').read().split(), **open)\n", []),
    "broken setup.py": ("setup(\n", []),
    "setup.py in lines": ("from distutils.core import setup\nsetup(install_requires=\"\"\"\n  flask\n  zork\n\"\"\")\n",
                          [("flask", 3), ("zork", 4)]),
    "setup.cfg": ("[metadata]\nname = x\n[options]\ninstall_requires =\n    flask>=2\n"
                  "    zork; python_version>'3'\n[options.extras_require]\nfast = grid\n",
                  [("flask>=2", 5), ("zork; python_version>'3'", 6),
                                                              ("grid", 8)]),
    "Pipfile": ("[packages]\nflask = '==2.0'\n[dev-packages]\npytest = '*'\n", [("flask==2.0", 2), ("pytest",
    4)]),
    "Pipfile that says more": (
        "[packages]\nfar = {version = '*', sys_platform = \"== 'win32'\"}\nmyself = {path = '.', editable = true}\n"
        "there = {git = 'https://example.org/there.git', ref = 'v1'}\n",
        [("far; sys_platform == 'win32'", 2), ("there @ git+https://example.org/there.git@v1", 4)]),
    "environment.yml": (
        "name: lab\nchannels:\n  - conda-forge\ndependencies:\n  - python=3.11\n  - numpy=1.26\n"
        "  - scipy=1.11.*\n"
        "  - conda-forge::zork=1.2.3=py311_0\n  - 'grid>=2'  # fast\n  - pip\n  - pip:\n    - flask==2.0\n"
        "    - -r more/base.txt\n  - torch==2.0.1=py39\n  - blas=*=openblas\n  - seed[version='>=2',build=x]\n",
        [("numpy==1.26.*", 6), ("scipy==1.11.*", 7), ("zork==1.2.3", 8), ("grid>=2", 9), ("flask==2.0", 12),
         ("torch==2.0.1", 14), ("blas", 15), ("seed >=2", 16), ("listed>=2", 1)]),
    "by conda's names": (
        "dependencies:\n  - python >=3.9\n  - pytorch=2.1\n  - matplotlib-base\n  - zork 1.2.3 py311_0\n"
        "  - nodejs>=18\n",
        [("torch==2.1.*", 3), ("matplotlib", 4), ("zork==1.2.3", 5), ("nodejs>=18", 6)]),
    "broken": ("[project\ndependencies = 3", []),
    "of another shape": ("project = 3\n[dependency-groups]\na = 'x'\n", []),
    "nothing in it": ("", []),
}
NAMES = {"setup.py that reads it elsewhere": "setup.py", "broken setup.py": "setup.py", "setup.py in lines": "setup.py",
         "by conda's names": "environment.yml", "tool table that says more": "pyproject.toml",
         "tool table": "pyproject.toml", "broken": "pyproject.toml", "of another shape": "pyproject.toml",
         "nothing in it": "Pipfile", "tool table with places": "pyproject.toml", "sources": "pyproject.toml",
         "lists of a build": "pyproject.toml", "list of setup.cfg": "setup.cfg", "markers of setup.py": "setup.py",
         "Pipfile that says more": "Pipfile"}


@pytest.mark.parametrize("form", LISTS)
def test_forms(form: str, tmp_path: Path) -> None:
    """Each form of file, good and bad: the requirements and their lines."""
    text, expected = LISTS[form]
    write(tmp_path / NAMES.get(form, form), text)
    write(tmp_path / "more" / "base.txt", "listed>=2\n")
    project = find_project(RealMachine(), str(tmp_path))
    assert project is not None
    found = [(d.requirement.replace(str(tmp_path.parent), "ABOVE"), d.line) for d in project.declared]
    assert found == expected


def test_lists_that_name_lists(tmp_path: Path) -> None:
    """Lists are followed, also in a ring; a folder of lists is read; files that cannot be read are left out."""
    write(tmp_path / "requirements.txt",
    "-r requirements/base.txt\n--requirement=gone.txt\n-c limits.txt\nflask\n")
    write(tmp_path / "limits.txt", "Flask<3\nzork!=2\nzork<9 ; os_name == 'nt'\nother==1\n")
    write(tmp_path / "requirements" / "base.txt", "-r ../requirements.txt\nzork\n")
    write(tmp_path / "requirements" / "binary.txt", b"\xff\xfe\0grid\n")
    project = find_project(RealMachine(), str(tmp_path))
    assert project is not None
    assert [d.name for d in project.declared if d.file.endswith(("base.txt", "requirements.txt"))] == [
        "zork", "zork", "flask"]
    assert {"zork!=2", 'zork<9; os_name == "nt"', "flask<3"} == {d.requirement for d in project.declared}
    assert "other" not in {d.name for d in project.declared}, "a constraint asks for nothing"


# What the files of a project say of Python: the file, what is in it, and the specifiers
PYTHONS = [
    ("pyproject.toml", "[project]\nrequires-python = '>=3.9'\n", [">=3.9"]),
    ("setup.cfg", "[options]\npython_requires = >=3.7, !=3.8.*\n", [">=3.7, !=3.8.*"]),
    ("setup.py", "setup(python_requires='>=3.7')\n", [">=3.7"]), ("setup.py", "setup(python_requires=x)\n", []),
    ("Pipfile", "[requires]\npython_version = '3.11'\n", ["==3.11.*"]),
    (".python-version", "3.11.4\n", ["==3.11.*"]), (".python-version", "lab\n", []),
    ("pylock.toml", "requires-python = '>=3.10'\n", [">=3.10"]),
    *[("pyproject.toml", f"[tool.poetry.dependencies]\npython = '{w}'\n", [said] if said else []) for w, said in (
        ("^3.8", ">=3.8,<4"), ("~3.8", ">=3.8,<3.9"), ("^3", ">=3,<4"), ("3.11", "==3.11.*"), ("3.11.*", "==3.11.*"),
        ("3.11.4", "==3.11.4"), (">=3.8,<3.12", ">=3.8,<3.12"), ("*", ""))],
    *[("environment.yml", f"dependencies:\n  - {w}\n  - numpy\n", [said] if said else []) for w, said in (
        ("python=3.11", "==3.11.*"), ("python 3.11", "==3.11.*"), ("python=3.11.*", "==3.11.*"),
        ("python >=3.9", ">=3.9"), ("conda-forge::python=3.10", "==3.10.*"), ("python=3.11.4=h955ad1f_0", "==3.11.4"),
        ("'python>=3.8'", ">=3.8"), ("python=3.9 # why", "==3.9.*"), ("python", ""), ("python-dateutil=2.8", ""))],
]


@pytest.mark.parametrize(("name", "text", "expected"), PYTHONS)
def test_pythons_that_it_is_for(name: str, text: str, expected: list[str], tmp_path: Path) -> None:
    """Each tool's words in those of PEP 440, which a specifier's own parser takes."""
    write(tmp_path / name, text)
    found = pythons_wanted(RealMachine(), str(tmp_path), [name])
    assert [s for s, _ in found] == expected and all(SpecifierSet(s) for s, _ in found)


def test_places_in_a_list(tmp_path: Path) -> None:
    """What a line says of a place is asked for by its name and from there; the list's own project is there already."""
    write(tmp_path / "libs" / "soil kit" / "pyproject.toml", "[project]\nname = 'soil-kit'\n")
    write(tmp_path / "nameless" / "setup.py", "")
    write(tmp_path / "requirements.txt", "-e .\n-e ./libs/soil kit[fast]\n./nameless\n./gone\n~/far\n"
          "git+https://x.invalid/a.git@v1#egg=bedkit[a]&subdirectory=b\n-e git+ssh://x.invalid/c.git#egg=rowkit\n"
          "git+https://x.invalid/untold.git\nhttps://x.invalid/tray_kit-1.2-py3-none-any.whl\n"
          "https://x.invalid/old-kit-0.1.tar.gz#sha256=0\n./wheels/near_kit-3-py3-none-any.whl\n")
    project = find_project(RealMachine(), str(tmp_path))
    assert project is not None
    near = f"file://{tmp_path}"
    assert [d.requirement for d in project.declared] == [
        f"soil-kit[fast] @ {near}/libs/soil%20kit", "bedkit[a] @ git+https://x.invalid/a.git@v1",
        "rowkit @ git+ssh://x.invalid/c.git", "tray_kit @ https://x.invalid/tray_kit-1.2-py3-none-any.whl",
        "old-kit @ https://x.invalid/old-kit-0.1.tar.gz", f"near_kit @ {near}/wheels/near_kit-3-py3-none-any.whl"]


ODD = [  # what is said of a file that asks for what is no requirement, and what it asks for all the same
    ("requirements.txt",
     "six\nnumpy>=\n?? what\n./gone\n-e .\nhttps://x.invalid/y.zip\nodd ; os_name\nok>=1\nC:\\x\nsub/x\n",
     "only in part: lines 2, 3 and 7 are no requirements (PEP 508), the first: numpy>=; lines 4, 6, 9 and 10 name "
     "places of which it is not known which distribution lies there", {"six", "numpy", "odd", "ok"}),
    ("requirements.txt", "--extra-index-url https://x.invalid/whl/cpu\n-i https://u:p@x.invalid/simple\n-f ./wheels\n"
     "--find-links=../w\n--pre\n--no-binary :all:\nsix --config-settings=\"a=b\"\n-e\n", "", {"six"}),
    ("requirements-dev.txt", "six\n" + "".join(f"a{n}=1=py_0\n" for n in range(9)),
     "only in part: lines 2, 3, 4 and 6 more are no requirements (PEP 508), the first: a0=1=py_0",
     {"six", *(f"a{n}" for n in range(9))}),
    ("pyproject.toml", "[project]\nname='x'\nversion='1'\ndependencies = [\n'six', 'what is this',\n'==2', 7]\n",
     "only in part: line 5 is no requirement (PEP 508): what is this", {"six", "what"}),
    ("pyproject.toml", "[project]\ndependencies = 'six'\n", "project.dependencies is no list of requirements", set()),
    ("pyproject.toml", "[project]\ndependencies = ['six']\n[dependency-groups]\ntest = 'pip'\n",
     "only in part: the group test is no list of requirements", {"six"}),
    ("pyproject.toml", "[tool.poetry.dependencies]\nsix = {version = 7, extras = 'abc'}\nnumpy = [1]\n", "",
     {"six", "numpy"}),
    ("pylock.toml", "[[packages]]\nname = 'six'\n[[packages]]\nname = 7\n",
     "only in part: a package that it pins has no name", {"six"}),
    ("environment.yml", "dependencies: [six, 'numpy>=1', conda-forge::ok=2]\n", "", {"six", "numpy", "ok"}),
    ("environment.yml", "dependencies:\n  - six\n  - pip:\n    - -r other.txt\n    - -e .\n    - git+https://x.invalid/y.git\n"
     "    - ./local\n    - numpy>=1\n", "", {"six", "numpy"}),
    ("setup.cfg", "[options]\ninstall_requires = file: requirements.in\n[options.extras_require]\na =\n  # why\n"
     "  six # so\n", "", {"six"}),
    ("environment.yml", "dependencies: {six: 1}\n",
     "its dependencies are no list, or one that goes on after its first line", set()),
    ("pyproject.toml", "[project]\nrequires-python = '>=3.x'\ndependencies = ['six', 'six>=']\n",
     "only in part: line 3 is no requirement (PEP 508): six>=; "
     "it says >=3.x of Python, which bounds no versions (PEP 440)",
     {"six"}),
    ("setup.cfg", "[options]\npython_requires = 3.8+\ninstall_requires = six\n",
     "only in part: it says 3.8+ of Python, which bounds no versions (PEP 440)", {"six"}),
    ("setup.cfg", "[options]\ninstall_requires =\n  six\n  numpy>=1,<\n",
     "only in part: line 4 is no requirement (PEP 508): numpy>=1,<", {"six", "numpy"}),
]


@pytest.mark.parametrize(("name", "text", "told", "asked"), ODD)
def test_what_is_no_requirement(name: str, text: str, told: str, asked: set[str], world: World) -> None:
    """It is told, also where the answer names the file anyhow; the rest counts; nothing without a name is put in."""
    lab = world.venv("lab")
    file = write(world.project / name, text)
    write(world.project / "a.py", "import json\n")
    project = find_project(RealMachine(), str(world.project))
    assert project and {d.name for d in project.declared} == asked
    document = world.answer("fit", ".", "--in", f"env:{lab}")
    says = f"{file} could be read {told}." if told.startswith("only") else f"{file} could not be read: {told}."
    assert [n["message"] for n in document["notes"] if n["note"] == "unread"] == ([says] if told else [])
    words = [word for remedy in document["result"]["remedies"] for word in remedy["argv"] or ()]
    assert "" not in words and not {"s", "i", "x"} & set(words)
    told_again = world.answer("contrast", f"env:{lab}", name)["notes"]
    assert all(says.startswith(n["message"][:-1]) for n in told_again if n["note"] == "unread" and "only" in told)
    assert "no requirement" not in told or told_again


def test_home_is_no_project(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A list in the home folder counts there, and not for the folders below."""
    write(tmp_path / "requirements.txt", "flask\n")
    (tmp_path / "work").mkdir()
    monkeypatch.setenv("HOME", str(tmp_path))
    assert [find_project(RealMachine(), str(tmp_path / n)) is None for n in ("", "work")] == [False, True]


@pytest.mark.parametrize(("made", "start", "found"), [
    ({"requirements.txt": ""}, "src/inner", ""), ({"requirements.txt": "", "src/setup.cfg": ""}, "src/inner",
    "src"),
    ({"requirements.txt": "", "src/.git": ""}, "src/inner", None), ({"requirements.txt": ""}, "a/b/c/d", None),
    ({"src/requirements/base.txt": ""}, "src", "src"), ({"poetry.lock": ""}, "", ""), ({"notes.txt": ""}, "",
    None),
])
def test_which_folder(made: Mapping[str, str], start: str, found: str | None, tmp_path: Path) -> None:
    """The nearest folder that says what it needs, not past a repository's top, and not far above."""
    for name, text in made.items():
        write(tmp_path / "top" / name, text)
    (tmp_path / "top" / start).mkdir(parents=True, exist_ok=True)
    project = find_project(RealMachine(), str(tmp_path / "top" / start))
    expected = None if found is None else str(tmp_path / "top" / found)
    assert (project.folder if project else None) == expected


# what it is: (files of the project, what is asked, the seat, the cause, what is installed, its version)
WISHES: dict[str, tuple[dict[str, str], str, str, str, str, str]] = {
    "an exact version": ({"requirements.txt": "seedling==1.0\n"}, "seedling", "shell", "not-installed",
                         "seedling==1.0", "1.0"),
    "a bound": ({"pyproject.toml": "[project]\nname='x'\ndependencies=['Seedling<2']\n"}, "seedling", "shell",
                "not-installed", "Seedling<2", "1.0"),
    "a bound of a tool": ({"pyproject.toml": "[tool.poetry.dependencies]\nseedling = '~1.0'\n",
    "poetry.lock": ""},
                          "seedling", "shell", "not-installed", "seedling>=1.0,<1.1", "1.0"),
    "for other Pythons only": ({"requirements.txt": "seedling==1.0; python_version < '3'\n"}, "seedling",
    "shell",
                               "not-installed", "seedling", "2.0"),
    "another name": ({"requirements.txt": "sprout-client==1.0\n"}, "sprout", "shell", "not-installed",
                     "sprout-client==1.0", "1.0"),
    "name with py": ({"Pipfile": "[packages]\npyshoot = '*'\n"}, "shoot", "shell", "not-installed", "pyshoot",
    "1.0"),
    "not a slip of the pen": ({"requirements.txt": "seedling\n", "seedlin.py": ""}, "seedling", "shell",
                              "not-installed", "seedling", "2.0"),
    "elsewhere in another version": ({"environment.yml": "dependencies:\n  - seedling=1.0\n"}, "seedling",
    "shell",
                                     "installed-elsewhere", "seedling==1.0.*", "1.0"),
    "in several lines": ({"requirements.txt": "Seedling>=1; python_version > '3'\nseedling==9; python_version < '3'\n",
                          "pyproject.toml": "[project]\nname = 'x'\ndependencies = ['seedling<2']\n"},
                         "seedling", "shell", "not-installed", "Seedling>=1,<2", "1.0"),
    "a version that is nowhere": ({"requirements.txt": "seedling==7.0\n"}, "seedling", "shell", "not-installed",
                                  "seedling", "2.0"),
    "for a notebook": ({"work/a.ipynb": "", "requirements.txt": "seedling==1.0\n"}, "seedling",
                       "notebook:work/a.ipynb", "not-installed", "seedling==1.0", "1.0"),
    "for a script": ({"bin/run.py": "import seedling\n",
    "setup.cfg": "[options]\ninstall_requires = seedling<2\n"},
                     "seedling", "script:bin/run.py", "not-installed", "seedling<2", "1.0"),
}


@pytest.mark.parametrize("what", WISHES)
def test_project_asks_for_it(what: str, world: World, validate) -> None:
    """The version that the project asks for is put in, with the line that asks; the import then works."""
    files, ask, seat, cause, wanted, version = WISHES[what]
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    for each in ("1.0", "2.0"):
        wheel = world.wheels.add("seedling", each)
    world.wheels.add("sprout-client", "1.0", {"sprout.py": "version = '1.0'\n"})
    world.wheels.add("pyshoot", "1.0", {"shoot.py": "version = '1.0'\n"})
    if cause == "installed-elsewhere":
        world.wheels.install(wheel, site_of(world.venv("other")))
    for name, text in files.items():
        if name.endswith(".ipynb"):
            kernel = [python_of(lab), "-m", "ipykernel_launcher", "-f", "{connection_file}"]
            write(world.home / ".local/share/jupyter/kernels/lab/kernel.json",
                  json.dumps({"argv": kernel, "display_name": "lab", "language": "python"}))
            notebook(world.project / name, "lab")
        else:
            write(world.project / name, text)
    document = world.answer("why", ask, "--at", seat)
    validate(document)
    first = document["result"]["imports"][0]["causes"][0]
    assert first["cause"] == cause and first["remedies"][0]["argv"][-1] == wanted, first
    asks = [e for e in first["evidence"] if e["says"].startswith("the project asks for it")]
    assert bool(asks) == (what != "for other Pythons only") and all(e["line"] for e in asks)
    locks = [r for r in first["remedies"] if r["typed"] == "poetry install" or "poetry install" in r["do"]]
    assert bool(locks) == ("poetry.lock" in files)
    carry_out(first["remedies"][0], "command", world)
    assert world.answer("why", ask, "--at", seat)["exit"] == 0
    done = run([python_of(lab), "-c", f"import {ask}; print({ask}.version)"], env=world.env)
    assert done.stdout.strip() == version


def test_project_in_one_go(world: World) -> None:
    """Of a file, all in the versions that are asked for; the list is offered; locks are not forgotten."""
    world.activate(world.venv("lab", pip=True))
    for name in ("seedling", "sprout"):
        for version in ("1.0", "2.0"):
            world.wheels.add(name, version)
    write(world.project / "requirements.txt", "seedling<2\nsprout==1.0\n")
    write(world.project / "app.py", "import seedling\nimport sprout\n")
    alone = world.answer("why", "seedling")["result"]["imports"][0]["causes"][0]["remedies"]
    assert alone[1]["argv"][-2:] == ["-r", str(world.project / "requirements.txt")]
    group = world.answer("why", "app.py")["result"]["groups"][0]
    carry_out(group["remedies"][0], "command", world)
    done = run(["python", "-c", "import seedling, sprout; print(seedling.version, sprout.version)"],
    env=world.env)
    assert done.stdout == "1.0 1.0\n" and world.answer("why", "app.py")["exit"] == 0
    write(world.project / "uv.lock", "")
    added = world.answer("why", "grain")["result"]["imports"][0]["causes"][0]["remedies"]
    assert added[-1]["kind"] == "manual" and added[-1]["typed"] == "uv add grain"
    text = world.kalyx("why", "grain").stdout
    assert "\n       $ uv add grain\n" in text and "uv.lock does not list" in text
