"""Seats whose kernel, interpreter, variables or flags keep an import away: each built for real."""

from __future__ import annotations

import json
import shutil
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.situations.accidents import planted
from tests.situations.general import Situation
from tests.support.build import (
    BASE_PYTHON,
    SHORT,
    World,
    kernelspec,
    make_venv,
    notebook,
    python_of,
    site_of,
    write,
)

SYSTEM = Path("/usr/bin/python3")
CELL = ["-m", "ipykernel_launcher", "-f", "{connection_file}"]


def kernel(w: World, name: str, python: str, *flags: str, **env: str) -> Path:
    """Register a kernel that starts a Python with flags and variables."""
    more = {"env": env} if env else {}
    return kernelspec(w.home, name, [python, *flags, *CELL], name, **more)


def cut_from_base(env: Path) -> Path:
    """Have an environment's links lead to a base that is gone."""
    for program in (env / "bin").glob("python*"):
        program.unlink()
        program.symlink_to(env.parent / "removed" / program.name)
    return env


def moved(w: World, lab: Path) -> None:
    """Rename the environment that a kernel runs."""
    kernel(w, "field", python_of(lab))
    planted(w, lab)
    lab.rename(lab.parent / "meadow")


def base_gone(w: World, lab: Path, version: str = "") -> None:
    """Take the base away from an environment, that of the same version or all that are like it."""
    meadow = w.venv("meadow", pip=True)
    planted(w, meadow)
    cut_from_base(meadow)
    if version:
        config = meadow / "pyvenv.cfg"
        write(config, "".join(f"version = {version}\n" if line.startswith("version") else f"{line}\n"
                              for line in config.read_text().splitlines()))
    kernel(w, "meadow", python_of(meadow))


def broken_spec(w: World, lab: Path) -> None:
    """Cut a kernel.json off."""
    spec = kernel(w, "plants", python_of(lab))
    write(spec, spec.read_text()[:-9])
    planted(w, lab)


def one_letter_off(w: World, lab: Path) -> None:
    """Have a kernel name an environment that is called nearly as one that is there."""
    kernel(w, "plants", python_of(lab).replace("/lab/", "/labs/"))
    planted(w, lab)


def forgotten(w: World, lab: Path) -> None:
    """Have a kernel's environment deleted, where another has the module."""
    kernel(w, "greenhouse", str(w.home / "gone" / "bin" / "python"))
    planted(w, lab)
    notebook(w.project / "a.ipynb", "greenhouse")


def not_registered(w: World, lab: Path) -> None:
    """Have a notebook name a kernel that is nowhere, where one runs an environment with the module."""
    kernel(w, "bare", python_of(w.venv("bare")))
    kernel(w, "trials", python_of(lab))
    planted(w, lab)
    notebook(w.project / "a.ipynb", "zz")


def on_the_system(w: World, lab: Path) -> None:
    """Have a notebook run the system's Python, into which nobody is to install."""
    if not next(Path("/usr/lib").glob("python3*/EXTERNALLY-MANAGED"), None):
        pytest.skip("this system's Python may be changed by pip")
    kernel(w, "system", str(SYSTEM))
    kernel(w, "trials", python_of(lab))
    planted(w, lab)
    notebook(w.project / "a.ipynb", "system")


def by_its_name(w: World, lab: Path) -> None:
    """Have a kernel carry the name of an environment, and run another."""
    kernel(w, "lab", python_of(w.venv("other")))
    planted(w, lab)


def flagged(*flags: str, **env: str) -> Callable[[World, Path], None]:
    """Return what has a kernel keep the folder of its notebook off the path."""
    def build(w: World, lab: Path) -> None:
        kernel(w, "trials", python_of(lab), *flags, **env)
        write(w.project / "nb" / "traykit.py", "")
        notebook(w.project / "nb" / "a.ipynb", "trials")
    return build


def user_copy(w: World, lab: Path) -> None:
    """Have a copy in the user site come before the base's, at a kernel whose environment is open to both."""
    if not Path("/usr/lib/python3/dist-packages/six.py").exists():
        pytest.skip("this system's Python has no package to find in it")
    opened = make_venv(w.home / "open", str(SYSTEM), options=["--system-site-packages"])
    version = site_of(opened).parent.name
    write(w.home / ".local" / "lib" / version / "site-packages" / "six.py", "raise ImportError('old')\n")
    kernel(w, "open", python_of(opened))


def project_root(w: World, lab: Path) -> None:
    """Ask in a notebook for a module that lies at the top of the project."""
    kernel(w, "trials", python_of(lab))
    write(w.project / "traykit" / "__init__.py", "")
    notebook(w.project / "nb" / "a.ipynb", "trials")


def not_executable(w: World, lab: Path) -> None:
    """Have an environment with an interpreter of its own, which may not be executed."""
    bare = make_venv(w.home / "envs" / "bare", options=["--copies"])
    (bare / "bin" / "python").chmod(0o644)


def conda_like(w: World, lab: Path, *modules: str) -> Path:
    """Lay out an environment as conda does: no pyvenv.cfg, a library of its own, conda-meta."""
    base, place = Path(sys.base_prefix), w.home / "miniconda3" / "envs" / "sci"
    library = place / "lib" / f"python{SHORT}"
    (library / "site-packages").mkdir(parents=True)
    (place / "bin").mkdir()
    shutil.copy(Path(BASE_PYTHON).resolve(), place / "bin" / "python")
    for file in (base / "lib" / f"python{SHORT}").iterdir():
        if file.name not in ("site-packages", "__pycache__"):
            (library / file.name).symlink_to(file)
    for file in (base / "lib").glob("libpython*"):
        (place / "lib" / file.name).symlink_to(file)
    write(place / "conda-meta" / "history", "")
    for name in modules:
        w.wheels.install(w.wheels.add(name, "1"), library / "site-packages")
    return place


REACH = [
    Situation("pip asked for, and not there", lambda w, e: w.venv("bare") and None, "pip", "pip-absent",
              at="env:../envs/bare",
              remedy="command"),
    Situation("interpreter that may not be executed", not_executable, "json", "interpreter-broken",
              at="env:../envs/bare",
              remedy="command"),
    Situation("first line that leads nowhere", lambda w,
              e: write(w.project / "s.py", "#!/nowhere/python\nimport json\n", 0o755)
              and None, "json", "interpreter-gone", at="script:s.py", remedy="edit"),
    Situation("not in a conda environment", lambda w, e: conda_like(w, e) and w.wheels.add("traygrid") and None,
              "traygrid",
              "not-installed", at="env:sci", remedy="command"),
    Situation("in a conda environment alone", lambda w, e: conda_like(w, e, "traygrid") and None, "traygrid",
              "installed-elsewhere",
              says="in sci", remedy="command"),
    Situation("user site switched off by a variable", lambda w,
              e: (kernel(w, "base", BASE_PYTHON, PYTHONNOUSERSITE="1"),
              w.wheels.install(w.wheels.add("traygrid", "1"),
                               w.home / ".local/lib" / f"python{SHORT}" / "site-packages"),
              None)[-1], "traygrid", "user-site-off", at="kernel:base", says="PYTHONNOUSERSITE"),
    Situation("kernel of a moved environment", moved, "seedling", "kernel-interpreter-gone", at="kernel:field",
              remedy="edit"),
    Situation("kernel of an environment without base", base_gone, "seedling", "kernel-interpreter-gone",
              at="kernel:meadow", remedy="command"),
    Situation("no base of its version", lambda w, e: base_gone(w, e, "3.1.2"), "seedling", "interpreter-gone",
              at="env:meadow", remedy="command", others=("env-base-gone",)),
    Situation("kernel.json cut off", broken_spec, "seedling", "kernel-unreadable", at="kernel:plants",
              remedy="edit"),
    Situation("kernel one letter off", one_letter_off, "seedling", "kernel-interpreter-gone",
              at="kernel:plants", remedy="edit"),
    Situation("kernel of a deleted environment", forgotten, "seedling", "kernel-interpreter-gone",
              at="kernel:greenhouse", remedy="edit"),
    Situation("its notebook", forgotten, "seedling", "kernel-interpreter-gone", at="a.ipynb", remedy="edit"),
    Situation("kernel that is not registered", not_registered, "seedling", "kernel-missing", at="a.ipynb",
              remedy="edit"),
    Situation("notebook on the system's Python", on_the_system, "seedling", "installed-elsewhere", at="a.ipynb",
              remedy="edit"),
    Situation("kernel of another's name", by_its_name, "seedling", "installed-elsewhere", at="kernel:lab",
              remedy="edit"),
    Situation("kernel with -I", flagged("-I"), "traykit", "own-code-unreachable", at="nb/a.ipynb",
              remedy="edit"),
    Situation("kernel with -sP", flagged("-sP") if SHORT >= "3.11" else flagged("-I"), "traykit",
              "own-code-unreachable", at="nb/a.ipynb", remedy="edit"),
    Situation("user site before the base's", user_copy, "six", "hidden-by-user-site", at="kernel:open",
              remedy="edit"),
    Situation("top of the project", project_root, "traykit", "own-code-unreachable", at="nb/a.ipynb",
              remedy="edit"),
    *([Situation("kernel with PYTHONSAFEPATH", flagged(PYTHONSAFEPATH="1"), "traykit", "own-code-unreachable",
                 at="nb/a.ipynb", remedy="edit")] if SHORT >= "3.11" else []),
]


# -- what may come together at one notebook ---------------------------------------------------
def change_spec(w: World, **changes: object) -> None:
    """Change the kernel.json of the notebook's kernel: ``flag`` is put into argv, ``program`` replaces it."""
    file = w.home / ".local/share/jupyter/kernels/lab/kernel.json"
    spec = json.loads(file.read_text())
    for name, value in changes.items():
        if name == "flag":
            spec["argv"].insert(1, value)
        elif name == "program":
            spec["argv"][0] = value
        else:
            spec.setdefault("env", {})[name] = value
    write(file, json.dumps(spec))


def old_copy(folder: Path) -> str:
    """Write a package that lacks what is asked of it."""
    write(folder / "soilbook" / "__init__.py", "")
    write(folder / "soilbook" / "ground.py", "clay = 1\n")
    return str(folder)


def to_user_site(w: World, lab: Path) -> None:
    """Move a package into the user site, which an environment does not look into."""
    place = w.home / ".local" / "lib" / f"python{SHORT}" / "site-packages"
    place.mkdir(parents=True)
    for entry in site_of(lab).glob("soilbook*"):
        shutil.move(entry, place / entry.name)


TROUBLES: dict[str, Callable[[World, Path], object]] = {
    "PYTHONPATH": lambda w, e: change_spec(w, PYTHONPATH=old_copy(w.root / "stash")),
    "-S": lambda w, e: change_spec(w, flag="-S"),
    "-I": lambda w, e: change_spec(w, flag="-I"),
    "gone": lambda w, e: change_spec(w, program=str(w.home / "envs" / "labs" / "bin" / "python")),
    "PYTHONHOME": lambda w, e: change_spec(w, PYTHONHOME=str(w.root)),
    "not registered": lambda w, e: notebook(w.project / "nb" / "a.ipynb", "lap"),
    "in the user site": to_user_site,
    "uninstalled": lambda w, e: [shutil.rmtree(p) for p in site_of(e).glob("soilbook*")],
    "own file": lambda w, e: write(w.project / "nb" / "soilbook.py", ""),
    "own folder": lambda w, e: write(w.project / "nb" / "seedling" / "notes.txt", ""),
    "path line": lambda w, e: write(site_of(e) / "zz.pth", "import sys; sys.path.insert(0, "
                                    f"{old_copy(w.root / 'more')!r})\n"),
}
