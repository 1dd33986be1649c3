"""A small stand-in kernel: speaks the kernel messaging protocol with the standard library alone.

The demo installs it where no kernel package can be had. It answers
kernel_info, execute (with user expressions), is_complete, comm_info and
shutdown requests over ZMTP 3.0 (NULL mechanism), which is what notebook
servers and other clients speak.
"""
import ast
import contextlib
import hashlib
import hmac
import io
import json
import os
import socket
import struct
import sys
import threading
import traceback
import uuid
from datetime import datetime, timezone

DELIMITER = b"<IDS|MSG>"
GREETING = (b"\xff" + b"\x00" * 7 + b"\x01\x7f" + b"\x03\x00" + b"NULL".ljust(20, b"\x00")
            + b"\x00" * 32)


class Link:
    """One connection: ZMTP frames over a stream socket."""

    def __init__(self, stream, kind):
        self.stream = stream
        self.lock = threading.Lock()
        stream.sendall(GREETING)
        self.take(64)
        name, value = b"Socket-Type", kind.encode()
        body = (b"\x05READY" + bytes([len(name)]) + name + struct.pack(">I", len(value)) + value)
        self.send_frame(4, body)

    def take(self, count):
        """Read exactly `count` bytes."""
        data = b""
        while len(data) < count:
            piece = self.stream.recv(count - len(data))
            if not piece:
                raise ConnectionError("closed")
            data += piece
        return data

    def send_frame(self, flags, body):
        """Send one frame."""
        if len(body) > 255:
            self.stream.sendall(bytes([flags | 2]) + struct.pack(">Q", len(body)) + body)
        else:
            self.stream.sendall(bytes([flags, len(body)]) + body)

    def send(self, frames):
        """Send a message of several frames."""
        with self.lock:
            for number, frame in enumerate(frames):
                self.send_frame(1 if number < len(frames) - 1 else 0, frame)

    def receive(self):
        """Return the next message's frames; commands are passed over."""
        frames = []
        while True:
            flags = self.take(1)[0]
            size = struct.unpack(">Q", self.take(8))[0] if flags & 2 else self.take(1)[0]
            body = self.take(size)
            if flags & 4:
                continue
            frames.append(body)
            if not flags & 1:
                return frames


class Kernel:
    """Listens on the five channels of a connection file and answers."""

    def __init__(self, connection):
        self.key = connection["key"].encode()
        self.session = uuid.uuid4().hex
        self.space = {"__name__": "__main__"}
        self.count = 0
        self.subscribers = []
        self.turn = threading.Lock()
        self.done = threading.Event()
        for channel, kind, serve in (
                ("shell", "ROUTER", self.serve_requests), ("control", "ROUTER", self.serve_requests),
                ("stdin", "ROUTER", self.serve_nothing), ("iopub", "PUB", self.serve_subscriber),
                ("hb", "REP", self.serve_echo)):
            listener = socket.create_server((connection["ip"], connection[channel + "_port"]))
            self.start(self.accept, listener, kind, serve)

    def start(self, job, *args):
        """Run a job in a thread that does not hold the process."""
        threading.Thread(target=job, args=args, daemon=True).start()

    def accept(self, listener, kind, serve):
        """Take every connection to one channel."""
        while True:
            stream, _ = listener.accept()
            self.start(self.guard, stream, kind, serve)

    def guard(self, stream, kind, serve):
        """Serve one connection until it closes."""
        with contextlib.suppress(OSError):
            serve(Link(stream, kind))

    def serve_echo(self, link):
        """Heartbeat: send back what comes."""
        while True:
            link.send(link.receive())

    def serve_nothing(self, link):
        """Read and drop."""
        while True:
            link.receive()

    def serve_subscriber(self, link):
        """Keep a listener of the broadcast channel."""
        self.subscribers.append(link)
        try:
            self.serve_nothing(link)
        finally:
            self.subscribers.remove(link)

    def serve_requests(self, link):
        """Answer requests one after another."""
        while True:
            frames = link.receive()
            start = frames.index(DELIMITER)
            parts = frames[start + 2:start + 6]
            if self.sign(parts) != frames[start + 1]:
                continue
            header, content = json.loads(parts[0]), json.loads(parts[3])
            answer = getattr(self, header["msg_type"], None)
            if answer is None:
                continue
            with self.turn:
                self.publish("status", {"execution_state": "busy"}, header)
                kind = header["msg_type"].replace("_request", "_reply")
                link.send(self.pack(kind, answer(content, header), header))
                self.publish("status", {"execution_state": "idle"}, header)
            if self.done.is_set():
                os._exit(0)

    def sign(self, parts):
        """Return the signature of a message's four parts."""
        digest = hmac.new(self.key, digestmod=hashlib.sha256)
        for part in parts:
            digest.update(part)
        return digest.hexdigest().encode()

    def pack(self, kind, content, parent):
        """Put a message together."""
        header = {"msg_id": uuid.uuid4().hex, "msg_type": kind, "session": self.session,
                  "username": "sprig", "date": datetime.now(timezone.utc).isoformat(),
                  "version": "5.3"}
        parts = [json.dumps(p).encode() for p in (header, parent, {}, content)]
        return [DELIMITER, self.sign(parts), *parts]

    def publish(self, kind, content, parent):
        """Send to every listener."""
        frames = [kind.encode(), *self.pack(kind, content, parent)]
        for link in list(self.subscribers):
            with contextlib.suppress(OSError):
                link.send(frames)

    # -- requests --------------------------------------------------------------------------
    def kernel_info_request(self, content, parent):
        """Say what this kernel is."""
        return {"status": "ok", "protocol_version": "5.3", "implementation": "sprigkernel",
                "implementation_version": "1.0", "banner": "sprigkernel", "help_links": [],
                "language_info": {"name": "python", "version": sys.version.split()[0],
                                  "mimetype": "text/x-python", "file_extension": ".py"}}

    def execute_request(self, content, parent):
        """Run code; the value of a last expression is the result."""
        silent = content.get("silent", False)
        self.count += 0 if silent else 1
        if not silent:
            self.publish("execute_input", {"code": content["code"],
                                           "execution_count": self.count}, parent)
        printed = io.StringIO()
        try:
            with contextlib.redirect_stdout(printed):
                value = self.run_code(content["code"])
        except BaseException as error:
            failure = {"ename": type(error).__name__, "evalue": str(error),
                       "traceback": traceback.format_exc().splitlines()}
            self.publish("error", failure, parent)
            return {"status": "error", "execution_count": self.count, **failure}
        if printed.getvalue():
            self.publish("stream", {"name": "stdout", "text": printed.getvalue()}, parent)
        if value is not None and not silent:
            self.publish("execute_result", {"data": {"text/plain": repr(value)}, "metadata": {},
                                            "execution_count": self.count}, parent)
        return {"status": "ok", "execution_count": self.count, "payload": [],
                "user_expressions": {name: self.evaluate(text) for name, text
                                     in (content.get("user_expressions") or {}).items()}}

    def run_code(self, code):
        """Execute statements, then evaluate a last expression; a line behind ``!`` is the shell's."""
        lines = [f"print(__import__('subprocess').run({line[1:]!r}, shell=True, capture_output=True, "
                 "text=True).stdout, end='')" if line.startswith("!") else line for line in code.split("\n")]
        tree = ast.parse("\n".join(lines))
        last = None
        if tree.body and isinstance(tree.body[-1], ast.Expr):
            last = ast.Expression(tree.body.pop().value)
        exec(compile(tree, "<cell>", "exec"), self.space)
        return eval(compile(last, "<cell>", "eval"), self.space) if last else None

    def evaluate(self, text):
        """Evaluate one user expression."""
        try:
            return {"status": "ok", "metadata": {},
                    "data": {"text/plain": repr(eval(text, self.space))}}
        except BaseException as error:
            return {"status": "error", "ename": type(error).__name__, "evalue": str(error),
                    "traceback": []}

    def is_complete_request(self, content, parent):
        """Every cell is taken as it is."""
        return {"status": "unknown"}

    def comm_info_request(self, content, parent):
        """There are no comms."""
        return {"status": "ok", "comms": {}}

    def shutdown_request(self, content, parent):
        """End after the reply."""
        self.done.set()
        return {"status": "ok", "restart": content.get("restart", False)}


def main():
    """Start from ``-f CONNECTION-FILE`` and wait."""
    with open(sys.argv[sys.argv.index("-f") + 1], encoding="utf-8") as file:
        kernel = Kernel(json.load(file))
    parent = os.environ.get("JPY_PARENT_PID", "")
    while not kernel.done.wait(1.0):
        if parent.isdigit() and hasattr(os, "getppid") and os.getppid() != int(parent):
            return  # who started it is gone, so nobody will ever end it
    threading.Event().wait(2)


if __name__ == "__main__":
    main()
