"""Children: started in a session of their own, given no input, drained, and ended with all they started."""

from __future__ import annotations

import os
import sys
import time
from _thread import allocate_lock

from kalyx.core.machine import RunResult
from kalyx.core.record import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence
    from typing import Any

    from kalyx.core.threaded_wait import ThreadedWait

__all__ = ["Run", "end_process", "reason_of"]

OUTPUT_LIMIT = 4 * 1024 * 1024  # bytes kept of what a child prints


class Run:
    """A program that was started in a folder (None: the working folder), and may take `limit` seconds."""

    def __init__(self, argv: Sequence[str], env: Mapping[str, str], folder: str | None, limit: float) -> None:
        """Start it; where that fails, the result says so."""
        self._began = time.monotonic()
        self._limit = limit
        self._child: _Child | None = None
        self._failed: RunResult | None = None
        try:
            self._child = _spawn(argv, env) if folder is None and _can_spawn(argv) else (
                _start(argv, env, folder))
        except (OSError, ValueError) as error:
            closed = folder is not None and getattr(error, "filename", None) == folder
            self._failed = RunResult(None, b"", b"", False, 0.0, reason_of(error), closed)
            return
        self._watch = _watch(self._child)

    def ended(self) -> bool:
        """Whether it has come to its end."""
        return self._child is None or self._watch.ended(0.0)

    def result(self) -> RunResult:
        """Wait for its end, for as long as it may take; return how it ended."""
        if self._child is None:
            assert self._failed is not None
            return self._failed
        timed_out = False
        try:
            left = self._began + self._limit - time.monotonic()
            timed_out = not self._watch.ended(max(left, 0.0))
        finally:
            end_process(self._child.pid, with_children=timed_out)
        status = self._child.wait()
        out, err = self._watch.outputs()
        return RunResult(status, out, err, timed_out, time.monotonic() - self._began)

    def end(self) -> None:
        """End it and all that it started, without waiting for a result."""
        if self._child is not None:
            end_process(self._child.pid, with_children=not self.ended())


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


def _spawn(argv: Sequence[str], env: Mapping[str, str]) -> _Child:
    """Start a child in a session of its own by the system's own call: it needs no module loaded.

    Raises:
        OSError: it cannot be started.
    """
    out, out_end = os.pipe()
    err, err_end = os.pipe()
    try:
        pid = os.posix_spawn(argv[0], list(argv), dict(env), setsid=True, setsigdef=(13, 25), file_actions=[
            (os.POSIX_SPAWN_OPEN, 0, os.devnull, os.O_RDONLY, 0),
            (os.POSIX_SPAWN_DUP2, out_end, 1), (os.POSIX_SPAWN_DUP2, err_end, 2)])
    except BaseException:
        os.close(out)
        os.close(err)
        raise
    finally:
        os.close(out_end)
        os.close(err_end)
    return _Child(pid, out, err, lambda: os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]))


def _start(argv: Sequence[str], env: Mapping[str, str], folder: str | None) -> _Child:
    """Start a child in any folder, on any system.

    Raises:
        OSError, ValueError: it cannot be started.
    """
    import subprocess

    child = subprocess.Popen(
        list(argv), env=dict(env), cwd=folder, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
        stderr=subprocess.PIPE, start_new_session=sys.platform != "win32")
    assert child.stdout is not None and child.stderr is not None
    found = _Child(child.pid, os.dup(child.stdout.fileno()), os.dup(child.stderr.fileno()), child.wait)
    child.stdout.close()
    child.stderr.close()
    return found


def end_process(pid: int, *, with_children: bool) -> None:
    """Kill a child and its process group; `with_children` looks for those that left the group."""
    children: list[Any] = []
    if with_children:
        import psutil

        try:
            children = psutil.Process(pid).children(recursive=True)
        except psutil.Error:
            children = []
    if hasattr(os, "killpg"):
        try:
            os.killpg(pid, 9)
        except (ProcessLookupError, PermissionError):
            pass
    else:
        import psutil

        try:
            psutil.Process(pid).kill()
        except psutil.Error:
            pass
    for process in children:
        try:
            process.kill()
        except Exception:  # it ended meanwhile
            pass


def _watch(child: _Child) -> _Polled | ThreadedWait:
    if sys.platform == "linux":
        try:
            return _Polled(child, os.pidfd_open(child.pid))
        except (OSError, AttributeError):  # a system or a Python before there was such a thing
            pass
    from kalyx.core.threaded_wait import ThreadedWait

    return ThreadedWait(child.out, child.err, child.wait, OUTPUT_LIMIT)


class _Polled:
    """Waits for a child and drains its outputs whenever it is asked: a thread for each would take longer."""

    def __init__(self, child: _Child, end: int) -> None:
        """Take `end`, a descriptor that can be read when the child has ended."""
        import select

        self._poll = select.poll()
        self._end: int | None = end
        self._kept = {child.out: bytearray(), child.err: bytearray()}
        self._open = {end, *self._kept}
        for descriptor in self._open:
            self._poll.register(descriptor, select.POLLIN)

    def ended(self, limit: float) -> bool:
        """Wait for the end, at most `limit` seconds; return whether it came."""
        until = time.monotonic() + limit
        while self._end is not None:
            left = max(0.0, until - time.monotonic())
            self._attend(left)
            if left <= 0:
                break
        return self._end is None

    def outputs(self) -> tuple[bytes, bytes]:
        """Return what it printed, once it has ended."""
        # A grandchild outside the group may keep a pipe open: do not wait for it.
        until = time.monotonic() + 0.5
        while self._open and self._attend(max(0.0, until - time.monotonic())):
            pass
        for descriptor in self._open:
            os.close(descriptor)
        self._open.clear()
        out, err = self._kept.values()
        return bytes(out), bytes(err)

    def _attend(self, limit: float) -> bool:
        """Read what there is, or wait for something; return whether there was."""
        ready = self._poll.poll(limit * 1000)
        for descriptor, _ in ready:
            if descriptor == self._end:
                self._end = None
                self._close(descriptor)
                continue
            chunk = os.read(descriptor, 65536)
            kept = self._kept[descriptor]
            kept += chunk[: OUTPUT_LIMIT - len(kept)]
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
