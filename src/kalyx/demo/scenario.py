"""Builds Fernhollow Seed Bank: a made-up archive of plant seeds, with everyday mistakes in it.

What lies where:

- ``home/``: a home folder of its own
- ``home/envs/lab``: the current environment; ``lab-old``: the one that everybody forgot;
  ``field``: laid out as conda does it (where the platform allows); ``vault``: moved after it was made
- ``home/.local/bin/pip``: a pip that belongs to lab-old, before lab on PATH
- ``home/.local/share/jupyter``: a kernel "lab" that runs lab-old; "greenhouse", whose environment
  is gone
- ``home/fernhollow/``: the project: a notebook, scripts, editor settings, a file and a folder of its
  own with a package's name, a visitor's traceback and her mail with a beacon's block, and what stands in for a
  container
- ``wheels/``: the distributions that pip finds without a network
- ``old-disk/``: a wheel for an older Python, copied into lab by hand
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import zipfile
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from kalyx.core.errors import Refused
from kalyx.core.lean.record import record
from kalyx.demo.distributions import KERNEL_ARGS, build_wheels
from kalyx.demo.visitor import mail

__all__ = ["Scenario", "build", "program"]

WINDOWS = os.name == "nt"


@record
class Scenario:
    """A built scenario: its folders, and the variables that make it the world."""

    folder: str
    project: str
    env: dict[str, str]

    @property
    def changed(self) -> dict[str, str]:
        """The variables that differ from the surrounding ones."""
        return {k: v for k, v in self.env.items() if os.environ.get(k) != v}

    @property
    def unset(self) -> list[str]:
        """Variables of the surroundings that the scenario must not see."""
        return sorted(k for k in os.environ if k not in self.env and k.startswith(_FOREIGN))


_FOREIGN = ("JUPYTER", "PYTHON", "VIRTUAL_ENV", "CONDA", "PIP_", "XDG_", "IPYTHON", "PYENV")
_KEPT = ("SYSTEMROOT", "SystemRoot", "COMSPEC", "PATHEXT", "TEMP", "TMP", "TMPDIR", "LANG",
         "LC_ALL", "TERM", "COLUMNS", "LINES", "NO_COLOR", "PYTHONDONTWRITEBYTECODE")


def build(folder: str) -> Scenario:
    """Build everything below `folder`, which must not exist or be empty.

    Raises:
        Refused: the folder holds something.
    """
    folder = os.path.realpath(folder)
    if os.path.exists(folder) and (not os.path.isdir(folder) or os.listdir(folder)):
        raise Refused(f"{folder} is not empty.", "Name a folder that is new or empty.")
    home = os.path.join(folder, "home")
    project = os.path.join(home, "fernhollow")
    wheels = os.path.join(folder, "wheels")
    for path in (project, wheels, os.path.join(home, "envs"), os.path.join(home, ".local", "bin")):
        os.makedirs(path, exist_ok=True)
    old_disk = os.path.join(folder, "old-disk")
    os.makedirs(old_disk)
    build_wheels(wheels, old_disk)
    scenario = Scenario(folder, project, _variables(home, wheels))
    _build_environments(scenario, home)
    _damage(os.path.join(home, "envs", "lab"))
    _write_pip(home)
    _write_kernels(home)
    _write_project(project)
    return scenario


def program(prefix: str, name: str) -> str:
    """Return the path of a program of an environment."""
    return os.path.join(prefix, "Scripts" if WINDOWS else "bin", name + (".exe" if WINDOWS else ""))


def _variables(home: str, wheels: str) -> dict[str, str]:
    env = {k: os.environ[k] for k in _KEPT if k in os.environ}
    lab = os.path.join(home, "envs", "lab")
    system = [r"C:\Windows\System32"] if WINDOWS else ["/usr/bin", "/bin"]
    env.update({  # the wheels as a URL: pip splits a plain path at spaces
        "HOME": home, "PATH": os.pathsep.join([os.path.join(home, ".local", "bin"),
                                               os.path.dirname(program(lab, "x")), *system]),
        "VIRTUAL_ENV": lab, "PIP_NO_INDEX": "1", "PIP_FIND_LINKS": Path(wheels).as_uri(),
        "PIP_CONFIG_FILE": os.devnull, "PIP_DISABLE_PIP_VERSION_CHECK": "1",
    })
    if WINDOWS:
        env.update({"USERPROFILE": home, "APPDATA": os.path.join(home, "AppData", "Roaming"),
                    "LOCALAPPDATA": os.path.join(home, "AppData", "Local")})
    return env


# -- distributions -----------------------------------------------------------------------------
# -- environments -------------------------------------------------------------------------------
def _build_environments(scenario: Scenario, home: str) -> None:
    envs = os.path.join(home, "envs")
    jobs = [
        lambda: _venv(scenario, os.path.join(envs, "lab"),
                      ["sporecount-0.4.1", "sprigkernel-1.0", "vaultmap-2.2.0", "driftplot-0.8.0", "springplan-1.1.0",
                       "seedaxis-1.4.0", "skylog-0.2.0"], "--without-pip", by_hand="old-disk"),
        lambda: _venv(scenario, os.path.join(envs, "lab-old"),
                      ["germkit-2.1.0", "humidlog-1.3.0", "sprigkernel-1.0", "greenhouse_skylog-4.0.0"],
                      "--without-pip"),
        lambda: _ended_at_start(scenario, os.path.join(envs, "winter")),
        lambda: _move_environment(scenario, envs),
    ]
    if not WINDOWS:
        jobs.append(lambda: _conda_layout(scenario, os.path.join(envs, "field")))
    with ThreadPoolExecutor() as pool:
        for done in [pool.submit(job) for job in jobs]:
            done.result()
    _give_pip(scenario, os.path.join(envs, "lab"), os.path.join(envs, "lab-old"))


def _ended_at_start(scenario: Scenario, prefix: str) -> None:
    """Make an environment in which an old tool has left a line that ends Python at every start."""
    _venv(scenario, prefix, [], "--without-pip")
    with open(os.path.join(_site(prefix), "frost_guard.pth"), "w", encoding="utf-8") as file:
        file.write("import sys; sys.exit('frost guard: the season is over')\n")


def _base_python() -> str:
    return getattr(sys, "_base_executable", None) or sys.executable


def _run(argv: Sequence[str], env: dict[str, str]) -> None:
    ran = subprocess.run(argv, env=env, stdin=subprocess.DEVNULL, capture_output=True, text=True,
                         check=False, timeout=120)
    if ran.returncode:
        said = (ran.stderr or ran.stdout).strip().splitlines()
        raise Refused(f"The demo could not be built: {' '.join(argv)} ended with status "
                      f"{ran.returncode}" + (f": {said[-1]}" if said else "."),
                      "The demo needs a Python with venv and ensurepip.")


def _venv(scenario: Scenario, prefix: str, wheels: list[str], *options: str, by_hand: str = "") -> None:
    """Make an environment and fill it with wheels; dependencies are left out on purpose.

    What lies in the folder `by_hand` is unpacked into it without asking whether it fits.
    """
    _run([_base_python(), "-m", "venv", *options, prefix], scenario.env)
    for wheel in wheels:
        _install(os.path.join(scenario.folder, "wheels", f"{wheel}-py3-none-any.whl"), prefix)
    if by_hand:
        folder = os.path.join(scenario.folder, by_hand)
        for name in os.listdir(folder):
            _unpack(os.path.join(folder, name), _site(prefix))


def _install(wheel: str, prefix: str) -> None:
    """Do what an installer does with a plain wheel (PEP 427): unpack, place data, write who did it."""
    site = _site(prefix)
    _unpack(wheel, site)
    with zipfile.ZipFile(wheel) as archive:
        names = archive.namelist()
    info = next(n.split("/")[0] for n in names if ".dist-info/" in n)
    _write(os.path.join(site, info, "INSTALLER"), "pip\n")
    _write(os.path.join(site, info, "REQUESTED"), "")
    with open(os.path.join(site, info, "RECORD"), "a", encoding="utf-8") as record:
        record.write("".join(f"{info}/{name},,\n" for name in ("INSTALLER", "REQUESTED")))
    data = os.path.join(site, info.replace(".dist-info", ".data"), "data")
    if os.path.isdir(data):
        shutil.copytree(data, prefix, dirs_exist_ok=True)
        shutil.rmtree(os.path.dirname(data))


def _give_pip(scenario: Scenario, first: str, second: str) -> None:
    """Give two environments a pip: a copy of the one that Kalyx was installed with, where there is one.

    Making one anew takes as long as all the rest.
    """
    own = next((p for p in sys.path if os.path.isfile(os.path.join(p, "pip", "__main__.py"))), None)
    if own is None:
        _run([program(first, "python"), "-m", "ensurepip"], scenario.env)
        own = _site(first)
    else:
        _copy_pip(own, first)
    _copy_pip(own, second)


def _copy_pip(source: str, target: str) -> None:
    for name in os.listdir(source):
        if name == "pip" or (name.startswith("pip-") and name.endswith(".dist-info")):
            shutil.copytree(os.path.join(source, name), os.path.join(_site(target), name),
                            ignore=shutil.ignore_patterns("__pycache__"))
    if WINDOWS:  # its programs are launchers, which pip alone can write
        _run([program(target, "python"), "-m", "pip", "install", "-q", "--force-reinstall", "--no-deps", "pip"],
             {**os.environ})
        return
    python = f"{program(target, 'python')}{sys.version_info[0]}.{sys.version_info[1]}"
    head = f"#!{python}\n"
    if " " in python or len(python) > 120:  # no first line may be so: the shell starts it, as pip writes it
        head = f"#!/bin/sh\n'''exec' \"{python}\" \"$0\" \"$@\"\n' '''\n"
    script = (f"{head}import sys\n"
              "from pip._internal.cli.main import main\nif __name__ == '__main__':\n    sys.exit(main())\n")
    for name in ("pip", "pip3", f"pip{sys.version_info[0]}.{sys.version_info[1]}"):
        _write(program(target, name), script, 0o755)


def _move_environment(scenario: Scenario, envs: str) -> None:
    """Make an environment and give its folder another name, as people do."""
    old = os.path.join(envs, "vault-2024")
    _run([_base_python(), "-m", "venv", "--without-pip", old], scenario.env)
    os.rename(old, os.path.join(envs, "vault"))


def _damage(prefix: str) -> None:
    """Cut files of installed packages off, as a full disk does."""
    for name, size in (("vaultmap/shelves.py", 38), ("springplan/beds.py", 60)):
        with open(os.path.join(_site(prefix), *name.split("/")), "r+", encoding="utf-8") as file:
            file.truncate(size)


def _site(prefix: str) -> str:
    """Return the site-packages of an environment of this Python version."""
    if WINDOWS:
        return os.path.join(prefix, "Lib", "site-packages")
    return os.path.join(prefix, "lib", f"python{sys.version_info[0]}.{sys.version_info[1]}",
                        "site-packages")


def _unpack(wheel: str, site: str) -> None:
    """Unpack a wheel as it is."""
    with zipfile.ZipFile(wheel) as archive:
        archive.extractall(site)


def _conda_layout(scenario: Scenario, prefix: str) -> None:
    """Lay an environment out as conda does: an interpreter of its own, conda-meta beside it.

    The program is copied and the standard library linked, so that the
    interpreter finds itself inside the prefix.
    """
    version = f"{sys.version_info[0]}.{sys.version_info[1]}"
    base = sys.base_prefix
    library = os.path.join(prefix, "lib", f"python{version}")
    os.makedirs(os.path.join(library, "site-packages"))
    os.makedirs(os.path.join(prefix, "bin"))
    for name in os.listdir(os.path.join(base, "lib", f"python{version}")):
        if name not in ("site-packages", "dist-packages", "EXTERNALLY-MANAGED"):
            os.symlink(os.path.join(base, "lib", f"python{version}", name),
                       os.path.join(library, name))
    for name in os.listdir(os.path.join(base, "lib")):
        if name.startswith("libpython"):
            os.symlink(os.path.join(base, "lib", name), os.path.join(prefix, "lib", name))
    own = os.path.join(prefix, "bin", f"python{version}")
    shutil.copy2(os.path.realpath(_base_python()), own)
    for name in ("python", "python3"):
        os.symlink(f"python{version}", os.path.join(prefix, "bin", name))
    full = ".".join(str(n) for n in sys.version_info[:3])
    _write(os.path.join(prefix, "conda-meta", "history"), "==> made by the demo <==\n")
    _write(os.path.join(prefix, "conda-meta", f"python-{full}-h0_0_cpython.json"),
           json.dumps({"name": "python", "version": full, "build": "h0_0_cpython"}) + "\n")
    with open(os.devnull, "w", encoding="utf-8") as nowhere:
        works = subprocess.run([own, "-c", "import sys; sys.exit(sys.prefix != sys.argv[1])",
                                prefix], env=scenario.env, stdout=nowhere, stderr=nowhere,
                               check=False).returncode == 0
    if not works:  # an interpreter that cannot be copied: do without this environment
        shutil.rmtree(prefix)
        return
    _unpack(os.path.join(scenario.folder, "wheels", "traygrid-0.9.2-py3-none-any.whl"),
            _site(prefix))


# -- files ----------------------------------------------------------------------------------------
def _write(path: str, text: str, mode: int = 0o644) -> None:
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(path, "w", encoding="utf-8") as file:
        file.write(text)
    os.chmod(path, mode)


def _write_pip(home: str) -> None:
    """Put lab-old's pip where it is found before lab's."""
    old = os.path.join(home, "envs", "lab-old")
    target = os.path.join(home, ".local", "bin", "pip.exe" if WINDOWS else "pip")
    os.makedirs(os.path.dirname(target), exist_ok=True)
    shutil.copy2(program(old, "pip"), target)


def _write_kernels(home: str) -> None:
    data = (os.path.join(home, "AppData", "Roaming", "jupyter") if WINDOWS else
            os.path.join(home, "Library", "Jupyter") if sys.platform == "darwin" else
            os.path.join(home, ".local", "share", "jupyter"))
    for name, label, env in (("lab", f"lab (Python {sys.version_info[0]}.{sys.version_info[1]})",
                              "lab-old"), ("greenhouse", "Greenhouse", "greenhouse")):
        argv = [program(os.path.join(home, "envs", env), "python"), *KERNEL_ARGS]
        spec = {"argv": argv, "display_name": label, "language": "python"}
        _write(os.path.join(data, "kernels", name, "kernel.json"), json.dumps(spec, indent=1))


def _write_project(project: str) -> None:
    folder = "Scripts" if WINDOWS else "bin"
    _write(os.path.join(project, ".vscode", "settings.json"), (
        "{\n  // the interpreter for this folder\n"
        f'  "python.defaultInterpreterPath": "${{workspaceFolder}}/envs/lab/{folder}/python",\n'
        '  "editor.rulers": [100],\n}\n'))
    cells = [("markdown", "# Germination trials, batch 12"),
             ("code", "from germkit import Trial\n\ntrial = Trial(rows=6, columns=8)")]
    notebook = {
        "cells": [{"cell_type": kind, "metadata": {}, "source": text.splitlines(keepends=True),
                   **({"execution_count": None, "outputs": []} if kind == "code" else {})}
                  for kind, text in cells],
        "metadata": {"kernelspec": {"display_name": "lab", "language": "python", "name": "lab"},
                     "language_info": {"name": "python"}},
        "nbformat": 4, "nbformat_minor": 4}
    _write(os.path.join(project, "germination.ipynb"), json.dumps(notebook, indent=1) + "\n")
    _write(os.path.join(project, "cold_room.py"), (
        '"""Watches the cold room."""\n\nimport sporecount\n\n'
        'print(sporecount.count(["a", "b"]))\n'))
    _write(os.path.join(project, "sporecount.py"), (
        "# a first try, before the package was found\nsamples = []\n"))
    _write(os.path.join(project, "seedlots", "2026.csv"), "lot,seeds\nF-1,480\n")
    _write(os.path.join(project, "row-plan.py"), "def beds(rows):\n    return [row % 6 for row in rows]\n")
    _write(os.path.join(project, "sowing.py"), (
        "pip install germkit\n\nimport csv\nfrom row_plan import beds\n\n"
        "print(beds(range(12)), csv.__name__)\n"))
    _write(os.path.join(project, "inventory.py"), (
        '"""Counts what is in the vaults."""\n\nimport csv\nimport sys\n\nimport humidlog\n'
        "from traygrid import cells\n\ntry:\n    import fastcount\nexcept ImportError:\n"
        "    fastcount = None\n\nsys.path.append('helpers')\nimport labels\n"))
    _write(os.path.join(project, "old_course.py"), (
        '"""Lesson 3: a table of trials."""\n\nfrom collections import Mapping\n\n\n'
        "class Trials(Mapping):\n    rows = ()\n"))
    _write(os.path.join(project, "requirements.txt"), (
        "# what the vault's scripts count on\ngermkit>=2\nhumidlog\ndewpoint-client<0.5  # the mast is old\n"))
    _write(os.path.join(project, "helpers", "labels.py"), "WIDTH = 32\n")
    _write_from_elsewhere(project, folder)


def _write_from_elsewhere(project: str, folder: str) -> None:
    _write(os.path.join(project, "visitor-beacon.txt"), mail())
    _write(os.path.join(project, "in_container.py"), (
        "# starts Python as a container of the vault's web page does: with variables of its own, and no others\n"
        "import os\nimport subprocess\nimport sys\n\n"
        "own = {k: os.environ[k] for k in ('HOME', 'USERPROFILE', 'SYSTEMROOT') if k in os.environ}\n"
        "python = os.path.join(own.get('HOME') or own['USERPROFILE'], 'envs', 'lab-old', "
        f"{folder!r}, 'python')\n"
        "sys.exit(subprocess.call([python, '-'], env=own))\n"))
    _write(os.path.join(project, "visitor.txt"), (
        "Traceback (most recent call last):\n"
        '  File "C:\\Users\\visitor\\trays.py", line 2, in <module>\n    import germkit\n'
        '  File "C:\\Python310\\Lib\\site-packages\\germkit\\trial.py", line 1, in <module>\n'
        "    from traygrid import cells\nModuleNotFoundError: No module named 'traygrid'\n"))
