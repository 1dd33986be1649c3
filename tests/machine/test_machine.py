"""The door to the machine: children are drained, waited for and ended, in both ways of watching them."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import pytest

from kalyx.core.facts.search_path.site_folders import site_contents
from kalyx.core.machine import children
from kalyx.core.machine.kept_output import LEFT_OUT
from kalyx.core.machine.local import RealMachine
from kalyx.core.machine.results import RunResult
from tests.support.build import write

LIMIT = 2.0
FLOOD = "import sys\nfor _ in range(200): sys.stdout.write('x' * 65536); sys.stderr.write('y' * 6553)\n"
STAYS = ("import os, time\nif os.fork() == 0:\n os.setsid()\n os.write(1, b'later\\n')\n time.sleep(20)\n"
         "os.write(1, b'first\\n')")
CHILDREN = {
    "prints to both": ("import sys; print('a'); sys.stderr.write('b')", 0, b"a\n", b"b", False),
    "says nothing": ("pass", 0, b"", b"", False),
    "closes its outputs": ("import os, time; os.close(1); os.close(2); time.sleep(0.2)", 0, b"", b"", False),
    "ends by a status": ("raise SystemExit(7)", 7, b"", b"", False),
    "ends by a signal": ("import os; os.write(1, b'last'); os.kill(os.getpid(), 11)", -11, b"last", b"", False),
    "prints more than is kept": (FLOOD, 0, b"x" * (children.OUTPUT_LIMIT // 2) + LEFT_OUT + b"x" * (
        children.OUTPUT_LIMIT // 2), b"y" * 200 * 6553, False),
    "never ends": ("import time; print('on', flush=True); time.sleep(60)", -9, b"on\n", b"", True),
    "prints without end": ("while 1: print('on')", -9, None, b"", True),
    "ignores what asks it to end": ("import signal, time\nfor n in (1, 2, 15): signal.signal(n, signal.SIG_IGN)"
                                    "\ntime.sleep(60)", -9, b"", b"", True),
    "reads its input": ("import sys; print(repr(sys.stdin.read()))", 0, b"''\n", b"", False),
}


@pytest.fixture(params=["polled", "threaded"])
def watching(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> str:
    """Each way of watching a child: the second is that of systems that know no descriptor for a process."""
    if request.param == "threaded":
        monkeypatch.delattr(os, "pidfd_open", raising=False)
    elif sys.platform != "linux" or not hasattr(os, "pidfd_open"):
        pytest.skip("no such thing on this system")
    return str(request.param)


@pytest.mark.parametrize("name", CHILDREN)
def test_children(name: str, watching: str, tmp_path: Path) -> None:
    """What a child prints is kept, to a limit; how it ended is known; none outlives its limit."""
    code, status, out, err, timed_out = CHILDREN[name]
    folders = (None, str(tmp_path))  # begun by the system's own call, or by the library's
    runs = [children.Run([sys.executable, "-c", code], dict(os.environ), folder, LIMIT) for folder in folders]
    for folder, run in zip(folders, runs, strict=True):
        ran = run.result()
        assert (ran.status, ran.err, ran.timed_out) == (status, err, timed_out), (watching, folder)
        assert ran.out == out if out is not None else set(ran.out) <= set(b"on\n" + LEFT_OUT)
        assert ran.seconds < LIMIT + 2


@pytest.mark.skipif(not hasattr(os, "fork"), reason="needs fork")
def test_grandchild_that_stays(watching: str) -> None:
    """What left the group and keeps the outputs open is not waited for."""
    run = children.Run([sys.executable, "-c", STAYS], dict(os.environ), None, 10.0)
    ran = run.result()
    assert ran.status == 0 and b"first\n" in ran.out and ran.seconds < 9 and not ran.timed_out, watching
    assert run.ended()


@pytest.mark.parametrize(("argv", "folder", "closed"), [
    (["/nowhere/python"], None, False), (["nowhere-python"], None, False),
    ([sys.executable, "-c", "pass"], "/nowhere", True)])
def test_what_cannot_start(argv: list[str], folder: str | None, closed: bool) -> None:
    """A program or a folder that is not there is a result, no exception."""
    run = children.Run(argv, dict(os.environ), folder, LIMIT)
    assert run.ended()
    assert run.result() == RunResult(None, b"", b"", False, 0.0, "no such file or directory", closed)


def test_descriptors_are_given_back(watching: str) -> None:
    """A hundred questions leave no descriptor open."""
    def count() -> int:
        return len(os.listdir("/proc/self/fd")) if os.path.isdir("/proc/self/fd") else 0

    children.Run([sys.executable, "-S", "-c", "pass"], dict(os.environ), None, 10.0).result()  # the first opens a guard
    before = count()
    for code in ["pass", "print(1)", "raise SystemExit(1)"] * 4:
        children.Run([sys.executable, "-S", "-c", code], dict(os.environ), None, 10.0).result()
    assert count() <= before, watching


def test_library_folders_guessed_and_listed_agree(tmp_path: Path) -> None:
    """The library folder that is tried first changes no answer: what is there is found under any guess."""
    layouts = {"one": ["lib/python3.11"], "two": ["lib/python3.11", "lib/python3.12"],
               "other": ["lib/python3.9"], "pypy": ["lib/pypy3.9"], "system": ["lib/python3.11", "lib/gcc"],
               "none": []}
    machine = RealMachine()
    for name, libraries in layouts.items():
        for library in libraries:
            write(tmp_path / name / library / "site-packages" / f"{name}.py", "")
        expected = [(str(tmp_path / name / n / "site-packages"), [f"{name}.py"]) for n in libraries
                    if "gcc" not in n]
        for likely in ("", "python3.11", "python3.12", "pypy3.9"):
            assert site_contents(machine, str(tmp_path / name), likely) == expected, (name, likely)


@pytest.mark.skipif(os.name != "posix", reason="links, and paths with one root")
def test_real_paths(tmp_path: Path) -> None:
    """They are what the system's own way says, whatever was asked for before: links, loops, what is not there."""
    (tmp_path / "a" / "b").mkdir(parents=True)
    up = os.path.relpath("/usr", tmp_path / "a")
    for name, target in (("up", up), ("loop", "loop"), ("round", "../a/round"), ("chain", "up"), ("gone", "nowhere/x"),
                         ("here", "."), ("above", ".."), ("whole", str(tmp_path)), ("é x", "b")):
        (tmp_path / "a" / name).symlink_to(target)
    names = ["", "up", "up/lib", "up/../etc", "loop", "loop/x", "round", "chain/bin", "gone", "gone/y", "here/b",
             "b/..", "above/a/b", "whole/a/here/b", "é x", "é x/..", "b/./c", "b//c", "no/such"]
    paths = [os.path.join(tmp_path, "a", name) for name in names]
    paths += ["/", "//", "//usr/lib", "/usr/..", "/usr/../etc", "/usr/lib/", "/..", "x", "", "\0", "/\0/x"]
    for asked in (paths, paths[::-1]):
        machine = RealMachine()
        for path in asked:
            expected = os.path.realpath(path) if "\0" not in path else path
            assert (machine.real_path(path), machine.key(path)) == (expected, expected), path
