"""What is shared out among processes: the same comes of it as from one, whatever becomes of them."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from kalyx.core.facts.source_code.needs import needs_as_data
from kalyx.core.machine import copies, disk, workers
from kalyx.core.machine.local import RealMachine
from kalyx.core.model import DiskFolder

Entry = tuple[Any, ...]  # path, bytes taken; of files: bytes apparent, time, what tells hard links apart


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


def by_walking(place: Path) -> set[Entry]:
    """Return the same by the standard library's own walk."""
    found = {one(str(place))}
    for folder, folders, names in os.walk(place):
        found |= {one(os.path.join(folder, name)) for name in (*folders, *names)}
    return found


def one(path: str) -> Entry:
    """Return what is told of a path: of a folder only what it takes."""
    info = os.lstat(path)
    if os.path.isdir(path) and not os.path.islink(path):
        return path, info.st_blocks * 512, None, None, None
    key = (info.st_dev, info.st_ino) if info.st_nlink > 1 else None
    return path, info.st_blocks * 512, info.st_size, info.st_mtime, key


def as_data(share: list[DiskFolder]) -> list[Entry]:
    """Return the entries of some folders."""
    found: list[Entry] = []
    for folder in share:
        found += [(os.path.join(folder.path, name), taken, None, None, None) for name, taken in folder.folders]
        columns = zip(folder.names, folder.taken, folder.apparent, folder.changed, strict=True)
        found += [(os.path.join(folder.path, name), *said, folder.links.get(number))
                  for number, (name, *said) in enumerate(columns)]
    return found


def in_copies(folders: list[str], closed: Callable[[str, str], object]) -> list[Entry]:
    return [entry for share in disk.read_in_shares(folders, as_data, closed) for entry in share]


def beside_a_thread(folders: list[str], closed: Callable[[str, str], object]) -> list[Entry]:
    """List them while there is a thread, which no copy would have."""
    end = threading.Event()
    thread = threading.Thread(target=end.wait)
    thread.start()
    try:
        assert not disk.can_copy_itself()
        return in_copies(folders, closed)
    finally:
        end.set()
        thread.join()


@pytest.mark.skipif(sys.platform != "linux", reason="by the system's own count of blocks, and copies of a process")
@pytest.mark.parametrize("way", [in_copies, beside_a_thread])
def test_the_same_either_way(way: Callable[..., list[Entry]], place: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Each entry once, links not followed, what is not there told; the sum is what the system's own count says."""
    if way is in_copies:  # the tests' own process has threads
        monkeypatch.setattr(disk, "can_copy_itself", lambda: True)
    told: list[tuple[str, str]] = []
    found = way([str(place), str(place.parent / "none")], lambda path, why: told.append((path, why)))
    assert set(found) == by_walking(place) and len(found) == len(set(found))
    assert [path for path, _ in told] == [str(place.parent / "none")]
    linked = [e for e in found if e[4]]
    said = subprocess.run(["du", "-s", "-B1", place], capture_output=True, text=True, check=True).stdout
    assert sum(e[1] for e in found) - linked[0][1] == int(said.split()[0]) and len(linked) == 2
    assert way([], told.append) == []  # type: ignore[arg-type]


@pytest.mark.skipif(sys.platform != "linux", reason="copies of a process")
def test_copies_end_with_who_asked() -> None:
    """However that is ended, and whatever there is still to list."""
    code = ("import os, time; from kalyx.core.machine import disk\n"
            "slow = disk._list; disk._list = lambda *all: (time.sleep(0.05), slow(*all))\n"
            "from kalyx.core.machine import copies; Copy = copies.Copy\n"
            "def begin(work):\n    Copy(work)\n    time.sleep(0.2)\n    os.kill(os.getpid(), 9)\n"
            "copies.Copy = begin\ndisk.read_in_shares(['/usr'], len, print)")
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
    monkeypatch.setattr(disk, "can_copy_itself", lambda: True)
    ended = []

    class Ended(copies.Copy):
        """A copy that is ended as soon as it has begun."""

        def __init__(self, work: Callable[[], Any]) -> None:
            super().__init__(work)
            os.kill(self._pid, signal.SIGKILL)
            ended.append(self._pid)

    class Nothing(copies.Copy):
        """None, as the system has no room for it."""

        def __init__(self, work: Callable[[], Any]) -> None:
            self._pid = 0

    for instead in (Ended, Nothing):
        monkeypatch.setattr(copies, "Copy", instead)
        assert set(in_copies([str(place)], lambda *_: None)) == by_walking(place)
        shared = copies.shared_out(lambda part: part * 2, range(50), 3)
        assert shared.items() <= {n: n * 2 for n in range(50)}.items()
    for pid in ended:
        with pytest.raises(ChildProcessError):
            os.waitpid(pid, os.WNOHANG)


@pytest.mark.parametrize("by_copies", [True, False])
def test_what_is_shared_out(by_copies: bool, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The same comes of it, in order, with what could not be read, from copies and from children."""
    monkeypatch.setattr(workers, "can_copy_itself", lambda: by_copies and sys.platform == "linux")
    monkeypatch.setattr(os, "cpu_count", lambda: 3)
    parts = []
    for number in range(40):
        file = tmp_path / f"\u00e9{number}.py"
        file.write_text(f"import lib{number}\n") if number % 9 else file.mkdir()
        parts.append(([str(file)], ""))
    machine = RealMachine()
    found = list(machine.in_processes(needs_as_data, parts))
    assert [row["path"] for rows in found for row in rows] == [p for paths, _ in parts for p in paths]
    assert [row["imports"][0][0] for rows in found for row in rows if row["imports"]] == [
        f"lib{n}" for n in range(40) if n % 9]
    unread = [row["path"] for rows in found for row in rows if row["trouble"]]
    assert unread == [parts[n][0][0] for n in range(0, 40, 9)]
