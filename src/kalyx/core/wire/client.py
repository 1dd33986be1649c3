"""Starts a kernel as a notebook server would, and asks it questions."""

from __future__ import annotations

import json
import os
import secrets
import socket
import threading
import time
from errno import EADDRINUSE
from typing import Any

from kalyx.core.errors import Unreadable
from kalyx.core.lean.record import record
from kalyx.core.machine import scratch
from kalyx.core.machine.children import Run
from kalyx.core.wire.contexts import end_context, is_interrupt
from kalyx.core.wire.messages import MESSAGE_LIMIT, BadMessage, Session, receive

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

__all__ = ["Executed", "KernelFailed", "StartedKernel", "free_ports", "read_expressions"]

CHANNELS = ("shell_port", "iopub_port", "stdin_port", "control_port", "hb_port")
GRACE = 3.0  # seconds to shut down when asked politely
LOWEST_PORT, MOST_PORTS, MOST_TRIES = 20_000, 12_000, 200
_GIVEN: set[int] = set()  # ports that kernels of this process were told to take
_GIVING = threading.Lock()
# What systems, and what kernels speak through, call a port that somebody else has
_TAKEN = (f"Errno {EADDRINUSE}]", "WinError 10048", "ddress already in use", "ddress in use")
OUTPUT_LIMIT = 1024 * 1024  # characters of a cell's output; at more it is interrupted
AFTER_INTERRUPT = 3.0  # seconds for a cell to end once it is interrupted


@record
class Executed:
    """What a piece of code did in a kernel. ``cut`` says that it printed more than is kept."""

    output: str
    value: str | None
    error: str | None
    cut: bool = False


class KernelFailed(Exception):
    """The kernel did not start, did not answer, or answered nonsense."""


class StartedKernel:
    """A kernel process that belongs to us; a context manager that leaves nothing running."""

    def __init__(self, argv: list[str], env: Mapping[str, str], cwd: str, limit: float) -> None:
        self._argv = argv
        self._env = dict(env)
        self._cwd = cwd
        self._deadline = time.monotonic() + limit
        self._limit = limit
        self._folder = ""
        self._run: Run | None = None
        self._context: Any = None
        self._sockets: dict[str, Any] = {}
        self._session = Session(secrets.token_hex(16).encode("ascii"))
        self._ports: dict[str, int] = {}
        self._watches_ports = False

    def __enter__(self) -> StartedKernel:
        try:
            self._folder = scratch.make_folder(scratch.usual_places(self._env))
        except Unreadable as error:
            raise KernelFailed(error.message) from None
        try:
            self._begin()
        except BaseException as error:
            self.close(politely=False, interrupted=is_interrupt(type(error)))
            raise
        return self

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        self.close(politely=kind is None, interrupted=is_interrupt(kind))

    def _begin(self) -> None:
        """Start the kernel, and wait for its first answer; once more where a port of it went to another program."""
        self._start()
        self._watches_ports = True
        try:
            self.ask("kernel_info_request", {})
        except KernelFailed:
            if not self._has_lost_a_port():
                raise
            self._stop(politely=False)
            self._watches_ports = False
            self._start()
            self.ask("kernel_info_request", {})
        self._watches_ports = False

    def _has_lost_a_port(self) -> bool:
        """Whether the kernel ended as a port is taken, or says so: many then go on without it, and never answer."""
        assert self._run is not None
        said = self._run.last_words().decode("utf-8", "replace")
        return (any(sign in said for sign in _TAKEN) and any(str(port) in said for port in self._ports.values())) or (
            self._run.ended() and _is_any_taken(self._ports.values()))

    def _start(self) -> None:
        file = os.path.join(self._folder, "connection.json")
        self._ports = free_ports(CHANNELS)
        content = {**self._ports, "ip": "127.0.0.1", "transport": "tcp",
                   "key": self._session.key.decode("ascii"), "signature_scheme": "hmac-sha256",
                   "kernel_name": ""}
        with os.fdopen(os.open(file, os.O_WRONLY | os.O_CREAT, 0o600), "w") as out:
            json.dump(content, out)
        argv = [a.replace("{connection_file}", file) for a in self._argv]
        self._run = Run(argv, {**self._env, "JPY_PARENT_PID": str(os.getpid())}, self._cwd, 2 * self._limit)
        if self._run.pid is None:
            raise KernelFailed(f"{argv[0]} cannot be started: {self._run.result().why_not}")
        import zmq

        self._context = zmq.Context()
        for channel in ("shell", "control"):
            link = self._context.socket(zmq.DEALER)
            link.linger = 0
            link.setsockopt(zmq.MAXMSGSIZE, MESSAGE_LIMIT)
            link.connect(f"tcp://127.0.0.1:{self._ports[channel + '_port']}")
            self._sockets[channel] = link

    def ask(self, kind: str, content: dict[str, Any], channel: str = "shell") -> dict[str, Any]:
        """Send a request and return the content of the reply to it.

        Raises:
            KernelFailed: the kernel ended, the time is up, or a reply is not to be trusted.
        """
        link = self._sockets[channel]
        identity, frames = self._session.pack(kind, content)
        link.send_multipart(frames)
        while True:
            reply = self._next(link)
            if reply["parent_header"].get("msg_id") == identity:
                answer: dict[str, Any] = reply["content"]
                return answer

    def evaluate(self, expressions: Mapping[str, str]) -> dict[str, str]:
        """Have expressions evaluated; return what each is, as plain text.

        The request is silent and leaves no trace in the history.

        Raises:
            KernelFailed: an expression raised, or the kernel does not answer.
        """
        reply = self.ask("execute_request", {
            "code": "", "silent": True, "store_history": False,
            "user_expressions": dict(expressions), "allow_stdin": False, "stop_on_error": True})
        return read_expressions(reply, expressions)

    def execute(self, code: str) -> Executed:
        """Run code and return what it printed, the value that it showed, and the error.

        Raises:
            KernelFailed: the kernel ended, or the time is up.
        """
        listener = self._listen()
        self.ask("kernel_info_request", {})  # by now what the kernel publishes arrives here
        identity, frames = self._session.pack("execute_request", {
            "code": code, "silent": False, "store_history": False, "user_expressions": {},
            "allow_stdin": False, "stop_on_error": True})
        self._sockets["shell"].send_multipart(frames)
        output: list[str] = []
        value = error = None
        room, cut = OUTPUT_LIMIT, False
        while True:
            message = self._next(listener)
            if message["parent_header"].get("msg_id") != identity:
                continue
            kind, content = message["header"].get("msg_type"), message["content"]
            if kind == "stream":
                text = str(content.get("text", ""))
                output.append(text[:max(room, 0)])
                room -= len(text)
            elif kind in ("execute_result", "display_data"):
                data = content.get("data")
                value = str(data.get("text/plain", "") if isinstance(data, dict) else "")[:OUTPUT_LIMIT]
            elif kind == "error":
                error = f"{content.get('ename')}: {content.get('evalue')}".rstrip(": ")[:OUTPUT_LIMIT]
            elif kind == "status" and content.get("execution_state") == "idle":
                return Executed("".join(output), value, error, cut)
            if room < 0 and not cut:
                cut = True
                self._interrupt()

    def _interrupt(self) -> None:
        """Interrupt what prints without an end; it has a moment to end by itself."""
        assert self._run is not None
        self._run.interrupt()
        self._deadline = min(self._deadline, time.monotonic() + AFTER_INTERRUPT)

    def _listen(self) -> Any:
        import zmq

        if "iopub" not in self._sockets:
            link = self._context.socket(zmq.SUB)
            link.linger = 0
            link.setsockopt(zmq.MAXMSGSIZE, MESSAGE_LIMIT)
            link.setsockopt(zmq.SUBSCRIBE, b"")
            link.connect(f"tcp://127.0.0.1:{self._ports['iopub_port']}")
            self._sockets["iopub"] = link
            time.sleep(0.1)  # a subscription takes a moment to arrive at the other side
        return self._sockets["iopub"]

    def _next(self, link: Any) -> dict[str, Any]:
        """Return the next message of a channel, whatever it answers.

        Raises:
            KernelFailed: the kernel ended, the time is up, or a message is not to be trusted.
        """
        assert self._run is not None
        while not link.poll(50):
            if self._run.ended():
                raise KernelFailed(f"it ended with status {self._run.result().status}{self._last_words()}")
            if time.monotonic() > self._deadline or (self._watches_ports and self._has_lost_a_port()):
                raise KernelFailed(f"it did not answer within {self._limit:g} s{self._last_words()}")
        if time.monotonic() > self._deadline:  # it may well send without an end
            raise KernelFailed(f"it did not come to an end within {self._limit:g} s{self._last_words()}")
        self._run.ended()  # what it prints beside is read, or it would wait for us
        try:
            return receive(self._session, link)
        except BadMessage as error:
            raise KernelFailed(f"it sent {error}") from None

    def close(self, politely: bool = True, *, interrupted: bool = False) -> None:
        """Ask the kernel to end where there is time for that; end it and all it started.

        Where the work was `interrupted`, nothing is waited for.
        """
        self._stop(politely, interrupted=interrupted)
        if self._folder:
            scratch.remove_folder(self._folder)

    def _stop(self, politely: bool, *, interrupted: bool = False) -> None:
        run = self._run
        if politely and run is not None and not run.ended() and "control" in self._sockets:
            _, frames = self._session.pack("shutdown_request", {"restart": False})
            self._sockets["control"].send_multipart(frames)
            run.ended(GRACE)
        if run is not None:
            run.end()
        while self._sockets:
            self._sockets.popitem()[1].close(0)
        if self._context is not None:
            end_context(self._context, interrupted=interrupted)

    def _last_words(self) -> str:
        text = self._run.last_words().decode("utf-8", "replace") if self._run is not None else ""
        said = [ln.strip() for ln in text.splitlines() if ln.strip()]
        return f"; it last said: {said[-1][:500]}" if said else ""


def read_expressions(reply: Mapping[str, Any], expressions: Mapping[str, str]) -> dict[str, str]:
    """Return what a kernel's reply says of each expression, as plain text.

    Raises:
        KernelFailed: an expression raised, or the reply is not what the protocol says.
    """
    answers = reply.get("user_expressions")
    if reply.get("status") == "error":
        raise KernelFailed(f"{reply.get('ename')}: {reply.get('evalue')}")
    if not isinstance(answers, dict) or set(answers) != set(expressions):
        raise KernelFailed("it left questions unanswered")
    found = {}
    for name, answer in answers.items():
        if not isinstance(answer, dict) or answer.get("status") != "ok":
            said = answer if isinstance(answer, dict) else {}
            raise KernelFailed(f"{expressions[name]} raised {said.get('ename')}: {said.get('evalue')}")
        data = answer.get("data")
        found[name] = str(data.get("text/plain", "") if isinstance(data, dict) else "")
    return found


def free_ports(names: tuple[str, ...]) -> dict[str, int]:
    """Return a free port of this machine for each name; none is given twice, as kernels are started side by side.

    They lie below those that systems hand out themselves: until the kernel takes them, nobody else is given one.
    """
    held: list[socket.socket] = []
    tries = 0
    while len(held) < len(names):
        link, tries = socket.socket(), tries + 1
        port = LOWEST_PORT + int.from_bytes(os.urandom(2), "big") % MOST_PORTS if tries < MOST_TRIES else 0
        try:
            link.bind(("127.0.0.1", port))
            with _GIVING:
                if port in _GIVEN:
                    raise OSError(EADDRINUSE, os.strerror(EADDRINUSE))
                _GIVEN.update({port} - {0})
            held.append(link)
        except OSError:
            link.close()
            if tries >= 2 * MOST_TRIES:
                raise
    ports = {name: link.getsockname()[1] for name, link in zip(names, held, strict=True)}
    for link in held:
        link.close()
    return ports


def _is_any_taken(ports: Iterable[int]) -> bool:
    """Whether somebody has one of some ports of this machine."""
    for port in ports:
        with socket.socket() as link:
            try:
                link.bind(("127.0.0.1", port))
            except OSError:
                return True
    return False
