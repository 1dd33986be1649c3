"""Builds real situations: environments, installed distributions, kernelspecs, notebooks."""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
import shutil
import stat
import subprocess
import sys
import sysconfig
import zipfile
from collections.abc import Callable, Mapping, Sequence
from functools import cache
from pathlib import Path

from kalyx.demo.wheels import build_wheel
from tests.support.forked import Forked
from tests.support.measured import SHARED

BASE_PYTHON = getattr(sys, "_base_executable", None) or sys.executable
KALYX = os.path.join(os.path.dirname(sys.executable), "kalyx")
# The system's administrator reads everything, unless without the capability for it
UNPRIVILEGED = ["setpriv", "--bounding-set=-dac_override,-dac_read_search"]
SHORT = f"{sys.version_info[0]}.{sys.version_info[1]}"


def other_pythons() -> dict[str, str]:
    """Return the other CPython versions of this machine by short version."""
    found: dict[str, str] = {}
    roots = [Path(os.environ.get("PYENV_ROOT", Path.home() / ".pyenv")) / "versions"]
    for root in roots:
        for program in sorted(root.glob("*/bin/python")) if root.is_dir() else []:
            found[".".join(program.parent.parent.name.split(".")[:2])] = str(program)
    for name in ("/usr/bin/python3", "/usr/bin/pypy3"):
        if os.path.exists(name):
            found.setdefault(name, name)
    return found


def run(argv: Sequence[str | os.PathLike[str]], **more: object) -> subprocess.CompletedProcess[str]:
    """Run a command, its output as text."""
    options: dict[str, object] = {"capture_output": True, "text": True, "check": False,
                                  "stdin": subprocess.DEVNULL, "timeout": 120, **more}
    return subprocess.run([os.fspath(a) for a in argv], **options)  # type: ignore[call-overload]


def make_venv(folder: Path, python: str = BASE_PYTHON, *, pip: bool = False,
              options: Sequence[str] = ()) -> Path:
    """Make a virtual environment with an interpreter's own standard library, in an empty folder or a new one."""
    if (folder / "pyvenv.cfg").exists():  # made anew in its own place
        done = run([python, "-m", "venv", "--without-pip", *options, folder])
        assert done.returncode == 0, done.stderr
        return folder
    made = made_venv(python, tuple(options))
    shutil.copytree(made, folder, symlinks=True, dirs_exist_ok=True)
    for file in (folder / "pyvenv.cfg", *(folder / "bin").glob("[aA]ctivate*")):
        text = file.read_text().replace(str(made), str(folder)).replace(made.name, folder.name)
        file.write_text(text)
    if pip:
        for entry in (own_pip() if python == BASE_PYTHON else site_of(made_venv(python, (), pip=True))).iterdir():
            if entry.name == "pip":  # its many files are those of one environment; what tells of them is each one's own
                (site_of(folder) / entry.name).symlink_to(entry)
            elif entry.name.startswith("pip"):
                shutil.copytree(entry, site_of(folder) / entry.name, copy_function=os.link)
    return folder


@cache
def made_venv(python: str, options: tuple[str, ...], pip: bool = False) -> Path:
    """Have an interpreter make an environment, once: the others are its copies, which name their own place.

    With pip it takes seconds, so that all processes of a run share what one of them made.
    """
    def make(place: Path) -> None:
        done = run([python, "-m", "venv", *([] if pip else ["--without-pip"]), *options, place])
        assert done.returncode == 0, done.stderr

    return made_once((python, options, pip), "environment-that-is-copied", make)


@cache
def own_pip() -> Path:
    """Return a site folder that holds a copy of the pip which the tests have themselves, and nothing else.

    It is newer than the one that comes with a Python, and starts sooner.
    """
    def make(place: Path) -> None:
        for entry in Path(sysconfig.get_path("purelib")).glob("pip*"):
            if entry.name == "pip" or entry.name.startswith("pip-"):
                shutil.copytree(entry, place / entry.name)

    return made_once(("pip",), "site-packages", make)


@cache
def bare_python() -> str:
    """Return an interpreter that makes environments without pip, as it has none to put there: it takes no seconds.

    It is a copy of the tests' own, whose library is linked to.
    """
    library, program = Path(sysconfig.get_path("stdlib")), Path(BASE_PYTHON).resolve()

    def make(place: Path) -> None:
        (place / "bin").mkdir(parents=True)
        shutil.copy2(program, place / "bin")
        (place / "lib" / library.name / "site-packages").mkdir(parents=True)
        for entry in library.iterdir():
            if entry.name not in ("ensurepip", "site-packages", "dist-packages", "__pycache__"):
                (place / "lib" / library.name / entry.name).symlink_to(entry)

    return str(made_once(("bare",), "bare", make) / "bin" / program.name)


def made_once(what: object, name: str, make: Callable[[Path], object]) -> Path:
    """Return a folder that the first process of this run which asks for it makes."""
    place = shared_folder() / hashlib.sha256(repr(what).encode()).hexdigest() / name
    place.parent.mkdir(exist_ok=True)
    with open(place.parent / "lock", "w", encoding="ascii") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (place.parent / "made").exists():
            make(place)
            (place.parent / "made").touch()
    return place


def shared_folder() -> Path:
    """Return the folder that the processes of one run of the tests have in common."""
    return Path(os.environ[SHARED])


def python_of(env: Path) -> str:
    """Return an environment's interpreter."""
    return str(env / "bin" / "python")


def site_of(env: Path) -> Path:
    """Return an environment's site-packages."""
    return next(env.glob("lib/py*/site-packages"))


class Wheelhouse:
    """A folder of wheels that pip finds without a network."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)

    def add(self, name: str, version: str = "1.0", files: Mapping[str, str | bytes] | None = None,
            requires: Sequence[str] = (), **more: object) -> str:
        """Build a wheel; without files it holds one module of the distribution's name."""
        module = name.replace("-", "_")
        files = files or {f"{module}/__init__.py": f"version = {version!r}\n"}
        return build_wheel(str(self.folder), name, version, files, requires, **more)  # type: ignore[arg-type]

    def install(self, wheel: str, site: Path) -> None:
        """Unpack a wheel into a site folder, as an installer does."""
        with zipfile.ZipFile(wheel) as archive:
            archive.extractall(site)
        info = next(n.split("/")[0] for n in zipfile.ZipFile(wheel).namelist()
                    if ".dist-info/" in n)
        (site / info / "INSTALLER").write_text("pip\n")

    def variables(self) -> dict[str, str]:
        """Return the variables that make pip look here and nowhere else."""
        return {"PIP_NO_INDEX": "1", "PIP_FIND_LINKS": self.folder.as_uri(),
                "PIP_CONFIG_FILE": os.devnull, "PIP_DISABLE_PIP_VERSION_CHECK": "1"}


def write(path: Path, text: str | bytes, mode: int = 0o644) -> Path:
    """Write a file, its folders with it."""
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(text if isinstance(text, bytes) else text.encode())
    path.chmod(mode)
    return path


def kernelspec(home: Path, name: str, argv: Sequence[str], label: str | None = None,
               **more: object) -> Path:
    """Register a kernel for the user whose home is `home`."""
    spec = {"argv": list(argv), "display_name": label or name, "language": "python", **more}
    return write(home / ".local" / "share" / "jupyter" / "kernels" / name / "kernel.json",
                 json.dumps(spec))


def notebook(path: Path, kernel: str | None, code: str = "pass") -> Path:
    """Write a notebook that names a kernel."""
    spec = {"kernelspec": {"display_name": kernel, "language": "python", "name": kernel}} \
        if kernel else {}
    cell = {"cell_type": "code", "metadata": {}, "source": [code], "execution_count": None,
            "outputs": []}
    return write(path, json.dumps({"cells": [cell], "metadata": spec, "nbformat": 4,
                                   "nbformat_minor": 4}, indent=1))


class World:
    """A home folder, a project folder and the variables of a shell, apart from the real ones."""

    def __init__(self, root: Path, forked: Forked | None = None) -> None:
        """Lay it out in an empty folder; with `forked` the command is run by that, else as the real program."""
        self.root = root
        self.forked = forked
        self.home = root / "home"
        self.project = root / "home" / "project"
        self.project.mkdir(parents=True)
        self.wheels = Wheelhouse(root / "wheels")
        self.env = {"HOME": str(self.home), "PATH": "/usr/bin:/bin", "LANG": "C.UTF-8",
                    **self.wheels.variables()}
        if "PYTHONPATH" in os.environ:
            self.env["PYTHONPATH"] = os.environ["PYTHONPATH"]

    def venv(self, name: str = "lab", python: str = BASE_PYTHON, **more: object) -> Path:
        """Make an environment in the home folder."""
        return make_venv(self.home / "envs" / name, python, **more)  # type: ignore[arg-type]

    def activate(self, env: Path) -> None:
        """Do what an activation script does."""
        self.env["VIRTUAL_ENV"] = str(env)
        self.env["PATH"] = f"{env / 'bin'}:{self.env['PATH']}"

    def kalyx(self, *args: str, cwd: Path | None = None, env: Mapping[str, str] | None = None,
              privileged: bool = True, memory: int = 0) -> subprocess.CompletedProcess[str]:
        """Run the command in this world; not `privileged`: as one whom permissions bind; with so many bytes at most."""
        bound = not privileged and os.geteuid() == 0
        variables = {**self.env, **(env or {})}
        if self.forked is not None and self.forked.can_run(variables):
            return self.forked.run(args, cwd or self.project, variables, bound=bound, memory=memory)
        limits = ["prlimit", f"--as={memory}"] if memory else []
        return run([*limits, *(UNPRIVILEGED if bound else ()), KALYX, *args], cwd=cwd or self.project, env=variables)

    def answer(self, *args: str, **more: object) -> dict[str, object]:
        """Run the real command with --json; return its document with the exit status in it."""
        done = self.kalyx(*args, "--json", **more)  # type: ignore[arg-type]
        assert "Traceback" not in done.stderr, done.stderr
        document = json.loads(done.stdout)
        document["exit"] = done.returncode
        return document


_CARRY_OUT = """
import argparse, json, subprocess, sys
from kalyx.cli.common import context_for
from kalyx.core.answers.do_remedy import do_remedy
from kalyx.core.changes.carry_out import why_not_carried_out
from kalyx.core.changes.journal import Journal
from kalyx.core.machine.children import end_all_runs
from kalyx.core.model import Edit, Move, Remedy
given = json.load(sys.stdin)
given["edits"], given["moves"] = ([kind(**one) for one in given[k]] for k, kind in (("edits", Edit), ("moves", Move)))
remedy = Remedy(**{k: tuple(v) if isinstance(v, list) else v for k, v in given.items()})
context = context_for(None, argparse.Namespace(timeout=None))
if remedy.argv and remedy.argv[0].endswith("kalyx"):
    context.machine.own_command = remedy.argv[:1]
if why_not_carried_out(remedy, context.machine.own_command):  # a trial, or what Kalyx leaves to a person
    env = {**context.machine.env, **remedy.env}
    sys.exit(subprocess.run(remedy.argv, cwd=remedy.cwd, env=env).returncode)
try:
    with Journal(context.machine).change(remedy.do) as entry:
        do_remedy(context, entry, remedy, 60.0)
finally:
    end_all_runs()
"""


def carry_out(remedy: dict, kind: str, world: World) -> None:
    """Have the product carry out one remedy of a document, which is of some kind."""
    assert remedy["kind"] == kind != "manual"
    assert world.forked is not None
    done = world.forked.run([], world.project, world.env, code=_CARRY_OUT, given=json.dumps(remedy))
    assert done.returncode == 0, done.stderr


def mend(world: World, ask: str, at: str, remedy: dict, *words: str, undone: bool, **more: object) -> None:
    """Have the product carry out the first remedy that it gave; it is that one, and then it is well.

    `undone`: it is taken back afterwards, and everything is what it was.
    """
    (world.home / ".local" / "share").mkdir(parents=True, exist_ok=True)  # where the journal is to lie
    before = tree(world.root) if undone else {}
    document = world.answer("mend", ask, "--at", at, "--choose", "a", "--yes", "--rounds", "1",
                            *words, **more)
    rounds = document["result"].get("rounds", [{}])  # type: ignore[attr-defined]
    assert (document["status"], document["exit"]) == ("ok", 0), document
    assert rounds[0]["remedy"]["do"] == remedy["do"]
    if undone:
        taken_back = world.answer("undo", **more)
        assert taken_back["exit"] == 0, taken_back
        after = tree(world.root)
        differ = {p: (before.get(p), after.get(p)) for p in {*before, *after} if before.get(p) != after.get(p)}
        assert not differ, str(differ)[:2000]


def tree(folder: Path) -> dict[str, tuple[object, int]]:
    """Return content and mode of all below a folder; bytecode, caches and what Kalyx keeps left out."""
    found: dict[str, tuple[object, int]] = {}
    for place, folders, names in os.walk(folder):
        folders[:] = [f for f in folders if f not in ("__pycache__", "kalyx", ".cache") and "kalyx-kept" not in f]
        for path in (os.path.join(place, name) for name in (*names, *folders)):
            mode = os.lstat(path).st_mode
            content: object = os.readlink(path) if stat.S_ISLNK(mode) else "no file"
            if stat.S_ISREG(mode) and os.access(path, os.R_OK):
                with open(path, "rb") as file:
                    content = file.read()
            found[path] = (content, mode)
    return found
