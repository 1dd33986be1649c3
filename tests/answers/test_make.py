"""``make`` and ``put``: real environments of real interpreters, filled by real pips, without a network."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from pathlib import Path

import pytest

from tests.answers.test_kernels import SPRIG, tree
from tests.support.build import (
    BASE_PYTHON,
    SHORT,
    World,
    bare_python,
    make_venv,
    other_pythons,
    python_of,
    run,
    site_of,
    write,
)
from tests.support.packages import KIT, installed
from tests.support.thorough import first_of_each


def stocked(world: World) -> None:
    """Fill the wheelhouse."""
    w = world.wheels
    w.add("humidlog", "1.3", {"humidlog.py": ""})
    w.add("traygrid", "0.9", {"traygrid.py": ""})
    w.add("traygrid", "2.0", {"traygrid.py": ""})
    w.add("germkit", "2", dict(KIT), requires=["traygrid>=0.9"])
    spec = {"argv": ["python", "-m", "sprigkernel", "-f", "{connection_file}"], "display_name": "Sprig",
            "language": "python"}
    w.add("ipykernel", "6", {"sprigkernel.py": SPRIG.read_text()},
          data={"share/jupyter/kernels/sprig/kernel.json": json.dumps(spec)})


@pytest.mark.parametrize("version", [
    pytest.param(v, marks=[pytest.mark.thorough] if v == "3.8" else []) for v in sorted(other_pythons())
    if v in ("3.8", "3.12")] or [SHORT])
def test_from_nothing_to_a_proven_kernel(version: str, world: World, validate) -> None:
    """The wanted Python, the packages, the kernel; what it says of itself; undone again."""
    stocked(world)
    if version in other_pythons():
        world.env["PATH"] += os.pathsep + os.path.dirname(other_pythons()[version])
    write(world.project / "needs.txt", "humidlog==1.3\n")
    document = world.answer("make", ".venv", "--python", version, "--put", "traygrid<2", "--requirements", "needs.txt",
                            "--enrol")
    validate(document)
    assert document["exit"] == 0, document
    result, env = document["result"], world.project / ".venv"
    said = run([python_of(env), "-c", "import sys, traygrid, humidlog; print(sys.version.split()[0], sys.prefix)"],
               cwd="/").stdout.split()
    assert said == [result["python"]["version"], str(env)] and said[0].startswith(version)
    versions = {p["name"]: p["version"] for p in result["installed"]}
    assert {"humidlog": "1.3", "traygrid": "0.9"}.items() <= versions.items()
    assert result["enrolled"]["proof"]["prefix"] == str(env)
    assert world.answer("ask", "kernel:project", "import traygrid, sys; sys.prefix")["result"]["seats"][0][
        "value"] == repr(str(env))
    twin = world.answer("make", "twin", "--python", bare_python(), "--like", ".venv")
    packages = {p["name"]: p["version"] for p in twin["result"]["installed"]}
    assert twin["exit"] == 0 and {"humidlog": "1.3", "traygrid": "0.9", "ipykernel": "6"}.items() <= packages.items()
    listing = write(world.project / "listing.json", world.kalyx("packages", "--at", ".venv", "--json").stdout)
    third = world.answer("make", "third", "--python", version, "--like", str(listing), "--dry-run")
    assert set(third["result"]["asked"]) == {"humidlog==1.3", "traygrid==0.9", "ipykernel==6"}
    assert world.answer("make", "third", "--like", "needs.txt")["exit"] == 3
    for _ in range(2):  # the twin; the first one with its kernel
        assert world.answer("undo")["exit"] == 0
    assert not env.exists() and not (world.project / "twin").exists()


def test_nothing_is_left_half_made(world: World) -> None:
    """What cannot be built, filled or enrolled is taken away; folders with something in them are refused."""
    stocked(world)
    world.activate(world.venv("lab", pip=True))
    world.wheels.add("ipykernel", "9", {"ipykernel_launcher.py": "raise SystemExit(4)\n"})
    write(world.project / "full" / "x", "")
    (world.project / "empty").mkdir()
    before = tree(world.root)
    for args, status, words in (
            (("full",), 1, "not empty"), (("new", "--put", "nixnix"), 1, "nixnix"),
            (("empty", "--python", bare_python(), "--put", "nixnix"), 1, "nix"),
            (("new", "--python", bare_python(), "--enrol", "--put", "ipykernel>=9"), 1, "enrolled"),
            (("new", "--python", "4.9"), 3, "There are"), (("new", "--python", "soon"), 2, "version"),
            (("new", "--like", "nix"), 3, "no environment"),
            (("new", "--requirements", "nix.txt"), 3, "nix.txt"),
            (("new", "--python", "/usr/bin/true"), 3, "interpreter")):
        done = world.kalyx("make", *args)
        assert (done.returncode, words in done.stderr) == (status, True), (args, done.stderr)
    assert not (world.project / "new").exists() and list((world.project / "empty").iterdir()) == []
    assert {k: v for k, v in tree(world.root).items() if "journal" not in k and "__pycache__" not in k} == before
    dry = world.kalyx("make", "new", "--dry-run", "--put", "humidlog")
    assert dry.returncode == 0 and "the plan" in dry.stdout and not (world.project / "new").exists()


VERSION_CONTROL = {
    "git": (["git", "init", "-q"], ".gitignore", "build/\r\n", ["git", "status", "--porcelain", "-uall"]),
    "hg": (["hg", "init"], ".hgignore", "syntax: glob\n*.tmp", ["hg", "status"]),
    "bzr": (None, ".bzrignore", None, None), "fossil": (None, ".fossil-settings/ignore-glob", "*.o", None),
}


@pytest.mark.parametrize("kind", first_of_each(VERSION_CONTROL, lambda k: k if VERSION_CONTROL[k][0] else "named", 1))
def test_kept_out_of_version_control(kind: str, world: World, validate) -> None:
    """It is said where a checkout would take the environment in; --ignore adds the line, and undo takes it out."""
    begin, name, text, status = VERSION_CONTROL[kind]
    if begin is not None and shutil.which(begin[0]) is None:
        pytest.skip(f"{kind} is not installed here")
    if begin is None or run(begin, cwd=world.project, env=world.env).returncode:
        (world.project / {"bzr": ".bzr", "fossil": ".fslckout"}[kind]).mkdir()
    file = world.project / name
    if text is not None:
        write(file, text)
    folder = world.project / "sub" / "e [1] é"
    folder.parent.mkdir()
    planned = world.answer("make", str(folder), "--dry-run")
    validate(planned)
    assert [n["note"] for n in planned["notes"]] == ["not-ignored"]
    assert planned["result"]["remedies"][0]["edits"][0]["path"] == str(file)
    made = world.answer("make", str(folder), "--ignore", "--python", bare_python())
    validate(made)
    assert (made["notes"], made["result"]["remedies"]) == ([], [])
    written = file.read_bytes().decode()
    assert written.startswith(text or "") and ("\r\n" in (text or "")) == ("\r\n" in written)
    assert world.answer("make", f"{folder}2", "--dry-run")["notes"], "another one is not ignored by that"
    make_venv(Path(f"{folder}2"))
    if status is not None:
        shown = run(status, cwd=world.project, env=world.env).stdout
        assert "pyvenv.cfg" not in shown.replace("2/pyvenv.cfg", "") and "pyvenv.cfg" in shown, shown
    assert world.answer("undo")["exit"] == 0
    assert (file.read_bytes().decode() if file.exists() else None) == text


def test_tracked_by_version_control(world: World) -> None:
    """Files of the environment that git or hg holds are counted, in each form of their lists."""
    env = ["-c", "user.name=a", "-c", "user.email=a@example.org", "-c", "core.quotePath=off"]
    write(world.project / "env" / "lib" / "old.py", "")
    write(world.project / "env" / "pyvenv.cfg", "x" * 10)
    write(world.project / "env2.py", "")
    for version in ("2", "3", "4"):
        shutil.rmtree(world.project / ".git", ignore_errors=True)
        run(["git", "init", "-q"], cwd=world.project, env=world.env)
        run(["git", "config", "index.version", version], cwd=world.project, env=world.env)
        run(["git", *env, "add", "-f", "."], cwd=world.project, env=world.env)
        run(["git", "update-index", "--index-version", version], cwd=world.project, env=world.env)
        shutil.rmtree(world.project / "env")
        notes = {n["note"]: n["message"] for n in world.answer("make", "env", "--dry-run")["notes"]}
        assert "git tracks 2 files" in notes["tracked"] and "git rm -r --cached env" in notes["tracked"], version
        run(["git", "checkout", "-q", "--", "env"], cwd=world.project, env=world.env)
    write(world.project / ".git" / "index", b"DIRC\0\0\0\x02\xff\xff\xff\xffnoise")
    shutil.rmtree(world.project / "env")
    assert [n["note"] for n in world.answer("make", "env", "--dry-run")["notes"]] == ["not-ignored"]
    if shutil.which("hg"):
        shutil.rmtree(world.project / ".git")
        write(world.project / "env" / "old.py", "")
        run(["hg", "init"], cwd=world.project, env=world.env)
        run(["hg", "add", "env/old.py"], cwd=world.project, env=world.env)
        shutil.rmtree(world.project / "env")
        assert "hg tracks 1 file " in str(world.answer("make", "env", "--dry-run")["notes"])
        write(world.project / ".hgignore", "^e.v/\n")
        assert "not-told-ignored" in str(world.answer("make", "env", "--dry-run")["notes"])
        write(world.project / ".hgignore", "syntax: regexp\n^env/\n")
        assert "ignore" not in str(world.answer("make", "env", "--dry-run")["notes"])


def test_put_into_what_the_seat_uses(world: World, validate) -> None:
    """The plan first; what it would break is seen before; done and checked; other seats untouched."""
    stocked(world)
    lab, other = world.venv("lab", pip=True), world.venv("other", pip=True)
    world.activate(other)
    write(world.project / "run.py", f"#!{python_of(lab)}\n", 0o755)
    dry = world.answer("put", "germkit", "--at", "script:run.py", "--dry-run")
    validate(dry)
    assert {(s["name"], s["action"], s["after"]) for s in dry["result"]["steps"]} == {
        ("germkit", "added", "2"), ("traygrid", "added", "2.0")}
    assert dry["result"]["environment"]["path"] == str(lab) and not (site_of(lab) / "germkit").exists()
    done = world.answer("put", "germkit", "traygrid<1", "--at", "script:run.py")
    validate(done)
    assert done["exit"] == 0 and done["result"]["done"] and not (site_of(other) / "germkit").exists()
    assert run([python_of(lab), "-c", "import germkit, traygrid"]).returncode == 0
    installed("picky", {"picky.py": ""}, requires=["traygrid<1"])(world, lab)
    before = tree(site_of(lab))
    refused = world.answer("put", "traygrid>=2", "--at", "script:run.py")
    validate(refused)
    assert refused["exit"] == 1 and not refused["result"]["done"] and tree(site_of(lab)) == before
    assert refused["result"]["steps"][0]["action"] == "upgraded"
    assert "picky" in refused["result"]["findings"][0]["because"]
    assert "break" in world.kalyx("put", "traygrid>=2", "--at", "script:run.py").stdout
    assert world.answer("put", "traygrid>=2", "--at", "script:run.py", "--anyway")["result"]["done"]
    down = world.answer("put", "traygrid<1", "--at", "script:run.py")["result"]["steps"]
    assert [(s["action"], s["before"], s["after"]) for s in down] == [("downgraded", "2.0", "0.9")]
    last = world.answer("changes")["result"]["changes"][-1]
    assert "traygrid 2.0 -> 0.9" in last["what"]
    assert world.kalyx("undo", str(last["number"])).returncode == 0
    back = {d["name"]: d["version"] for d in world.answer("packages", "--at", "script:run.py")["result"][
        "distributions"]}
    assert back["traygrid"] == "2.0"


def test_put_is_refused_where_it_must_not(world: World) -> None:
    """The system's Python, a folder that may not be written, what no index has, no such seat."""
    stocked(world)
    lab = world.venv("lab", pip=True)
    if list(Path("/usr/lib").glob("python3*/EXTERNALLY-MANAGED")):
        done = world.kalyx("put", "humidlog", "--at", "python:/usr/bin/python3")
        assert done.returncode == 1 and "managed by the system" in done.stderr and "kalyx make" in done.stderr
    for args, status, words in ((("nixnix", "--at", str(lab)), 1, "nixnix"),
                                (("x", "--at", "python:/gone/python"), 3, "/gone/python"),
                                (("humidlog==((", "--at", str(lab)), 1, "pip")):
        done = world.kalyx("put", *args)
        assert (done.returncode, words in done.stderr) == (status, True), (args, done.stderr)
    site_of(lab).chmod(0o555)
    closed = world.answer("put", "humidlog", "--at", str(lab), privileged=False)
    assert closed["exit"] == 1 and "yours to write" in closed["result"]["message"]
    site_of(lab).chmod(0o755)
    bare = world.venv("bare")
    assert world.answer("put", "humidlog", "--at", str(bare))["exit"] == 0  # by the pip of another


@pytest.mark.thorough
def test_an_environment_made_anew(world: World) -> None:
    """Its packages are there again, in its place; undo brings the old one back; what is more, or in use, is left."""
    stocked(world)
    lab = world.venv("lab", pip=True)
    world.activate(world.venv("shell"))
    world.wheels.install(world.wheels.add("germkit", "1"), site_of(lab))
    write(site_of(lab) / "mine.txt", "of the old one\n")
    done = world.answer("make", str(lab), "--anew", "--python", BASE_PYTHON)
    assert done["exit"] == 0 and ["germkit", "1"] in [[d["name"], d["version"]] for d in done["result"]["installed"]]
    assert not (site_of(lab) / "mine.txt").exists()
    assert world.answer("undo")["exit"] == 0 and (site_of(lab) / "mine.txt").read_text() == "of the old one\n"
    child = subprocess.Popen([python_of(lab), "-c", "print(1, flush=True); import time; time.sleep(60)"],
                             stdout=subprocess.PIPE)
    try:
        assert child.stdout is not None and child.stdout.readline()
        used = world.answer("make", str(lab), "--anew")
        assert used["exit"] == 1 and f"process {child.pid} runs from" in used["result"]["message"]
    finally:
        child.kill()
        child.communicate()
    write(lab / "results.csv", "1\n")
    assert "results.csv" in world.answer("make", str(lab), "--anew")["result"]["message"]
    assert "no environment" in world.answer("make", "folder", "--anew")["result"]["message"]
