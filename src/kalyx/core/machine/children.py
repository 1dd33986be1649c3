"""Children: started in a session of their own, given no input, drained, and ended with all they started."""

from __future__ import annotations

import _signal  # all of `signal` that is needed, and loaded already
import os
import sys
import time
from _thread import allocate_lock
from itertools import count

from kalyx.core.machine import descendants, guard
from kalyx.core.machine.kept_output import Kept
from kalyx.core.machine.results import RunResult

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence

    from kalyx.core.machine.threaded_wait import ThreadedWait

__all__ = ["Run", "end_all_runs", "holds_back", "reason_of", "send_to_us"]

OUTPUT_LIMIT = 2 * 1024 * 1024  # bytes kept of what a child prints: of more, the beginning and the end


_live: dict[int, Run] = {}  # by process number
_first: list[int] = []  # process numbers of all, the first one first
_numbers = count(1)
_closing = False
_is_starting = False  # a child that may not be in the list yet
_held_back: list[int] = []  # signals that came meanwhile
_turn = allocate_lock()


def holds_back(number: int) -> bool:
    """Whether a signal has to wait until a child that is being started can be ended with us; it is sent again then."""
    if _is_starting:
        _held_back.append(number)
    return _is_starting


def send_to_us(number: int) -> None:
    """Send a signal to this process: its main thread takes it, whatever that waits for, whoever sends it."""
    if sys.platform == "win32":  # there `os.kill` ends a process at once
        _signal.raise_signal(number)
    else:
        os.kill(os.getpid(), number)


class Run:
    """A program that was started in a folder (None: the working folder), and may take `limit` seconds."""

    def __init__(self, argv: Sequence[str], env: Mapping[str, str], folder: str | None, limit: float,
                 judged: tuple[int, int] | None = None, *, given: str = os.devnull,
                 most: int = OUTPUT_LIMIT) -> None:
        """Start it; where that fails, the result says so.

        `judged` is the device and number of the program's file: another one is not started. `given` is the file
        that it reads as its input; of each output `most` bytes are kept.
        """
        self._began = time.monotonic()
        self._limit = limit
        self._child: _Child | None = None
        self._failed: RunResult | None = None
        self._watch: _Polled | ThreadedWait | None = None
        self._mark = f"{descendants.OWN_MARK}.{next(_numbers)}"
        env = {**env, descendants.VARIABLE: self._mark}
        try:
            with _turn:  # a child that is not in the list yet would be taken for a stray one, and so would a guard
                self._begin(argv, env, folder, judged, given, most)
        except (OSError, ValueError) as error:
            closed = folder is not None and getattr(error, "filename", None) == folder
            self._failed = RunResult(None, b"", b"", False, 0.0, reason_of(error), closed)
        while _held_back:
            send_to_us(_held_back.pop())

    def _begin(self, argv: Sequence[str], env: Mapping[str, str], folder: str | None, judged: tuple[int, int] | None,
               given: str, most: int) -> None:
        """Start the child, and put it in the list; no signal comes in between."""
        global _is_starting
        _is_starting = True
        try:
            if _closing:
                raise OSError(4, "Kalyx is being ended")
            if judged is None:
                descendants.adopt_orphans()  # before it can leave any
            child = _spawn(argv, env, judged, given) if _can_spawn(argv) and (
                folder is None or judged) else _start(argv, env, folder, given)
            self._child, _live[child.pid] = child, self
            _first.append(child.pid)
            self._watch = _watch(child, most)
            if judged is None:  # what was judged good starts nothing that could outlive us
                guard.watch()
        finally:
            _is_starting = False

    @property
    def pid(self) -> int | None:
        """Its process number; None where it could not be started."""
        return self._child.pid if self._child is not None else None

    def ended(self, limit: float = 0.0) -> bool:
        """Wait for its end, at most `limit` seconds; return whether it came. Its output is read meanwhile."""
        return self._watch is None or self._watch.ended(limit)

    def result(self) -> RunResult:
        """Wait for its end, for as long as it may take; return how it ended."""
        if self._child is None or self._watch is None:
            assert self._failed is not None
            return self._failed
        timed_out = False
        try:
            left = self._began + self._limit - time.monotonic()
            timed_out = not self._watch.ended(max(left, 0.0))
        finally:
            self._end_all()
        status = self._child.wait()
        out, err = self._watch.outputs()
        return RunResult(status, out, err, timed_out, time.monotonic() - self._began)

    def last_words(self) -> bytes:
        """Return what it has printed so far, its complaints where there are any; of much the two ends."""
        out, err = self._watch.printed() if self._watch is not None else (b"", b"")
        return (err.strip() and err) or out

    def interrupt(self) -> None:
        """Send it what Ctrl-C sends."""
        if self._child is not None and hasattr(os, "killpg"):
            try:
                os.killpg(self._child.pid, 2)
            except OSError:
                pass

    def end(self) -> None:
        """End it and all that it started, without waiting for a result."""
        if self._child is not None:
            self._end_all()
            self._child.wait()
            if self._watch is not None:
                self._watch.outputs()

    def _end_all(self) -> None:
        assert self._child is not None
        pid = self._child.pid
        with _turn:
            _live.pop(pid, None)
            descendants.end_all(pid, self._mark, tuple(_live), guard.number(), _first[0])


def end_all_runs() -> None:
    """End whatever is still running, with all that it started; nothing is started after that."""
    global _closing
    _closing = True
    with _turn:  # whoever is starting one has it in the list then
        pass
    for run in list(_live.values()):
        run.end()
    guard.dismiss()


class _Child:
    """A child that was started, with the reading ends of its two outputs."""

    def __init__(self, pid: int, out: int, err: int, wait: Callable[[], int]) -> None:
        self.pid = pid
        self.out = out
        self.err = err
        self._wait = wait
        self._status: int | None = None
        self._turn = allocate_lock()

    def wait(self) -> int:
        """Wait for its end; return its exit status, negative for a signal."""
        with self._turn:  # a child can be waited for once; who comes second gets what the first was told
            if self._status is None:
                self._status = self._wait()
            return self._status


def _can_spawn(argv: Sequence[str]) -> bool:
    return sys.platform == "linux" and "/" in argv[0]


def _spawn(argv: Sequence[str], env: Mapping[str, str], judged: tuple[int, int] | None, given: str) -> _Child:
    """Start a child in a session of its own by the system's own call: it needs no module loaded.

    Where its file was judged, that very file is opened, compared and run.

    Raises:
        OSError: it cannot be started.
    """
    program, handle = argv[0], -1
    out, out_end = os.pipe()
    err, err_end = os.pipe()
    try:
        if judged is not None:
            handle = os.open(program, os.O_RDONLY | os.O_CLOEXEC | os.O_NOFOLLOW)
            info = os.fstat(handle)
            if (info.st_dev, info.st_ino) != judged:
                raise OSError(116, "another file has taken its place")
            program = f"/proc/self/fd/{handle}" if os.path.exists("/proc/self/fd") else program
        pid = os.posix_spawn(program, list(argv), dict(env), setsid=True, setsigdef=(1, 2, 13, 15, 25), file_actions=[
            (os.POSIX_SPAWN_OPEN, 0, given, os.O_RDONLY, 0),
            (os.POSIX_SPAWN_DUP2, out_end, 1), (os.POSIX_SPAWN_DUP2, err_end, 2)])
    except BaseException:
        os.close(out)
        os.close(err)
        raise
    finally:
        os.close(out_end)
        os.close(err_end)
        if handle >= 0:
            os.close(handle)
    return _Child(pid, out, err, lambda: os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]))


def _start(argv: Sequence[str], env: Mapping[str, str], folder: str | None, given: str) -> _Child:
    """Start a child in any folder, on any system.

    Raises:
        OSError, ValueError: it cannot be started.
    """
    import subprocess

    with open(given, "rb") as file:
        child = subprocess.Popen(
            list(argv), env=dict(env), cwd=folder, stdin=file, stdout=subprocess.PIPE,
            stderr=subprocess.PIPE, start_new_session=sys.platform != "win32")
    assert child.stdout is not None and child.stderr is not None
    found = _Child(child.pid, os.dup(child.stdout.fileno()), os.dup(child.stderr.fileno()), child.wait)
    child.stdout.close()
    child.stderr.close()
    return found


def _watch(child: _Child, most: int) -> _Polled | ThreadedWait:
    if sys.platform == "linux":
        try:
            return _Polled(child, os.pidfd_open(child.pid), most)
        except (OSError, AttributeError):  # a system or a Python before there was such a thing
            pass
    from kalyx.core.machine.threaded_wait import ThreadedWait

    return ThreadedWait(child.out, child.err, child.wait, most)


class _Polled:
    """Waits for a child and drains its outputs whenever it is asked: a thread for each would take longer."""

    def __init__(self, child: _Child, end: int, most: int) -> None:
        """Take `end`, a descriptor that can be read when the child has ended; `most` bytes of each output are kept."""
        import select

        self._poll = select.poll()
        self._end: int | None = end
        self._kept = {child.out: Kept(most), child.err: Kept(most)}
        self._open = {end, *self._kept}
        for descriptor in self._open:
            self._poll.register(descriptor, select.POLLIN)

    def ended(self, limit: float) -> bool:
        """Wait for the end, at most `limit` seconds; return whether it came."""
        until = time.monotonic() + limit
        while self._end is not None:
            left = max(0.0, until - time.monotonic())
            if not self._attend(left) and left <= 0:
                break
            if left <= 0 and time.monotonic() > until + 0.05:
                break  # it prints faster than it is worth reading
        return self._end is None

    def printed(self) -> tuple[bytes, bytes]:
        """Return what it has printed so far."""
        out, err = self._kept.values()
        return out.text(), err.text()

    def outputs(self) -> tuple[bytes, bytes]:
        """Return what it printed, once it has ended."""
        # A grandchild outside the group may keep a pipe open: do not wait for it.
        until = time.monotonic() + 0.5
        while self._open and self._attend(max(0.0, until - time.monotonic())):
            pass
        for descriptor in self._open:
            os.close(descriptor)
        self._open.clear()
        return self.printed()

    def _attend(self, limit: float) -> bool:
        """Read what there is, or wait for something; return whether there was."""
        ready = self._poll.poll(limit * 1000)
        for descriptor, _ in ready:
            if descriptor == self._end:
                self._end = None
                self._close(descriptor)
                continue
            chunk = os.read(descriptor, 65536)
            self._kept[descriptor].add(chunk)
            if not chunk:
                self._close(descriptor)
        return bool(ready)

    def _close(self, descriptor: int) -> None:
        self._poll.unregister(descriptor)
        self._open.discard(descriptor)
        os.close(descriptor)


def reason_of(error: Exception) -> str:
    """Return the system's reason in a form that can follow a colon."""
    if isinstance(error, OSError) and error.strerror:
        return error.strerror[0].lower() + error.strerror[1:]
    return str(error)
