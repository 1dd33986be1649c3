"""The kernel messaging protocol: messages, connection files, and kernels that answer well, badly or not at all."""

from __future__ import annotations

import hashlib
import hmac
import json
import os
import socket
import sys
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
import zmq
from hypothesis import given, settings
from hypothesis import strategies as st

from kalyx.core.wire.client import KernelFailed, StartedKernel, free_ports, read_expressions
from kalyx.core.wire.messages import DELIMITER, BadMessage, Session
from kalyx.core.wire.running import Connection, KernelBusy, RunningKernel, parse_connection

KEY = b"5d1f"
PARTS = (b'{"msg_type": "x"}', b'{"msg_id": "1"}', b"{}", b'{"status": "ok"}')


def signed(parts: Sequence[bytes], key: bytes = KEY) -> bytes:
    """Sign the parts of a message as the protocol says, by other means than the product."""
    return hmac.new(key, b"".join(parts), hashlib.sha256).hexdigest().encode()


# -- messages ---------------------------------------------------------------------------------
BAD = {
    "no delimiter": ([b"id", *PARTS], "delimiter"),
    "nothing": ([], "delimiter"),
    "nothing behind it": ([DELIMITER], "delimiter"),
    "a part missing": ([DELIMITER, signed(PARTS[:3]), *PARTS[:3]], "parts missing"),
    "signed with another key": ([DELIMITER, signed(PARTS, b"other"), *PARTS], "wrong signature"),
    "not signed": ([DELIMITER, b"", *PARTS], "wrong signature"),
    "a part changed": ([DELIMITER, signed(PARTS), *PARTS[:3], b'{"status": "no"}'], "wrong signature"),
    "parts exchanged": ([DELIMITER, signed(PARTS), PARTS[1], PARTS[0], *PARTS[2:]], "wrong signature"),
    "no JSON": ([DELIMITER, signed([*PARTS[:3], b"{"]), *PARTS[:3], b"{"], "not JSON"),
    "not UTF-8": ([DELIMITER, signed([*PARTS[:3], b'{"\xff"}']), *PARTS[:3], b'{"\xff"}'], "not JSON"),
    "too deep": ([DELIMITER, signed([*PARTS[:3], b"[" * 100_000]), *PARTS[:3], b"[" * 100_000], "not JSON"),
    "no object": ([DELIMITER, signed([*PARTS[:3], b"[]"]), *PARTS[:3], b"[]"], "no JSON objects"),
    "header that is none": ([DELIMITER, signed([b"1", *PARTS[1:]]), b"1", *PARTS[1:]], "no JSON objects"),
}


@pytest.mark.parametrize("name", BAD)
def test_messages_that_are_not_trusted(name: str) -> None:
    """Whatever is wrong with a message is said, and nothing of it is used."""
    frames, says = BAD[name]
    with pytest.raises(BadMessage, match=says):
        Session(KEY).unpack(list(frames))


@settings(deadline=None, derandomize=True)
@given(content=st.dictionaries(st.text(), st.text() | st.integers() | st.none() | st.lists(st.booleans())),
       kind=st.text(), before=st.lists(st.binary(max_size=9).filter(lambda b: b != DELIMITER), max_size=3),
       behind=st.lists(st.binary(max_size=9), max_size=2), key=st.sampled_from((b"", KEY)))
def test_what_is_packed_is_unpacked(content: dict[str, Any], kind: str, before: list[bytes], behind: list[bytes],
                                    key: bytes) -> None:
    """Any content comes through, with routing frames before it and buffers behind it; the signature is the standard's.

    Without a key nothing is signed, and nothing is asked for.
    """
    identity, frames = Session(key, "s").pack(kind, content)
    found = Session(key).unpack([*before, *frames, *behind])
    assert (found["content"], found["parent_header"]) == (content, {})
    header = found["header"]
    assert (header["msg_id"], header["msg_type"], header["session"], header["version"]) == (identity, kind, "s", "5.3")
    assert frames[1] == (signed(frames[2:]) if key else b"")


REPLIES = {
    "all well": ({"status": "ok", "user_expressions": {"a": {"status": "ok", "data": {"text/plain": "1"}}}},
                 {"a": "1"}),
    "without a text": ({"user_expressions": {"a": {"status": "ok", "data": {"image/png": "x"}}}}, {"a": ""}),
    "without data": ({"user_expressions": {"a": {"status": "ok", "data": 5}}}, {"a": ""}),
    "raised": ({"user_expressions": {"a": {"status": "error", "ename": "E", "evalue": "v"}}}, "1/0 raised E: v"),
    "all of it raised": ({"status": "error", "ename": "E", "evalue": "v"}, "E: v"),
    "no answers": ({"status": "ok"}, "unanswered"),
    "others' answers": ({"user_expressions": {"b": {"status": "ok", "data": {}}}}, "unanswered"),
    "no object": ({"user_expressions": {"a": 3}}, "1/0 raised None"),
}


@pytest.mark.parametrize("name", REPLIES)
def test_expressions_in_a_reply(name: str) -> None:
    """Each expression has its text, or it is said what became of it."""
    reply, expected = REPLIES[name]
    if isinstance(expected, dict):
        assert read_expressions(reply, {"a": "1/0"}) == expected
        return
    with pytest.raises(KernelFailed, match=expected):
        read_expressions(reply, {"a": "1/0"})


# -- connection files -------------------------------------------------------------------------
GOOD = {"ip": "127.0.0.1", "shell_port": 5000, "key": "k", "transport": "tcp", "signature_scheme": "hmac-sha256"}
FILES = {
    "as servers write it": (GOOD, "tcp://127.0.0.1:5000"),
    "no transport": ({k: v for k, v in GOOD.items() if k != "transport"}, "tcp://127.0.0.1:5000"),
    "no scheme": ({**GOOD, "signature_scheme": ""}, "tcp://127.0.0.1:5000"),
    "by name": ({**GOOD, "ip": "localhost"}, "tcp://127.0.0.1:5000"),
    "on every address": ({**GOOD, "ip": "0.0.0.0"}, "tcp://127.0.0.1:5000"),
    "another of the loopback": ({**GOOD, "ip": "127.3.2.1"}, "tcp://127.3.2.1:5000"),
    "of the sixth version": ({**GOOD, "ip": "::1"}, "tcp://[::1]:5000"),
    "another machine": ({**GOOD, "ip": "203.0.113.7"}, "not this machine's"),
    "a name elsewhere": ({**GOOD, "ip": "kernels.example"}, "not this machine's"),
    "another scheme": ({**GOOD, "signature_scheme": "hmac-md5"}, "signature"),
    "key that is no text": ({**GOOD, "key": 5}, "signature"),
    "other transport": ({**GOOD, "transport": "ipc"}, "transport 'ipc'"),
    "no port": ({**GOOD, "shell_port": None}, "lacks an address"),
    "port that is a truth": ({**GOOD, "shell_port": True}, "lacks an address"),
    "port of text": ({**GOOD, "shell_port": "5000"}, "lacks an address"),
    "port out of range": ({**GOOD, "shell_port": 65536}, "lacks an address"),
    "no address": ({**GOOD, "ip": None}, "lacks an address"),
    "a list": ([], "not a JSON object"),
}


@pytest.mark.parametrize("name", FILES)
def test_connection_files(name: str) -> None:
    """What leads to a kernel of this machine is taken; of all else it is said why not."""
    content, expected = FILES[name]
    if expected.startswith("tcp:"):
        assert parse_connection(json.dumps(content).encode()) == Connection(expected, b"k")
        return
    with pytest.raises(KernelFailed, match=expected):
        parse_connection(json.dumps(content).encode())


def test_ports_are_free_and_differ() -> None:
    """Each name has a port of its own, and those of two calls differ, too."""
    names = tuple(f"port{n}" for n in range(30))
    first, second = free_ports(names), free_ports(names)
    assert tuple(first) == names and len(set(first.values())) == 30
    assert first != second and all(1024 < p < 65536 for p in first.values())


# -- kernels that run -------------------------------------------------------------------------
Answer = Callable[[dict[str, Any], list[bytes], Any], None]


def replied(content: dict[str, Any], *, key: bytes = KEY, times: int = 1, parent: str | None = None) -> Answer:
    """Return a kernel's behaviour: it answers each request with a content, signed with a key."""
    def answer(request: dict[str, Any], route: list[bytes], link: Any) -> None:
        for _ in range(times):
            parts = [json.dumps(p).encode() for p in (
                {"msg_type": "reply"}, {**request["header"], **({"msg_id": parent} if parent else {})}, {}, content)]
            link.send_multipart([*route, DELIMITER, signed(parts, key), *parts])
    return answer


def both(*answers: Answer) -> Answer:
    """Return one behaviour after the other."""
    def answer(request: dict[str, Any], route: list[bytes], link: Any) -> None:
        for one in answers:
            one(request, route, link)
    return answer


def silent(request: dict[str, Any], route: list[bytes], link: Any) -> None:
    """Answer nothing."""


def noise(request: dict[str, Any], route: list[bytes], link: Any) -> None:
    """Send what is no message."""
    link.send_multipart([*route, b"hello"])


@contextmanager
def kernel(answer: Answer) -> Iterator[Connection]:
    """Run a stand-in for a kernel on a real socket, which reads requests as a kernel does."""
    context, done = zmq.Context(), threading.Event()
    link = context.socket(zmq.ROUTER)
    link.linger = 0
    port = link.bind_to_random_port("tcp://127.0.0.1")

    def serve() -> None:
        while not done.is_set():
            if link.poll(20):
                frames = link.recv_multipart()
                at = frames.index(DELIMITER)
                answer(Session(KEY).unpack(frames), frames[:at], link)
        link.close()

    thread = threading.Thread(target=serve)
    thread.start()
    try:
        yield Connection(f"tcp://127.0.0.1:{port}", KEY)
    finally:
        done.set()
        thread.join()
        context.term()


TOLD = {"status": "ok", "user_expressions": {"a": {"status": "ok", "data": {"text/plain": "7"}}}}
KERNELS = {
    "answers": (replied(TOLD), {"a": "7"}),
    "answers another's question first": (both(replied({"x": 1}, parent="other"), replied(TOLD)), {"a": "7"}),
    "answers twice": (replied(TOLD, times=2), {"a": "7"}),
    "signs with another key": (replied(TOLD, key=b"other"), "wrong signature"),
    "sends noise": (noise, "delimiter"),
    "raises": (replied({"status": "error", "ename": "NameError", "evalue": "no a"}), "NameError: no a"),
    "leaves it out": (replied({"status": "ok", "user_expressions": {}}), "unanswered"),
}


@pytest.mark.parametrize("name", KERNELS)
def test_a_kernel_that_runs(name: str) -> None:
    """What it says is told, and what it says wrongly is not taken for an answer."""
    answer, expected = KERNELS[name]
    with kernel(answer) as connection, RunningKernel(connection) as running:
        if isinstance(expected, dict):
            assert running.evaluate({"a": "6 + 1"}, 20) == expected
            return
        with pytest.raises(KernelFailed, match=expected):
            running.evaluate({"a": "6 + 1"}, 20)


def test_a_kernel_at_work_is_left_alone(monkeypatch: pytest.MonkeyPatch) -> None:
    """One that does not answer a first, small question in time is busy; a dead address is the same from outside."""
    monkeypatch.setattr("kalyx.core.wire.running.PATIENCE", 0.3)
    asked: list[str] = []

    def remember(request: dict[str, Any], route: list[bytes], link: Any) -> None:
        asked.append(request["header"]["msg_type"])

    with kernel(remember) as connection, RunningKernel(connection) as running:
        with pytest.raises(KernelBusy):
            running.evaluate({"a": "1"}, 5)
        assert asked == ["kernel_info_request"], "nothing to evaluate waits for it"
    with pytest.raises(KernelBusy), RunningKernel(Connection("tcp://127.0.0.1:9", KEY)) as running:
        running.evaluate({"a": "1"}, 1)


# -- kernels that are started -----------------------------------------------------------------
BEGINNINGS = {
    "ends at once": ("import sys; print('no such option', file=sys.stderr); sys.exit(4)",
                     "ended with status 4; it last said: no such option"),
    "never answers": ("import time\nprint('waiting', flush=True)\ntime.sleep(60)", "did not answer within 1 s"),
    "is killed": ("import os, signal; os.kill(os.getpid(), signal.SIGKILL)", "ended with status -9"),
}


@pytest.mark.parametrize("name", BEGINNINGS)
def test_what_is_no_kernel(name: str, tmp_path: Path) -> None:
    """How it ended, or that it did not answer, with its last words; nothing of it is left."""
    code, says = BEGINNINGS[name]
    began = time.monotonic()
    with pytest.raises(KernelFailed, match=says), StartedKernel(
            [sys.executable, "-I", "-c", code, "{connection_file}"], {"TMPDIR": str(tmp_path)}, str(tmp_path),
            1.0 if "never" in name else 30.0) as started:
        started.evaluate({"a": "1"})
    assert time.monotonic() - began < 25 and list(tmp_path.iterdir()) == []


def test_what_cannot_be_started(tmp_path: Path) -> None:
    """A program that is not there is named."""
    with pytest.raises(KernelFailed, match="/nowhere/python cannot be started"), StartedKernel(
            ["/nowhere/python", "{connection_file}"], {"TMPDIR": str(tmp_path)}, str(tmp_path), 5.0):
        pass
    assert list(tmp_path.iterdir()) == []


def test_a_port_that_another_program_takes(tmp_path: Path) -> None:
    """A kernel that finds one of its ports taken is started once more; ports of one process are never given twice."""
    told, held = tmp_path / "told", socket.socket()
    code = ("import json, os, sys, time\n"
            "from ipykernel import kernelapp\n"
            f"told = {str(told)!r}\n"
            "if not os.path.exists(told):\n"
            "    with open(told + '.part', 'w') as out:\n"
            "        out.write(str(json.load(open(sys.argv[1]))['iopub_port']))\n"
            "    os.replace(told + '.part', told)\n"
            "    while not os.path.exists(told + '.held'):\n"
            "        time.sleep(0.01)\n"
            "kernelapp.launch_new_instance(['-f', sys.argv[1]])\n")

    def take() -> None:
        while not told.exists():
            time.sleep(0.01)
        held.bind(("127.0.0.1", int(told.read_text())))
        held.listen()
        Path(f"{told}.held").touch()

    taker = threading.Thread(target=take, daemon=True)
    taker.start()
    env = {**os.environ, "HOME": str(tmp_path)}
    with held, StartedKernel([sys.executable, "-c", code, "{connection_file}"], env, str(tmp_path), 60) as kernel:
        assert kernel.evaluate({"a": "1 + 1"}) == {"a": "2"}
        assert Path(f"{told}.held").exists()
    ports = [port for _ in range(40) for port in free_ports(("a", "b", "c", "d", "e")).values()]
    assert len(ports) == len(set(ports))
