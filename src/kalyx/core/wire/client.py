"""Starts a kernel as a notebook server would, and asks it questions."""

from __future__ import annotations

import json
import os
import secrets
import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Mapping
from typing import Any

from kalyx.core.children import end_process
from kalyx.core.record import dataclass
from kalyx.core.wire.messages import BadMessage, Session

__all__ = ["Executed", "KernelFailed", "StartedKernel"]

CHANNELS = ("shell_port", "iopub_port", "stdin_port", "control_port", "hb_port")
GRACE = 3.0  # seconds to shut down when asked politely


@dataclass(frozen=True)
class Executed:
    """What a piece of code did in a kernel."""

    output: str
    value: str | None
    error: str | None


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
        self._process: subprocess.Popen[bytes] | None = None
        self._context: Any = None
        self._sockets: dict[str, Any] = {}
        self._session = Session(secrets.token_hex(16).encode("ascii"))
        self._ports: dict[str, int] = {}

    def __enter__(self) -> StartedKernel:
        self._folder = tempfile.mkdtemp(prefix="kalyx-kernel-")
        try:
            self._start()
        except BaseException:
            self.close()
            raise
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def _start(self) -> None:
        file = os.path.join(self._folder, "connection.json")
        self._ports = free_ports(CHANNELS)
        content = {**self._ports, "ip": "127.0.0.1", "transport": "tcp",
                   "key": self._session.key.decode("ascii"), "signature_scheme": "hmac-sha256",
                   "kernel_name": ""}
        with os.fdopen(os.open(file, os.O_WRONLY | os.O_CREAT, 0o600), "w") as out:
            json.dump(content, out)
        argv = [a.replace("{connection_file}", file) for a in self._argv]
        with open(os.path.join(self._folder, "log"), "wb") as log:
            try:
                self._process = subprocess.Popen(
                    argv, env={**self._env, "JPY_PARENT_PID": str(os.getpid())}, cwd=self._cwd,
                    stdin=subprocess.DEVNULL, stdout=log, stderr=log,
                    start_new_session=os.name == "posix")
            except OSError as error:
                raise KernelFailed(f"{argv[0]} cannot be started: {error.strerror}") from None
        import zmq

        self._context = zmq.Context()
        for channel in ("shell", "control"):
            link = self._context.socket(zmq.DEALER)
            link.linger = 0
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
            if link.poll(50):
                try:
                    reply = self._session.unpack(link.recv_multipart())
                except BadMessage as error:
                    raise KernelFailed(f"it sent {error}") from None
                if reply["parent_header"].get("msg_id") == identity:
                    answer: dict[str, Any] = reply["content"]
                    return answer
            elif self._process is not None and self._process.poll() is not None:
                raise KernelFailed(f"it ended with status {self._process.returncode}"
                                   f"{self._last_words()}")
            if time.monotonic() > self._deadline:
                raise KernelFailed(f"it did not answer within {self._limit:g} s"
                                   f"{self._last_words()}")

    def evaluate(self, expressions: Mapping[str, str]) -> dict[str, str]:
        """Have expressions evaluated; return what each is, as plain text.

        The request is silent and leaves no trace in the history.

        Raises:
            KernelFailed: an expression raised, or the kernel does not answer.
        """
        reply = self.ask("execute_request", {
            "code": "", "silent": True, "store_history": False,
            "user_expressions": dict(expressions), "allow_stdin": False, "stop_on_error": True})
        found = {}
        for name, answer in (reply.get("user_expressions") or {}).items():
            if answer.get("status") != "ok":
                raise KernelFailed(f"{expressions[name]} raised {answer.get('ename')}: "
                                   f"{answer.get('evalue')}")
            found[name] = str(answer.get("data", {}).get("text/plain", ""))
        if set(found) != set(expressions):
            raise KernelFailed("it left questions unanswered")
        return found

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
        while True:
            message = self._next(listener)
            if message["parent_header"].get("msg_id") != identity:
                continue
            kind, content = message["header"].get("msg_type"), message["content"]
            if kind == "stream":
                output.append(str(content.get("text", "")))
            elif kind in ("execute_result", "display_data"):
                value = str(content.get("data", {}).get("text/plain", ""))
            elif kind == "error":
                error = f"{content.get('ename')}: {content.get('evalue')}".rstrip(": ")
            elif kind == "status" and content.get("execution_state") == "idle":
                return Executed("".join(output), value, error)

    def _listen(self) -> Any:
        import zmq

        if "iopub" not in self._sockets:
            link = self._context.socket(zmq.SUB)
            link.linger = 0
            link.setsockopt(zmq.SUBSCRIBE, b"")
            link.connect(f"tcp://127.0.0.1:{self._ports['iopub_port']}")
            self._sockets["iopub"] = link
            time.sleep(0.1)  # a subscription takes a moment to arrive at the other side
        return self._sockets["iopub"]

    def _next(self, link: Any) -> dict[str, Any]:
        """Return the next message of a channel, whatever it answers."""
        while not link.poll(50):
            if self._process is not None and self._process.poll() is not None:
                raise KernelFailed(f"it ended with status {self._process.returncode}{self._last_words()}")
            if time.monotonic() > self._deadline:
                raise KernelFailed(f"it did not answer within {self._limit:g} s{self._last_words()}")
        try:
            return self._session.unpack(link.recv_multipart())
        except BadMessage as error:
            raise KernelFailed(f"it sent {error}") from None

    def close(self) -> None:
        """Ask the kernel to end, then end it and all it started."""
        process = self._process
        if process is not None and process.poll() is None and "control" in self._sockets:
            _, frames = self._session.pack("shutdown_request", {"restart": False})
            self._sockets["control"].send_multipart(frames)
            try:
                process.wait(GRACE)
            except subprocess.TimeoutExpired:
                pass
        if process is not None:
            end_process(process.pid, with_children=process.poll() is None)
            process.wait()
        for link in self._sockets.values():
            link.close(0)
        if self._context is not None:
            self._context.term()
        shutil.rmtree(self._folder, ignore_errors=True)

    def _last_words(self) -> str:
        try:
            with open(os.path.join(self._folder, "log"), "rb") as file:
                lines = file.read(262_144).decode("utf-8", "replace").splitlines()
        except OSError:
            return ""
        said = [ln.strip() for ln in lines if ln.strip()]
        return f"; it last said: {said[-1]}" if said else ""


def free_ports(names: tuple[str, ...]) -> dict[str, int]:
    """Return a free port of this machine for each name."""
    held = []
    for _ in names:
        link = socket.socket()
        link.bind(("127.0.0.1", 0))
        held.append(link)
    ports = {name: link.getsockname()[1] for name, link in zip(names, held, strict=True)}
    for link in held:
        link.close()
    return ports
