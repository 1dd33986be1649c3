"""Asks a kernel that somebody else runs, politely: silently, without history, not while it is busy."""

from __future__ import annotations

import ipaddress
import json
import time
from typing import Any

from kalyx.core.lean.record import record
from kalyx.core.wire.client import KernelFailed, read_expressions
from kalyx.core.wire.contexts import end_context, is_interrupt
from kalyx.core.wire.messages import MESSAGE_LIMIT, BadMessage, Session, receive

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

__all__ = ["Connection", "KernelBusy", "RunningKernel", "parse_connection"]

PATIENCE = 3.0  # seconds within which a kernel that is idle answers
SCHEME = "hmac-sha256"


class KernelBusy(Exception):
    """The kernel is at work, and is not to be disturbed."""


@record
class Connection:
    """Where a kernel listens on this machine, and the key that its messages are signed with."""

    address: str
    key: bytes


def parse_connection(data: bytes) -> Connection:
    """Read a connection file, as the kernel protocol describes it.

    Raises:
        KernelFailed: it is none, or leads to another machine.
    """
    try:
        content = json.loads(data)
    except (ValueError, RecursionError):
        raise KernelFailed("its connection file is not JSON") from None
    if not isinstance(content, dict):
        raise KernelFailed("its connection file is not a JSON object")
    transport, ip, port = content.get("transport", "tcp"), content.get("ip"), content.get("shell_port")
    key, scheme = content.get("key", ""), content.get("signature_scheme") or SCHEME
    if transport != "tcp":
        raise KernelFailed(f"its transport {transport!r} is not one that Kalyx speaks")
    if scheme != SCHEME or not isinstance(key, str):
        raise KernelFailed("its connection file names a signature that Kalyx does not know")
    if not isinstance(ip, str) or type(port) is not int or not 0 < port < 65536:
        raise KernelFailed("its connection file lacks an address")
    if not _is_here(ip):
        raise KernelFailed(f"its connection file names the address {ip}, which is not this machine's")
    host = "127.0.0.1" if ip in ("*", "0.0.0.0", "localhost") else ip
    return Connection(f"tcp://[{host}]:{port}" if ":" in host else f"tcp://{host}:{port}", key.encode())


def _is_here(ip: str) -> bool:
    """Whether an address is one of this machine."""
    if ip in ("localhost", "*", "0.0.0.0"):
        return True
    try:
        if ipaddress.ip_address(ip).is_loopback:
            return True
    except ValueError:
        return False
    import psutil

    return any(a.address.split("%")[0] == ip for many in psutil.net_if_addrs().values() for a in many)


class RunningKernel:
    """A live kernel, reached by its connection. A context manager; the kernel is left as it was."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection
        self._context: Any = None
        self._shell: Any = None
        self._session = Session(connection.key)

    def __enter__(self) -> RunningKernel:
        import zmq

        try:
            self._connect(zmq)
        except zmq.ZMQError as error:
            self.__exit__(type(error))
            raise KernelFailed(f"{self._connection.address} cannot be reached: {error}") from None
        except BaseException as error:
            self.__exit__(type(error))
            raise
        return self

    def _connect(self, zmq: Any) -> None:
        self._context = zmq.Context()
        self._shell = self._context.socket(zmq.DEALER)
        self._shell.linger = 0
        self._shell.setsockopt(zmq.MAXMSGSIZE, MESSAGE_LIMIT)
        if "[" in self._connection.address:
            self._shell.setsockopt(zmq.IPV6, 1)
        self._shell.connect(self._connection.address)

    def __exit__(self, kind: type[BaseException] | None = None, *_: object) -> None:
        if self._shell is not None:
            self._shell.close(0)
        if self._context is not None:
            end_context(self._context, interrupted=is_interrupt(kind))

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
        return read_expressions(reply, expressions)

    def _ask(self, kind: str, content: dict[str, Any], limit: float, late: type[Exception]) -> dict[str, Any]:
        identity, frames = self._session.pack(kind, content)
        self._shell.send_multipart(frames)
        deadline = time.monotonic() + limit
        while time.monotonic() < deadline:
            if not self._shell.poll(50):
                continue
            try:
                reply = receive(self._session, self._shell)
            except BadMessage as error:
                raise KernelFailed(f"it sent {error}") from None
            if reply["parent_header"].get("msg_id") == identity:
                answer: dict[str, Any] = reply["content"]
                return answer
        raise late(f"it gave no answer within {limit:g} s")
