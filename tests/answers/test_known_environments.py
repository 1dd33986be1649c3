"""Which environments are known and what is true of them: by who names them, by their program, by their base."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from kalyx.core.facts.interpreters.examiner import Examiner
from kalyx.core.facts.interpreters.path_lookup import follow_links
from kalyx.core.machine.local import RealMachine
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

KERNEL = ["-m", "ipykernel_launcher", "-f", "{connection_file}"]


def by_setting(world: World, env: Path) -> None:
    write(world.project / ".vscode/settings.json", json.dumps({"python.defaultInterpreterPath": python_of(env)}))


def by_first_line(world: World, env: Path) -> None:
    write(world.project / "run", f"#!{python_of(env)}\n", 0o755)


def by_kernel(world: World, env: Path) -> None:
    kernelspec(world.home, "far", ["env", "A=b", python_of(env), *KERNEL])


def by_pip(world: World, env: Path) -> None:
    write(world.home / "bin" / "pip", f'#!/bin/sh\nexec {python_of(env)} -m pip "$@"\n', 0o755)
    world.env["PATH"] = f"{world.home / 'bin'}:{world.env['PATH']}"


def by_link(world: World, env: Path) -> None:
    (world.home / "bin").mkdir()
    (world.home / "bin" / "python3").symlink_to(python_of(env))
    world.env["PATH"] = f"{world.env['PATH']}:{world.home / 'bin'}".replace("/usr/bin:/bin", "/nowhere")


NAMED: dict[str, Callable[[World, Path], None]] = {
    "editor's setting": by_setting, "first line": by_first_line, "kernel behind env": by_kernel, "pip on PATH": by_pip}


@pytest.mark.parametrize("name", NAMED)
def test_what_names_an_environment_makes_it_known(name: str, world: World) -> None:
    """It lies where nobody would look, and is found for a module that the shell's environment lacks."""
    world.activate(world.venv("lab"))
    far = make_venv(world.root / "far" / "away" / "x1")
    world.wheels.install(world.wheels.add("germkit"), site_of(far))
    NAMED[name](world, far)
    report = world.answer("why", "germkit")["result"]["imports"][0]
    assert [e["environment"]["path"] for e in report["elsewhere"]] == [str(far)], name
    assert report["causes"][0]["cause"] == "installed-elsewhere"
    listed = world.answer("envs")["result"]["environments"]
    assert {str(far), os.path.realpath(str(Path(BASE_PYTHON).parent.parent))} <= {
        os.path.realpath(e["path"]) for e in listed}  # and the base of it


def test_a_live_process_of_the_folder_makes_it_known(world: World) -> None:
    """What runs in the folder names its environment."""
    world.activate(world.venv("lab"))
    far = make_venv(world.root / "far" / "x2")
    child = subprocess.Popen([python_of(far), "-c", "import time; print(1, flush=True); time.sleep(60)"],
                             cwd=world.project, stdout=subprocess.PIPE)
    try:
        assert child.stdout is not None and child.stdout.readline()
        assert str(far) in {e["path"] for e in world.answer("envs")["result"]["environments"]}
    finally:
        child.kill()
        child.communicate()


@pytest.mark.skipif("3.8" not in other_pythons() or SHORT == "3.8", reason="needs another Python")
def test_version_is_that_of_what_runs(world: World) -> None:
    """The base was upgraded under an environment: its version is the base's, and its packages lie elsewhere."""
    current = world.home / "current"
    current.symlink_to(Path(other_pythons()["3.8"]).parent.parent)
    env = world.home / "envs" / "lab"
    assert run([current / "bin" / "python3", "-m", "venv", "--without-pip", env]).returncode == 0
    world.wheels.install(world.wheels.add("germkit"), site_of(env))
    current.unlink()
    current.symlink_to(Path(BASE_PYTHON).resolve().parent.parent)
    listed = next(e for e in world.answer("envs")["result"]["environments"] if e["path"] == str(env))
    real = run([python_of(env), "-c", "import platform; print(platform.python_version())"]).stdout.strip()
    assert (listed["python_version"], [f["cause"] for f in listed["findings"]]) == (real, ["env-version-skew"])


def _linked(env: Path, target: str, *names: str) -> None:
    """Have the programs of an environment lead elsewhere: the first to the next one, the last to `target`."""
    for program in env.glob("bin/python*"):
        program.unlink()
    for name, leads_to in zip(names, (*names[1:], target), strict=True):
        (env / "bin" / name).symlink_to(leads_to)


def _many_environments(envs: Path) -> None:
    """Make environments that are alike, two of each kind."""
    base, away = os.path.realpath(BASE_PYTHON), envs.parent / "away"
    kinds = ("plain", "sp ace", "copied", "chain", "through", "gone", "loop", "broken", "homeless", "aside")
    for name in [f"{kind}-{n}" for kind in kinds for n in (1, 2)]:
        make_venv(envs / name, options=["--copies"] if name.startswith("copied") else ())
    for n in (1, 2):
        make_venv(envs / f"older-{n}", other_pythons().get("3.8", BASE_PYTHON))
        _linked(envs / f"chain-{n}", base, "python", "python3", f"python{SHORT}")
        _linked(envs / f"through-{n}", python_of(envs / "plain-1"), "python")
        _linked(envs / f"gone-{n}", "/nowhere/bin/python3", "python")
        _linked(envs / f"loop-{n}", "python", "python", "python3")
        config = envs / f"broken-{n}" / "pyvenv.cfg"
        config.write_bytes(config.read_bytes() + b"\xff")
        config = envs / f"homeless-{n}" / "pyvenv.cfg"
        config.write_text(config.read_text().replace("home = /", "home = ../../../../../../../../"))
        # where a relative link leads is told by where its folder really is: a program for one, nowhere for the other
        really = away / (f"{n}/" * n) / "bin"
        shutil.move(envs / f"aside-{n}" / "bin", really)
        (envs / f"aside-{n}" / "bin").symlink_to(really)
        _linked(envs / f"aside-{n}", "../../python", "python")
    (away / "python").symlink_to(base)
    (envs / "python").symlink_to(base)


def test_what_is_alike_is_what_each_is_alone(world: World) -> None:
    """Environments that are read together are what each is when it alone is read, and what its program says."""
    envs = world.home / "envs"
    _many_environments(envs)
    machine = RealMachine(world.env, str(world.project))
    every = sorted(str(e / "bin" / "python") for e in envs.iterdir())
    alone = {p: Examiner(machine, machine.cwd, "").examine(p, ask=False) for p in every}
    for path, read in alone.items():
        links = [(s.where, s.leads_to) for s in read.steps if "is a symlink" in s.says]
        assert links == follow_links(machine, path)
    for order in (every, every[::-1]):
        together = Examiner(machine, machine.cwd, "")
        bases = {p: together.base_of(p) for p in order}
        assert {p: together.examine(p, ask=False) for p in order} == alone
        assert {p: b for p, b in bases.items() if alone[p].interpreter.works} == {
            p: e.interpreter.base_prefix for p, e in alone.items() if e.interpreter.works}
    works = {p: e.interpreter for p, e in alone.items() if e.interpreter.works}
    assert len(works) >= 12
    for path, python in works.items():
        asked = "import sys, platform as p; print(sys.prefix); print(p.python_version())"
        said = run([path, "-c", asked]).stdout.split("\n")
        assert [python.prefix, python.version] == said[:2], path


def test_own_program_gone_and_base_gone_are_two_things(world: World) -> None:
    """Where the environment's own program was deleted, its base puts it back; a versioned program is one too."""
    lab, alone = world.venv("lab"), world.venv("alone")
    for program in (*lab.glob("bin/python*"), *[p for p in alone.glob("bin/python*") if p.name != f"python{SHORT}"]):
        program.unlink()
    if not (alone / "bin" / f"python{SHORT}").exists():
        (alone / "bin" / f"python{SHORT}").symlink_to(os.path.realpath(BASE_PYTHON))
    found = {e["name"]: e for e in world.answer("envs")["result"]["environments"]}
    assert found["alone"]["findings"] == [] and found["alone"]["interpreter"]["path"].endswith(f"python{SHORT}")
    finding = found["lab"]["findings"][0]
    assert finding["cause"] == "interpreter-gone"
    carry_out(finding["remedies"][0], "command", world)
    assert run([python_of(lab), "-c", "pass"]).returncode == 0
    assert [e["findings"] for e in world.answer("envs")["result"]["environments"] if e["name"] == "lab"] == [[]]


def test_kernel_package_for_an_environment_without_pip(world: World) -> None:
    """The remedy puts the kernel package there by whatever pip serves it."""
    lab = world.venv("lab")
    kernelspec(world.home, "lab", [python_of(lab), *KERNEL])
    world.wheels.add("ipykernel", "6", {"ipykernel_launcher.py": ""})
    kernel = world.answer("kernels")["result"]["kernels"][0]
    finding = next(f for f in kernel["findings"] if f["cause"] == "kernel-cannot-start")
    carry_out(finding["remedies"][0], "command", world)
    assert (site_of(lab) / "ipykernel_launcher.py").is_file()
    kernel = world.answer("kernels")["result"]["kernels"][0]
    assert not [f for f in kernel["findings"] if f["cause"] == "kernel-cannot-start"]


def test_link_from_outside_runs_as_the_base(world: World, validate) -> None:
    """A kernel that starts a link to an environment's program has nothing of it; the edit names the program itself."""
    lab = world.venv("lab")
    world.wheels.install(world.wheels.add("germkit"), site_of(lab))
    link = world.home / "bin" / "labpython"
    link.parent.mkdir()
    link.symlink_to(python_of(lab))
    real = run([link, "-c", "import sys; print(sys.prefix)"]).stdout.strip()
    kernelspec(world.home, "lab", [str(link), *KERNEL])
    notebook(world.project / "a.ipynb", "lab")
    document = world.answer("here")
    validate(document)
    seat = next(s for s in document["result"]["seats"] if s["kind"] == "notebook")
    assert seat["interpreter"]["prefix"] == real != str(lab)
    finding = next(f for f in seat["findings"] if f["cause"] == "site-off")
    first = world.answer("why", "germkit", "--at", "kernel:lab")["result"]["imports"][0]["causes"][0]
    assert (first["cause"], first["remedies"][0]["kind"]) == ("site-off", "edit")
    carry_out(finding["remedies"][0], "edit", world)
    assert world.answer("why", "germkit", "--at", "kernel:lab")["exit"] == 0
