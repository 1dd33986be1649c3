"""What lies below folders and what it takes: the same from one process and from several, whatever becomes of them."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from kalyx.core.machine import disk
from kalyx.core.model import DiskEntry


@pytest.fixture
def place(tmp_path: Path) -> Path:
    """Return a folder with files, links, sparse ones, odd names, and folders in folders."""
    folder = tmp_path / "w"
    for number in range(60):
        (folder / f"p{number}" / "deep" / "er").mkdir(parents=True)
        (folder / f"p{number}" / "a.py").write_text("x" * number * 300)
        (folder / f"p{number}" / "deep" / "er" / "b").write_bytes(b"y" * number)
    os.link(folder / "p7" / "a.py", folder / "p8" / "same.py")
    (folder / "p9" / "link").symlink_to(folder / "p1")
    (folder / "p9" / "to nowhere").symlink_to("/nowhere")
    with open(folder / "sparse", "wb") as file:
        file.truncate(50_000_000)
    (folder / "é\u2028 odd").write_text("")
    os.close(os.open(os.fsencode(folder) + b"/no\xfftext", os.O_CREAT))
    os.mkfifo(folder / "pipe")
    return folder


def by_walking(place: Path) -> set[DiskEntry]:
    """Return the same by the standard library's own walk."""
    found = {one(str(place))}
    for folder, folders, names in os.walk(place):
        found |= {one(os.path.join(folder, name)) for name in (*folders, *names)}
    return found


def one(path: str) -> DiskEntry:
    """Return a path's entry."""
    info = os.lstat(path)
    is_folder = os.path.isdir(path) and not os.path.islink(path)
    key = (info.st_dev, info.st_ino) if info.st_nlink > 1 and not is_folder else None
    return path, is_folder, info.st_blocks * 512, info.st_size, key, info.st_mtime


def in_copies(folders: list[str], closed: Callable[[str, str], object]) -> list[DiskEntry]:
    return disk.begin_listing(folders, closed)()


def beside_a_thread(folders: list[str], closed: Callable[[str, str], object]) -> list[DiskEntry]:
    """List them while there is a thread, which no copy would have."""
    end = threading.Event()
    thread = threading.Thread(target=end.wait)
    thread.start()
    try:
        assert not disk._can_copy_itself()
        return in_copies(folders, closed)
    finally:
        end.set()
        thread.join()


@pytest.mark.skipif(sys.platform != "linux", reason="by the system's own count of blocks, and copies of a process")
@pytest.mark.parametrize("way", [in_copies, beside_a_thread])
def test_the_same_either_way(way: Callable[..., list[DiskEntry]], place: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Each entry once, links not followed, what is not there told; the sum is what the system's own count says."""
    if way is in_copies:  # the tests' own process has threads
        monkeypatch.setattr(disk, "_can_copy_itself", lambda: True)
    told: list[tuple[str, str]] = []
    found = way([str(place), str(place.parent / "none")], lambda path, why: told.append((path, why)))
    assert set(found) == by_walking(place) and len(found) == len(set(found))
    assert [path for path, _ in told] == [str(place.parent / "none")]
    linked = [e for e in found if e[4] is not None]
    said = subprocess.run(["du", "-s", "-B1", place], capture_output=True, text=True, check=True).stdout
    assert sum(e[2] for e in found) - linked[0][2] == int(said.split()[0]) and len(linked) == 2
    assert way([], told.append) == []  # type: ignore[arg-type]


@pytest.mark.skipif(sys.platform != "linux", reason="copies of a process")
def test_copies_end_with_who_asked() -> None:
    """However that is ended, and whatever there is still to list."""
    code = ("import os, time; from kalyx.core.machine import disk; disk.UNIT = 0\n"
            "slow = disk._list; disk._list = lambda *all: (time.sleep(0.05), slow(*all))\n"
            "disk.begin_listing(['/usr'], print); os.kill(os.getpid(), 9)")
    done = subprocess.run([sys.executable, "-c", code, "copy-of-a-lister"], check=False, timeout=60)
    assert done.returncode == -signal.SIGKILL
    for _ in range(100):
        if not subprocess.run(["pgrep", "-f", "copy-of-a-lister"], capture_output=True, check=False).stdout:
            return
        time.sleep(0.05)
    pytest.fail("a copy goes on")


@pytest.mark.skipif(sys.platform != "linux", reason="copies of a process")
def test_copies_that_are_ended(place: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What a copy did not do is done here; where none can be started, all of it; nothing of them is left."""
    monkeypatch.setattr(disk, "_can_copy_itself", lambda: True)
    begin, ended = disk._begin, []

    def and_end(folders: list[str]) -> tuple[int, int] | None:
        begun = begin(folders)
        assert begun is not None
        os.kill(begun[0], signal.SIGKILL)
        ended.append(begun[0])
        return begun

    for instead in (and_end, lambda folders: None):
        monkeypatch.setattr(disk, "_begin", instead)
        assert set(in_copies([str(place)], lambda *_: None)) == by_walking(place)
    for pid in ended:
        with pytest.raises(ChildProcessError):
            os.waitpid(pid, os.WNOHANG)
