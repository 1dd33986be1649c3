"""The journal: what pip did is taken back byte for byte; kills, two at once and odd entries leave it to be trusted."""

from __future__ import annotations

import errno
import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from kalyx.core.changes.journal import RETIRED, Journal
from kalyx.core.errors import Refused
from kalyx.core.machine.local import RealMachine
from tests.support.build import (
    BASE_PYTHON,
    KALYX,
    World,
    bare_python,
    kernelspec,
    make_venv,
    python_of,
    run,
    site_of,
    write,
)
from tests.support.thorough import first_of_each

ENTRY = {"number": 1, "what": "x", "when": "2024", "state": "done"}
# entries that no Kalyx has written: each is a note, and all others are there
ODD: dict[str, object] = {
    "no object": [1], "number of a text": {**ENTRY, "number": "1", "actions": []},
    "another number": {**ENTRY, "number": 7, "actions": []},
    "actions of a text": {**ENTRY, "actions": "x"}, "action of no kind": {**ENTRY, "actions": [{"do": "fly"}]},
    "no path": {**ENTRY, "actions": [{"do": "file", "before": None, "after": "x"}]},
    "path that is relative": {**ENTRY, "actions": [{"do": "aside", "path": "x", "kept": "/y"}]},
    "number for a text": {**ENTRY, "actions": [{"do": "file", "path": "/x", "before": 1, "after": "x"}]},
    "no state": {**ENTRY, "state": "gone", "actions": []},
    "folders of numbers": {**ENTRY, "actions": [{"do": "installed", "prefix": "/x", "store": "/y", "folders": [1]}]},
}


def journal_of(world: World) -> Path:
    return world.home / ".local" / "share" / "kalyx" / "journal"


def tree(folder: Path) -> dict[str, object]:
    """Return what lies below a folder: content, mode and time of change of each file; bytecode left out."""
    found: dict[str, object] = {}
    for place, folders, names in os.walk(folder):
        if "__pycache__" in folders:
            folders.remove("__pycache__")
        for name in [*names, *folders]:
            path = Path(place, name)
            info = path.lstat()
            content = os.readlink(path) if path.is_symlink() else path.read_bytes() if path.is_file() else "folder"
            found[str(path)] = (content, info.st_mode, info.st_mtime_ns if path.is_file() else 0)
    return found


def filled(world: World) -> Path:
    """Make an environment in which one version of a kit stands; a newer one, with a program and data, can be had."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    code = {"germkit/__init__.py": "rows = 1\n", "germkit/old.py": "x = 1\n"}
    world.wheels.add("germkit", "1", code)
    assert run([python_of(lab), "-m", "pip", "install", "-q", "germkit==1"], env=world.env).returncode == 0
    world.wheels.add("germkit", "2", {"germkit/__init__.py": "rows = 2\n", "germkit/new/part.py": "y = 2\n",
                                      "germkit-2.dist-info/entry_points.txt": (
                                          "[console_scripts]\ngerm = germkit:main\n")}, ["traygrid"],
                     data={"share/germkit/notes.txt": "seeds\n"})
    world.wheels.add("traygrid", "1", {"traygrid.py": "cells = 48\n"})
    return lab


def test_put_is_taken_back_byte_for_byte(world: World, validate) -> None:
    """Upgraded, added, a program, a data file: after undo the environment is what it was; twice, and forgotten."""
    lab = filled(world)
    before = tree(lab)
    (lab / "share").exists()
    put = world.answer("put", "germkit>=2")
    validate(put)
    assert put["exit"] == 0 and (lab / "bin" / "germ").exists() and (lab / "share" / "germkit" / "notes.txt").exists()
    listed = world.answer("changes")
    validate(listed)
    change = listed["result"]["changes"][-1]
    assert change["installed"][0]["added"] > 5 and change["installed"][0]["replaced"] >= 2 and change["bytes_kept"] > 0
    assert "kept for undo" in world.kalyx("changes").stdout
    run([python_of(lab), "-c", "import germkit.new.part, traygrid"], env=world.env)  # bytecode is written
    start = site_of(lab) / "germkit" / "__init__.py"
    for compiled in (start.parent / "__pycache__").glob("__init__.*"):  # as if both versions came in the same second
        second = int(before[str(start)][2] / 1e9).to_bytes(4, "little")  # type: ignore[index]
        compiled.write_bytes(compiled.read_bytes()[:8] + second + compiled.read_bytes()[12:])
    undone = world.answer("undo")
    validate(undone)
    assert undone["exit"] == 0 and tree(lab) == before
    assert run([python_of(lab), "-c", "import germkit; assert germkit.rows == 1"], env=world.env).returncode == 0
    assert world.answer("undo")["exit"] == 3, "there is nothing before it"
    assert world.answer("put", "germkit==2")["exit"] == 0
    assert world.answer("changes", "--forget", "2")["exit"] == 0
    assert world.answer("undo", "2")["exit"] == 1 and (site_of(lab) / "traygrid.py").exists()
    assert not (journal_of(world) / "000002.kept").exists()


def test_what_others_changed_since_is_left(world: World) -> None:
    """A file that was edited after the installation stops the undo, by its name; nothing is done by halves."""
    lab = filled(world)
    assert world.answer("put", "germkit>=2")["exit"] == 0
    (site_of(lab) / "germkit" / "new" / "part.py").write_text("mine = 1\n")
    now = tree(lab)
    refused = world.answer("undo")
    assert refused["exit"] == 1 and "part.py was changed since" in refused["result"]["message"]
    assert tree(lab) == now


def test_pip_that_fails_leaves_nothing(world: World) -> None:
    """An installation that ends in an error is no change: nothing of it is there, and undo takes back nothing."""
    lab = filled(world)
    before = tree(lab)
    world.wheels.add("broken", "1", {"broken.py": ""}, ["nowhere-to-be-had"])
    assert world.answer("put", "broken")["exit"] == 1 and tree(lab) == before
    assert world.answer("changes")["result"]["changes"] == []


@pytest.mark.real
@pytest.mark.parametrize("wait", first_of_each([0.9, 0.4, 1.6], lambda w: None, 1))
def test_killed_in_the_middle(world: World, wait: float) -> None:
    """SIGKILL at many instants, of an installation and of what makes an environment: undo brings back what was."""
    lab = filled(world)
    before = tree(lab)
    child = subprocess.Popen([KALYX, "put", "germkit>=2"], cwd=world.project, env=world.env, stdout=subprocess.DEVNULL,
                             stderr=subprocess.DEVNULL, start_new_session=True)
    time.sleep(wait)
    os.killpg(child.pid, signal.SIGKILL)
    child.wait()
    time.sleep(0.5)  # until what it started has been ended
    changes = world.answer("changes")
    assert changes["exit"] == 0 and not changes["notes"]
    if changes["result"]["changes"] and changes["result"]["changes"][-1]["installed"]:
        undone = world.answer("undo")
        assert undone["exit"] == 0, undone
    assert tree(lab) == before
    made = subprocess.Popen([KALYX, "make", "new"], cwd=world.project, env=world.env, stdout=subprocess.DEVNULL,
                            stderr=subprocess.DEVNULL, start_new_session=True)
    time.sleep(wait)
    os.killpg(made.pid, signal.SIGKILL)
    made.wait()
    time.sleep(0.5)
    if (world.project / "new").exists():
        assert world.answer("undo")["exit"] == 0 and not (world.project / "new").exists()


def test_two_at_once(world: World) -> None:
    """Numbers are one's own; who comes second waits, and is told who holds it; the first one's result stays."""
    filled(world)
    folder = journal_of(world)
    folder.mkdir(parents=True)
    import fcntl

    with open(folder / "lock", "w", encoding="utf-8") as lock:
        lock.write("process 7, put seeds into /lab")
        lock.flush()
        fcntl.flock(lock, fcntl.LOCK_EX)
        second = world.answer("put", "germkit>=2")
    assert second["exit"] == 1 and "process 7, put seeds into /lab" in second["result"]["message"]
    both = [subprocess.Popen([KALYX, "make", "new", "--python", bare_python(), "--json"], cwd=world.project,
                             env=world.env, stdout=subprocess.PIPE,
                             stderr=subprocess.PIPE) for _ in range(2)]
    answers = [json.loads(one.communicate()[0]) for one in both]
    assert sorted(a["status"] for a in answers) == ["ok", "problem"]
    assert (world.project / "new" / "pyvenv.cfg").is_file()
    assert [c["what"] for c in world.answer("changes")["result"]["changes"]] == [f"make {world.project / 'new'}"]


def test_undo_that_was_cut_short_is_ended(world: World) -> None:
    """An entry that says that its undo began is taken back by the next undo, whatever was done of it."""
    lab = filled(world)
    before = tree(lab)
    assert world.answer("put", "germkit>=2")["exit"] == 0
    file = journal_of(world) / "000001.json"
    entry = json.loads(file.read_text())
    file.write_text(json.dumps({**entry, "state": "undoing"}))
    (site_of(lab) / "traygrid.py").unlink()  # so far it came
    assert world.answer("undo")["exit"] == 0 and tree(lab) == before


def test_odd_entries_cost_themselves_alone(world: World) -> None:
    """What is no entry is a note with its name; the others are listed, and undo goes on."""
    world.activate(world.venv("lab"))
    folder = journal_of(world)
    for number, content in enumerate(ODD.values(), 1):
        write(folder / f"{number:06d}.json", json.dumps(content if not isinstance(content, dict) or content.get(
            "number") != 1 else {**content, "number": number}))
    os.mkfifo(folder / "000050.json")
    write(folder / "\u00b2.json", "{}")
    write(folder / "000051.json", b"\xff\xfe")
    write(folder / "000053.json", "")  # its number was taken, and nothing more
    write(folder / "000052.json", json.dumps({**ENTRY, "number": 52, "files": [], "moves": []}))
    document = world.answer("changes")
    assert document["exit"] == 0 and [c["number"] for c in document["result"]["changes"]] == [52]
    assert len([n for n in document["notes"] if n["note"] == "entry-unreadable"]) == len(ODD) + 2
    assert world.answer("undo")["exit"] == 1, "the latest was made by another program"


def test_links_and_modes_stay(world: World) -> None:
    """A kernel.json behind a link is written where it lies, with the permissions that it had; undo brings both back."""
    from tests.answers.test_enrol import with_real_kernel

    lab = with_real_kernel(world, "lab")
    real = write(world.home / "dotfiles" / "kernel.json", '{"argv": ["x"], "display_name": "old"}', 0o640)
    spec = kernelspec(world.home, "lab", ["x"])
    spec.unlink()
    spec.symlink_to(real)
    enrolled = world.answer("enrol", str(lab), "--name", "lab", "--overwrite")
    assert enrolled["exit"] == 0, enrolled["result"]
    assert spec.is_symlink() and real.stat().st_mode & 0o777 == 0o640 and str(lab) in real.read_text()
    assert world.answer("undo")["exit"] == 0
    assert spec.is_symlink() and real.stat().st_mode & 0o777 == 0o640 and '"old"' in real.read_text()


def _checkout(world: World, lab: Path) -> None:
    write(lab / ".git" / "HEAD", "ref: refs/heads/main\n")


def _with_data(world: World, lab: Path) -> None:
    write(lab / "germination.csv", "seeds\n")


def _with_another(world: World, lab: Path) -> None:
    make_venv(lab / "share" / "inner")
    kernelspec(world.home, "inner", [python_of(lab / "share" / "inner"), "-m", "x"])


def _base_of_another(world: World, lab: Path) -> None:
    other = world.venv("other")
    config = other / "pyvenv.cfg"
    config.write_text(config.read_text().replace(str(Path(BASE_PYTHON).resolve().parent), str(lab / "bin")))
    kernelspec(world.home, "other", [python_of(other), "-m", "x"])


def _of_two_kernels(world: World, lab: Path) -> None:
    kernelspec(world.home, "second", [python_of(lab), "-m", "x"])


MORE_THAN_NAMED = {"checkout": (_checkout, "is a checkout"), "data": (_with_data, "germination.csv"),
                   "another environment": (_with_another, "holds another environment"),
                   "base": (_base_of_another, "is the base of"),
                   "another kernel": (_of_two_kernels, "is also what the kernel second runs")}


@pytest.mark.parametrize("what", MORE_THAN_NAMED)
def test_no_more_than_was_named_is_taken_away(what: str, world: World) -> None:
    """An environment that is, or holds, more than itself stays, and so does its kernel; the reason is said."""
    lab = world.venv("lab")
    world.activate(world.venv("shell"))
    kernelspec(world.home, "lab", [python_of(lab), "-m", "x"])
    build, says = MORE_THAN_NAMED[what]
    build(world, lab)
    before = tree(world.home)
    refused = world.answer("retire", "lab", "--with-env", "--yes")
    assert refused["exit"] == 1 and says in refused["result"]["message"], refused["result"]
    assert {k: v for k, v in tree(world.home).items() if "kalyx" not in k} == before


def test_home_and_what_runs_stay(world: World) -> None:
    """An environment that was made in the home folder by mistake; one from which a process runs, but for --anyway."""
    make_venv(world.root / "plain")
    for entry in (world.root / "plain").iterdir():
        entry.rename(world.home / entry.name)
    kernelspec(world.home, "home", [python_of(world.home), "-m", "x"])
    lab = world.venv("lab")
    kernelspec(world.home, "lab", [python_of(lab), "-m", "x"])
    refused = world.answer("retire", "home", "--with-env", "--yes")
    assert refused["exit"] == 1 and "your home folder" in refused["result"]["message"]
    child = subprocess.Popen([python_of(lab), "-c", "print(1, flush=True); import time; time.sleep(60)"],
                             stdout=subprocess.PIPE)
    try:
        assert child.stdout is not None and child.stdout.readline()
        used = world.answer("retire", "lab", "--with-env", "--yes")
        assert used["exit"] == 1 and f"process {child.pid} runs from {lab}" in used["result"]["message"]
        assert world.answer("retire", "lab", "--with-env", "--yes", "--anyway")["exit"] == 0 and not lab.exists()
        assert world.answer("undo")["exit"] == 0 and lab.exists()
    finally:
        child.kill()
        child.communicate()


def test_nothing_reaches_pip_as_an_option(world: World) -> None:
    """Words that pip would take for options are no requirements, typed or out of a listing."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    for words in (("put", "--", "--log=x"), ("make", "new", "--put=-rx")):
        assert world.kalyx(*words).returncode == 2, words
    listing = write(world.project / "listing.json", json.dumps({"result": {"distributions": [
        {"name": "--log=x", "version": "1", "layer": "env", "editable": False, "hidden_by": None}]}}))
    assert world.answer("make", "new", "--like", str(listing))["exit"] == 2
    assert not (world.project / "x").exists() and not (world.project / "new").exists()


_CALLS = ("rename", "replace", "link", "unlink", "rmdir", "mkdir", "symlink", "chmod", "open")
_TAKE_ROOM = ("link", "mkdir", "symlink", "open")


def _broken_off_at(number: int, do: Callable[[], object], *, is_full: bool) -> bool:
    """Do something in a copy of this process that dies by SIGKILL right before its n-th change of the disk.

    `is_full`: that, and what comes after it, finds no room instead; what is refused is said so. Whether it came to it.
    """
    pid = os.fork()
    if pid:
        status = os.waitpid(pid, 0)[1]
        assert os.WIFSIGNALED(status) or os.WEXITSTATUS(status) in (0, 1), "it ended in a traceback"
        return status != 0
    left, real_open = iter(range(number)), os.open

    def breaking(call: Callable[..., object]) -> Callable[..., object]:
        def counted(*args: object, **more: object) -> object:
            is_change = call is not real_open or int(str(args[1])) & (os.O_WRONLY | os.O_RDWR)
            if is_change and "kalyx/core" in sys._getframe(1).f_code.co_filename and next(left, None) is None:
                if is_full:
                    raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), str(args[0]))
                os.kill(os.getpid(), signal.SIGKILL)
            return call(*args, **more)
        return counted

    for name in _TAKE_ROOM if is_full else _CALLS:
        setattr(os, name, breaking(getattr(os, name)))
    status = 2
    try:
        do()
        status = 0
    except Refused:
        status = 1
    finally:
        os._exit(status)
    raise AssertionError


def _change_all(journal: Journal, place: Path) -> None:
    """Do all that Kalyx can do to files, in one change."""
    with journal.change("everything") as entry:
        entry.write_text(str(place / "settings.json"), "{}\n")
        entry.write_text(str(place / "kernels" / "lab" / "kernel.json"), "{}\n")
        entry.write_text(str(place / "gone.txt"), None)
        entry.rename(str(place / "random.py"), str(place / "my_random.py"))
        entry.set_aside(str(place / "old"), str(place / RETIRED / "old"))
        entry.let("u+rwX", str(place / "closed"), recursive=True)
        entry.making(str(place / "new"), str(place / ".new.kept"))
        (place / "new").mkdir()
        (place / "new" / "pyvenv.cfg").write_text("home = /usr\n")
        entry.was_made()
        watched = entry.installing(str(place / "env"), [str(place / "env")], None)
        kit = place / "env" / "kit"
        (kit / "a.py").unlink()
        (kit / "b.py").unlink()
        (kit / "b.py").write_text("b = 2\n")
        (kit / "sub").mkdir()
        (kit / "sub" / "c.py").write_text("c = 3\n")
        entry.was_installed(watched)


def _lay_out(place: Path) -> None:
    write(place / "settings.json", '{"old": 1}\n', 0o640)
    write(place / "gone.txt", "here\n")
    write(place / "random.py", "rows = 6\n")
    write(place / "old" / "kernel.json", "{}")
    write(place / "closed" / "a.csv", "1\n", 0o444)
    (place / "closed").chmod(0o555)
    write(place / "env" / "kit" / "a.py", "a = 1\n")
    write(place / "env" / "kit" / "b.py", "b = 1\n")
    (place / "env" / "kit" / "link").symlink_to("a.py")


def _seen(place: Path) -> dict[str, object]:
    """Return content and permissions of all but the journal, and what was made and is kept."""
    return {k: v[:2] for k, v in tree(place).items() if "/data" not in k and ".new.kept" not in k}  # type: ignore[index]


@pytest.mark.parametrize("is_full", first_of_each([False, True], lambda f: None, 1), ids=["killed", "full disk"])
@pytest.mark.parametrize("when", ["while it is done", "while it is undone"])
def test_broken_off_at_each_change_of_the_disk(when: str, is_full: bool, tmp_path: Path) -> None:
    """SIGKILL, or a full disk, at each rename, link and write in turn: the next undo brings back what was there."""
    def breaks_off(number: int) -> bool:
        place = tmp_path / str(number)
        _lay_out(place)
        journal = Journal(RealMachine({"HOME": str(place / "home"), "XDG_DATA_HOME": str(place / "data")}, str(place)))
        before = _seen(place)
        if when == "while it is undone":
            _change_all(journal, place)
            assert _seen(place) != before
        came_to_it = _broken_off_at(number, lambda: _change_all(journal, place) if when == "while it is done" else
                                    journal.take_back(journal.find(1)), is_full=is_full)
        if came_to_it or when == "while it is done":
            changes, broken = journal.entries()
            assert not broken
            for change in changes:
                if change.state not in ("undone", "forgotten"):
                    journal.take_back(change)
        assert _seen(place) == before, number
        return came_to_it

    assert next(n for n in range(1000) if not breaks_off(n)) > (5 if is_full else 25)


def test_an_entry_removes_nothing_that_kalyx_did_not_make(tmp_path: Path) -> None:
    """An entry that somebody has written, and that names a folder of theirs as a leftover, does not take it away."""
    place = tmp_path / "precious"
    write(place / "seeds.csv", "1\n")
    made = write(tmp_path / "settings.json", "new\n")
    journal = Journal(RealMachine({"HOME": str(tmp_path), "XDG_DATA_HOME": str(tmp_path / "data")}, str(tmp_path)))
    write(Path(journal.folder) / "000001.json", json.dumps({**ENTRY, "actions": [
        {"do": "file", "path": str(made), "before": None, "after": "new\n", "temporary": str(place)}]}))
    journal.take_back(journal.find(1))
    assert (place / "seeds.csv").exists() and not made.exists()
