"""Asks a kernel that somebody else runs, politely: silently, without history, not while it is busy."""

from __future__ import annotations

import json
import time
from collections.abc import Mapping
from typing import Any

from kalyx.core.wire.client import KernelFailed
from kalyx.core.wire.messages import BadMessage, Session

__all__ = ["KernelBusy", "RunningKernel"]

PATIENCE = 3.0  # seconds within which a kernel that is idle answers


class KernelBusy(Exception):
    """The kernel is at work, and is not to be disturbed."""


class RunningKernel:
    """A live kernel, reached by its connection file. A context manager; it is left as it was."""

    def __init__(self, connection: str) -> None:
        self._file = connection
        self._context: Any = None
        self._shell: Any = None
        self._session = Session(b"")

    def __enter__(self) -> RunningKernel:
        import zmq

        try:
            with open(self._file, encoding="utf-8") as file:
                content = json.load(file)
            address = f"{content.get('transport', 'tcp')}://{content['ip']}:{int(content['shell_port'])}"
            if content.get("transport", "tcp") != "tcp":
                raise KernelFailed(f"its transport {content.get('transport')!r} is not one that Kalyx speaks")
            self._session = Session(str(content.get("key", "")).encode())
        except (OSError, ValueError, KeyError, TypeError, AttributeError) as error:
            raise KernelFailed(f"its connection file {self._file} cannot be used: {error}") from None
        self._context = zmq.Context()
        self._shell = self._context.socket(zmq.DEALER)
        self._shell.linger = 0
        self._shell.connect(address)
        return self

    def __exit__(self, *_: object) -> None:
        if self._shell is not None:
            self._shell.close(0)
        if self._context is not None:
            self._context.term()

    def evaluate(self, expressions: Mapping[str, str], limit: float) -> dict[str, str]:
        """Have expressions evaluated in the kernel's own namespace; return what each is, as text.

        Raises:
            KernelBusy: it is at work.
            KernelFailed: it does not answer, or an expression raised.
        """
        self._ask("kernel_info_request", {}, min(PATIENCE, limit), KernelBusy)
        reply = self._ask("execute_request", {
            "code": "", "silent": True, "store_history": False, "user_expressions": dict(expressions),
            "allow_stdin": False, "stop_on_error": False}, limit, KernelFailed)
        found = {}
        for name, answer in (reply.get("user_expressions") or {}).items():
            if answer.get("status") != "ok":
                raise KernelFailed(f"{answer.get('ename')}: {answer.get('evalue')}")
            found[name] = str(answer.get("data", {}).get("text/plain", ""))
        return found

    def _ask(self, kind: str, content: dict[str, Any], limit: float, late: type[Exception]) -> dict[str, Any]:
        identity, frames = self._session.pack(kind, content)
        self._shell.send_multipart(frames)
        deadline = time.monotonic() + limit
        while time.monotonic() < deadline:
            if not self._shell.poll(50):
                continue
            try:
                reply = self._session.unpack(self._shell.recv_multipart())
            except BadMessage as error:
                raise KernelFailed(f"it sent {error}") from None
            if reply["parent_header"].get("msg_id") == identity:
                answer: dict[str, Any] = reply["content"]
                return answer
        raise late(f"it gave no answer within {limit:g} s")
