"""``envs``, ``packages`` and ``running``: what is read equals what the interpreters answer."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.support.build import (
    SHORT,
    World,
    kernelspec,
    make_venv,
    other_pythons,
    python_of,
    run,
    site_of,
    write,
)
from tests.support.thorough import some_pythons

LISTING = """\
import json, sys
try:
    import importlib.metadata as m
    found = sorted((d.metadata["Name"], d.version) for d in m.distributions())
except ImportError:
    try:
        import pkg_resources
        found = sorted((d.project_name, d.version) for d in pkg_resources.WorkingSet(sys.path))
    except ImportError:  # an environment of an old Python without setuptools cannot say
        found = None
print(json.dumps([sys.path, found]))
"""


def said_by(python: str, world: World, **more: object) -> tuple[list[str], list[list[str]]]:
    """Ask an interpreter for its path and its distributions."""
    done = run([python, "-c", LISTING], cwd=world.project, env={**world.env, **more.get("env", {})})
    path, found = json.loads(done.stdout)
    return [p or str(world.project) for p in path], found


def read_of(document: dict) -> tuple[list[str], list[list[str]]]:
    """Return the same of an answer."""
    result = document["result"]
    return [x["path"] for x in result["layers"]], sorted(
        [d["name"], d["version"]] for d in result["distributions"])


@pytest.mark.parametrize("version", some_pythons(other_pythons()))
def test_packages_equal_the_interpreter(version: str, world: World, validate) -> None:
    """Path and distributions, of every Python here and of environments made with it."""
    python = other_pythons()[version]
    user = world.home / ".local" / "lib" / f"python{version}" / "site-packages"
    if version[0].isdigit():
        world.wheels.install(world.wheels.add("in-user-site", "3"), user)
    programs = [python]
    if version != "2.7":
        programs += [python_of(world.venv("closed", python)),
                     python_of(world.venv("open", python, options=["--system-site-packages"]))]
        world.wheels.install(world.wheels.add("own-one", "1"), site_of(world.home / "envs/open"))
    env = {"PYTHONPATH": os.pathsep.join(filter(None, [str(world.root / "extra"), "rel",
                                                       world.env.get("PYTHONPATH")]))}
    for program in programs:
        document = world.answer("packages", "--at", f"python:{program}", env=env)
        validate(document)
        path, found = said_by(program, world, env=env)
        mine = read_of(document)
        assert mine[0] == path, program
        if version != "2.7" and found is not None:  # on 2.7 each project is counted once
            assert mine[1] == found, program


def test_layers_and_what_hides_what(world: World, validate) -> None:
    """Every form of install, in its layer, with what hides it."""
    lab = world.venv("lab", options=["--system-site-packages"])
    site, w = site_of(lab), world.wheels
    extra, code = world.root / "extra", world.root / "code"
    w.install(w.add("twice", "2"), site)
    w.install(w.add("twice", "1"), extra)
    user = world.home / ".local" / "lib" / f"python{SHORT}" / "site-packages"
    w.install(w.add("twice", "3"), user)
    write(code / "linked.py", "")
    write(code / "Linked_Kit.egg-info" / "PKG-INFO", "Name: linked-kit\nVersion: 0.5\n")
    write(code / "Linked_Kit.egg-info" / "top_level.txt", "linked\n")
    write(site / "easy.pth", f"{code}\n# a remark\nimport sys\n")
    write(site / "odd.dist-info" / "METADATA", b"Name: Odd\nVersion: 1\nAuthor: J\xf6rg\n\nbody\n")
    write(site / "broken.dist-info" / "METADATA", b"\x00\x01")
    write(site / "old.egg-info", "Name: old\nVersion: 0.1\n")
    w.install(w.add("needy", "1", requires=["twice>=9", "absent; python_version<'2'",
                                            "never", "twice[fast]; extra=='x'"]), site)
    with write(site / "huge.dist-info" / "RECORD", "").open("wb") as record:
        record.truncate(200 * 1024 * 1024)  # 200 MB of nothing
    write(site / "huge.dist-info" / "METADATA", "Name: huge\nVersion: 1\n")
    os.mkfifo(site / "pipe.pth")
    document = world.answer("packages", "--at", str(lab), "--conflicts", "--size",
                            env={"PYTHONPATH": str(extra)})
    validate(document)
    by_place = {(d["name"], d["layer"]): d for d in document["result"]["distributions"]}
    assert by_place["linked-kit", "link"]["modules"] == ["linked"]
    assert [h["version"] for h in by_place["twice", "pythonpath"]["hides"]] == ["2", "3"]
    assert by_place["twice", "env"]["hidden_by"]["version"] == "1"
    assert {("Odd", "env"), ("old", "env")} <= set(by_place)
    assert by_place["twice", "env"]["size"] > 0
    causes = [f["cause"] for f in document["result"]["findings"]]
    assert sorted(causes) == ["dependency-absent", "layer-leak", "version-conflict"]
    assert ("runs-code", str(site / "easy.pth")) in [(n["note"], n["path"]) for n in document["notes"]]
    assert str(site / "old.egg-info") not in [n["path"] for n in document["notes"]]  # an old form, and whole
    assert document["exit"] == 1
    narrow = world.answer("packages", "--at", str(lab), "--module", "linked")
    assert [d["name"] for d in narrow["result"]["distributions"]] == ["linked-kit"]
    assert world.answer("packages", "--at", str(lab), "--name", "tw*", "--layer", "env")["exit"] == 0
    assert world.answer("packages", "--at", str(lab), "--name", "nix")["exit"] == 3


def test_conda_records(world: World, validate) -> None:
    """What conda installed: with metadata its installer, without metadata all of it from the record."""
    env = world.venv("field")
    world.wheels.install(world.wheels.add("humidlog", "1.3"), site_of(env))
    write(site_of(env) / "seedbox" / "__init__.py", "")
    site = f"lib/python{SHORT}/site-packages"
    for name, files in (("humidlog", [f"{site}/humidlog/__init__.py"]), ("libseed", ["lib/libseed.so"]),
                        ("seedbox-core", [f"{site}/seedbox/__init__.py", "bin/seedbox"])):
        write(env / "conda-meta" / f"{name}-1.3-py_0.json",
              json.dumps({"name": name, "version": "1.3", "files": files}))
    write(env / "conda-meta" / "noise-1-0.json", b"\xff{site-packages")
    document = world.answer("packages", "--at", f"python:{python_of(env)}", "--layer", "env")
    validate(document)
    found = {d["name"]: (d["version"], d["installer"], d["modules"], d["location"])
             for d in document["result"]["distributions"]}
    assert found == {n: ("1.3", "conda", [m], str(site_of(env)))
                     for n, m in (("humidlog", "humidlog"), ("seedbox-core", "seedbox"))}


def _moved(w: World) -> Path:
    made = make_venv(w.home / "envs" / "first", pip=True)
    return Path(shutil.move(made, w.home / "envs" / "second"))


def _base_gone(w: World) -> Path:
    env = w.venv("orphan")
    for name in ("python", "python3", f"python{SHORT}"):
        (env / "bin" / name).unlink(missing_ok=True)
        (env / "bin" / name).symlink_to(w.home / "removed" / name)
    return env


def _skewed(w: World) -> Path:
    env = w.venv("upgraded")
    site = site_of(env)
    w.wheels.install(w.wheels.add("humidlog"), env / "lib" / "python3.4" / "site-packages")
    assert site.exists()
    return env


def _noise(w: World) -> Path:
    env = w.venv("noise")
    write(env / "pyvenv.cfg", b"\x00\xff\n=\nhome\n")
    return env


HEALTH: dict[str, tuple[Callable[[World], Path], list[str]]] = {
    "healthy": (lambda w: w.venv("lab"), []),
    "moved": (_moved, ["env-moved"]),
    "base gone": (_base_gone, ["env-base-gone"]),
    "base upgraded": (_skewed, ["env-version-skew"]),
    "noise in pyvenv.cfg": (_noise, []),
}


@pytest.mark.parametrize("name", HEALTH)
def test_health(name: str, world: World, validate) -> None:
    """What ails an environment is found; a healthy one has no findings."""
    build, causes = HEALTH[name]
    env = build(world)
    document = world.answer("envs", "--under", str(world.home))
    validate(document)
    listed = {e["path"]: e for e in document["result"]["environments"]}
    assert [f["cause"] for f in listed[str(env)]["findings"]] == causes
    assert document["exit"] == (1 if causes else 0)
    assert "Traceback" not in world.kalyx("envs").stdout


def test_envs_lists_and_filters(world: World, validate) -> None:
    """Twins once, decoys never, filters, users; versions are what the interpreters say."""
    lab = world.venv("lab")
    old = next((p for v, p in sorted(other_pythons().items()) if v[0] == "3" and v != SHORT), None)
    if old is None:
        pytest.skip("one more Python 3 is needed")
    made = {str(lab): python_of(lab), str(world.venv("old", old)): old}
    (world.home / "envs" / "twin").symlink_to(lab)
    (world.project / "venv").mkdir()
    write(world.project / "venv" / "readme.txt", "not one")
    (world.home / "envs" / "loop").symlink_to(world.home / "envs" / "loop")
    world.wheels.install(world.wheels.add("humidlog", "1.3"), site_of(lab))
    kernelspec(world.home, "lab", [python_of(lab), "-m", "x"])
    world.activate(lab)
    deep = make_venv(world.root / "far" / "a" / "b" / ".venv")
    document = world.answer("envs", str(world.root / "far"), "--size")
    validate(document)
    listed = {e["path"]: e for e in document["result"]["environments"]}
    assert {*made, str(deep)} <= set(listed) and str(world.project / "venv") not in listed
    assert listed[str(lab)]["other_paths"] == [str(world.home / "envs" / "twin")]
    assert listed[str(lab)]["used_by"] == ["shell", "kernel:lab"]
    assert listed[str(lab)]["size"] > 0 and listed[str(deep)]["name"] == "b/.venv"
    for path, python in made.items():
        said = run([python, "-c", "import sys; print(sys.version.split()[0]); print(sys.base_prefix)"])
        assert [listed[path]["python_version"], listed[path]["base"]] == said.stdout.split()
    for interpreter in document["result"]["interpreters"]:
        said = run([interpreter["path"], "-c", "import sys; print('%d.%d.%d' % sys.version_info[:3])"])
        assert interpreter["version"] == said.stdout.strip()
    for options, expected in (
            (("--has", "humidlog>=1.2"), {str(lab)}), (("--has", "humidlog>2"), set()),
            (("--kind", "venv", "--under", str(world.home / "envs"), "--python", SHORT), {str(lab)})):
        found = world.answer("envs", *options)["result"]["environments"]
        assert {e["path"] for e in found} == expected, options
    assert world.answer("envs", "--python", "soon")["exit"] == 2
    assert world.answer("envs", "/nonexistent")["exit"] == 3


def test_running_processes(world: World, validate) -> None:
    """Kernels with connection file and notebook, scripts, one whose interpreter was replaced."""
    lab = world.venv("lab")
    script = write(world.project / "watch.py", "import time\ntime.sleep(600)\n")
    write(site_of(lab) / "ipykernel_launcher.py", "import time\ntime.sleep(600)\n")
    copy = shutil.copy2(os.path.realpath(sys.executable), world.root / f"python{SHORT}")
    connection = write(world.root / "kernel-1.json", json.dumps({"jupyter_session": "trial.ipynb"}))
    started = [
        subprocess.Popen([python_of(lab), "-X", "dev", str(script)], cwd=world.project, env=world.env),
        subprocess.Popen([python_of(lab), "-m", "ipykernel_launcher", "-f", str(connection)],
                         cwd=world.home, env=world.env),
        subprocess.Popen(["python", "-c", "import time; time.sleep(600)"], cwd=world.home,
                         env={**world.env, "PATH": f"{lab / 'bin'}:/usr/bin"}),
        subprocess.Popen([str(copy), "-S", "-c", "import time; time.sleep(600)"],
                         env={**world.env, "PYTHONHOME": sys.base_prefix}),
    ]
    try:
        time.sleep(1)
        Path(copy).unlink()
        document = world.answer("running")
        validate(document)
        found = {p["pid"]: p for p in document["result"]["processes"]}
        watch, kernel, command, replaced = (found[p.pid] for p in started)
        assert (watch["kind"], watch["what"], watch["folder"]) == (
            "script", str(script), str(world.project))
        for process in (watch, kernel, command):
            assert process["interpreter"]["prefix"] == str(lab) and not process["findings"]
        assert (kernel["kind"], kernel["connection_file"], kernel["notebook"]) == (
            "kernel", str(connection), "trial.ipynb")
        assert command["kind"] == "command"
        assert [f["cause"] for f in replaced["findings"]] == ["interpreter-replaced"]
        assert document["exit"] == 1
        seat = f"process:{started[0].pid}"
        assert world.answer("packages", "--at", seat)["result"]["seat"]["ref"] == seat
        report = world.answer("why", "watch", "--at", seat, "--timeout", "2")["result"]["imports"][0]
        assert (report["seat"], report["causes"][0]["cause"]) == (seat, "hang")
        assert "ipykernel_launcher" in world.kalyx("running").stdout
        here = world.answer("here", "--running")
        validate(here)
        assert [seat] == [s["ref"] for s in here["result"]["seats"] if s["kind"] == "process"]
        assert here["result"]["agreement"]["groups"] == [["shell"], [seat]]
    finally:
        for process in started:
            process.send_signal(signal.SIGKILL)
            process.wait()
    assert world.answer("why", "json", "--at", f"process:{started[0].pid}")["exit"] == 3
    assert world.answer("why", "json", "--at", "process:x")["exit"] == 2


def test_running_process_whose_packages_were_replaced(world: World, validate) -> None:
    """A compiled part that is mapped and another file now is told with certainty; what is newer is noted."""
    lab = world.venv("lab")
    built = next(f for p in sys.path if p.endswith("lib-dynload") for f in Path(p).glob("_json*.so"))
    part = Path(shutil.copy(built, site_of(lab) / built.name))
    code = "import sys, time\nif len(sys.argv) > 1: import ctypes; ctypes.CDLL(sys.argv[1])\ntime.sleep(600)"
    started = [subprocess.Popen([python_of(lab), "-c", code, *more], env=world.env) for more in ((str(part),), ())]
    try:
        time.sleep(1)
        assert not [p["findings"] for p in world.answer("running")["result"]["processes"]
                    if p["pid"] in {s.pid for s in started} and p["findings"]]
        new = shutil.copy(built, part.with_name("new.so"))
        os.replace(new, part)
        world.wheels.install(world.wheels.add("fastgrid", "1.0"), site_of(lab))
        later = time.time() + 60
        os.utime(site_of(lab) / "fastgrid-1.0.dist-info", (later, later))
        document = world.answer("running")
        validate(document)
        found = {p["pid"]: p["findings"] for p in document["result"]["processes"]}
        mapped, other = (found[p.pid] for p in started)
        assert [(f["cause"], f["severity"]) for f in mapped] == [("loaded-replaced", "warning")]
        assert str(part) in [e["path"] for e in mapped[0]["evidence"]]
        assert [(f["cause"], f["severity"]) for f in other] == [("loaded-replaced", "note")]
        assert "fastgrid 1.0" in other[0]["because"]
    finally:
        for process in started:
            process.send_signal(signal.SIGKILL)
            process.wait()
