"""What is started is ended, in every case; what takes without an end is cut off, and said."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.support.build import KALYX, World, kernelspec, make_venv, python_of, run, site_of, write
from tests.support.thorough import first_of_each

pytestmark = pytest.mark.skipif(sys.platform != "linux", reason="counts processes in /proc")
NAP = f"4326{os.getpid() % 100_000:05d}"  # seconds: the mark of what must not be left, of this process alone
STRAYS = {
    "child": f"import subprocess; subprocess.Popen(['sleep', '{NAP}'])",
    "session of its own": f"import subprocess; subprocess.Popen(['sleep', '{NAP}'], start_new_session=True)",
    "session, and no variables": f"import subprocess; subprocess.Popen(['env', '-i', 'sleep', '{NAP}'], "
                                 "start_new_session=True)",
    "double fork": ("import os\nif os.fork() == 0:\n    os.setsid()\n    if os.fork() == 0:\n        os.chdir('/')\n"
                    f"        os.execve('/bin/sleep', ['sleep', '{NAP}'], {{}})\n    os._exit(0)\n"),
    "stopped": f"import subprocess, os\nos.kill(subprocess.Popen(['sleep', '{NAP}'], start_new_session=True).pid, 19)",
    "shell in the background": f"import os; os.system('setsid sleep {NAP} >/dev/null 2>&1 &')",
    "ignores signals": (f"import subprocess; subprocess.Popen(['sh', '-c', 'trap \"\" TERM HUP INT; sleep {NAP}'], "
                        "start_new_session=True)"),
}
ENDS = {"by itself": "", "by an exception": "\nraise ValueError('x')", "by os._exit": "\nimport os; os._exit(3)",
        "by a signal": "\nimport os; os.kill(os.getpid(), 11)", "never": "\nimport time; time.sleep(1000)"}


def left() -> list[str]:
    """Return the living processes with the mark, once those that are being ended have gone."""
    for _ in range(40):
        found = [ln for ln in run(["ps", "-eo", "stat,args"]).stdout.splitlines() if NAP in ln and ln[0] != "Z"
                 and "ps -eo" not in ln and "pytest" not in ln]
        if not found:
            return []
        time.sleep(0.05)
    return found


def folders_of(world: World) -> list[str]:
    return sorted(os.listdir(world.root / "tmp"))


@pytest.fixture
def tidy(world: World):
    """A world whose temporary folder must be empty in the end."""
    (world.root / "tmp").mkdir()
    world.env["TMPDIR"] = str(world.root / "tmp")
    yield world
    run(["pkill", "-9", "-f", NAP])


@pytest.mark.parametrize("stray", first_of_each(STRAYS, lambda s: None, 4))
def test_nothing_outlives_an_import(stray: str, tidy: World) -> None:
    """Whatever it started and however it ended; also where several are tried at once."""
    for how, code in ENDS.items():
        write(tidy.project / f"{how.replace(' ', '_').replace('.', '_')}.py", STRAYS[stray] + code + "\n")
    names = [how.replace(" ", "_").replace(".", "_") for how in ENDS]
    done = tidy.kalyx("why", *names, "--timeout", "1.5")
    assert done.returncode == 1 and not left(), done.stdout
    tidy.kalyx("ask", "shell", STRAYS[stray])
    assert not left() and folders_of(tidy) == []


# Eight children begin at once, three times; says how many guards were started for them
EIGHT = """
import os, sys, time
from kalyx.core.machine.children import end_all_runs
from kalyx.core.machine.local import RealMachine
pipe, spawn, guards = os.pipe, os.posix_spawn, []
of_guard = lambda: sys._getframe(2).f_code.co_name == "watch"
os.pipe = lambda: (of_guard() and time.sleep(0.2), pipe())[1]  # so that others come in between
os.posix_spawn = lambda path, argv, *rest, **more: (
    guards.append(path) if argv[-1] == "kalyx-guard" else None, spawn(path, argv, *rest, **more))[1]
machine = RealMachine()
argv = [sys.executable, "-I", "-S", "-c", "import time; time.sleep(0.3)"]
for _ in range(3):
    assert machine.in_parallel(lambda _: machine.run(argv).status, range(8)) == [0] * 8
print(len(guards), flush=True)
end_all_runs()
"""


def test_one_guard_for_all() -> None:
    """Many that begin at once have one guard, and it is not taken for what one of them has left."""
    done = run([sys.executable, "-c", EIGHT])
    assert (done.returncode, done.stdout.strip()) == (0, "1"), done.stderr


@pytest.mark.parametrize("sent", ["SIGTERM", "SIGHUP", "SIGINT", "SIGKILL"])
@pytest.mark.parametrize("command", ["why", "ask", "ask a kernel"])
def test_nothing_outlives_us(sent: str, command: str, tidy: World) -> None:
    """However Kalyx is ended: at once, its children with it, no folder left. SIGKILL leaves that to the guard."""
    code = "\n".join(STRAYS[k] for k in ("child", "session of its own", "shell in the background"))
    code += "\nimport pathlib, time; pathlib.Path('begun').touch(); time.sleep(1000)\n"
    write(tidy.project / "waits.py", code)
    argv = {"why": ["why", "waits"], "ask": ["ask", "shell", code],
            "ask a kernel": ["ask", "kernel:slow", "1"]}[command]
    kernelspec(tidy.home, "slow", ["/usr/bin/python3", str(tidy.project / "waits.py")])
    with subprocess.Popen([KALYX, *argv], cwd=tidy.project, env=tidy.env, stdout=subprocess.PIPE,
                          stderr=subprocess.STDOUT) as process:
        until = time.monotonic() + 20
        while not (tidy.project / "begun").exists() and time.monotonic() < until:
            time.sleep(0.02)
        assert len(run(["pgrep", "-f", NAP]).stdout.split()) >= 3
        began = time.monotonic()
        process.send_signal(getattr(signal, sent))
        said = process.communicate(timeout=30)[0]
    assert time.monotonic() - began < 2 and b"Traceback" not in said
    number = getattr(signal, sent)
    assert process.returncode == (-9 if sent == "SIGKILL" else 128 + number)
    assert not left()
    for _ in range(40):
        if not folders_of(tidy):
            break
        time.sleep(0.05)
    assert folders_of(tidy) == []


def test_ended_at_any_moment_of_a_start(tidy: World) -> None:
    """A signal that comes while a child is being started, and its sockets are being made, is lost nowhere."""
    write(tidy.project / "waits.py", f"{STRAYS['child']}\nopen('begun', 'w').close()\nimport time; time.sleep(1000)\n")
    kernelspec(tidy.home, "slow", ["/usr/bin/python3", str(tidy.project / "waits.py")])
    for number in range(12):
        (tidy.project / "begun").unlink(missing_ok=True)
        sent = (signal.SIGHUP, signal.SIGINT, signal.SIGTERM)[number % 3]
        with subprocess.Popen([KALYX, "ask", "kernel:slow", "1"], cwd=tidy.project, env=tidy.env,
                              stdout=subprocess.PIPE, stderr=subprocess.STDOUT) as process:
            until = time.monotonic() + 20
            while not (tidy.project / "begun").exists() and time.monotonic() < until:
                time.sleep(0.0005)
            time.sleep(number * 0.004)
            process.send_signal(sent)
            said = process.communicate(timeout=30)[0]
        assert (process.returncode, b"Traceback" in said) == (128 + sent, False), (number, said)
        assert not left()


FLOODS = {
    "print": "while True: print('x' * 1000)",
    "standard error": "import sys\nwhile True: sys.stderr.write('x' * 1000)",
    "one line": "import sys\nwhile True: sys.stdout.write('x' * 1000)",
    "beside the cell": "import os\nwhile True: os.write(1, b'x' * 4096)",
}


@pytest.fixture(scope="module")
def noisy(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """An environment that sees this one's kernel package."""
    env = make_venv(tmp_path_factory.mktemp("noisy") / "lab")
    here = next(p for p in map(Path, sys.path) if (p / "ipykernel").is_dir())
    write(site_of(env) / "base.pth", f"{here}\n")
    return env


@pytest.mark.parametrize("flood", first_of_each(FLOODS, lambda f: None, 2))
def test_output_has_a_limit(flood: str, noisy: Path, tidy: World) -> None:
    """A cell that prints without end is interrupted; neither memory nor disk is filled."""
    kernelspec(tidy.home, "noisy", [python_of(noisy), "-m", "ipykernel_launcher", "-f", "{connection_file}"])
    began = time.monotonic()
    done = run(["sh", "-c", 'ulimit -v 3000000; exec "$@"', "sh", KALYX, "ask", "kernel:noisy", FLOODS[flood],
                "--timeout", "5", "--json"], cwd=tidy.project, env=tidy.env)
    answer = json.loads(done.stdout)["result"]["seats"][0]
    assert answer["outcome"] in ("error", "timeout") and len(done.stdout) < 8_000_000
    assert time.monotonic() - began < 25 and folders_of(tidy) == []


CONNECTIONS = {
    "pipe": None, "noise": b"\xff\xfe\x00", "list": b"[]", "deep": b"[" * 60000, "no port": b'{"ip": "127.0.0.1"}',
    "odd port": b'{"ip": "127.0.0.1", "shell_port": "1", "key": ""}',
    "huge port": b'{"ip": "127.0.0.1", "shell_port": 99999999, "key": ""}',
    "another machine": b'{"ip": "203.0.113.7", "shell_port": 5555, "key": "k", "transport": "tcp"}',
    "a name": b'{"ip": "kernels.example", "shell_port": 5555, "key": "k"}',
    "other transport": b'{"ip": "/tmp/x", "shell_port": 1, "key": "k", "transport": "ipc"}',
    "device": "/dev/zero", "too large": b'{"ip": "' + b"a" * 200_000 + b'"}',
}


def test_connection_files_are_not_trusted(tidy: World) -> None:
    """A pipe, a device, another machine's address: one sentence each, soon."""
    sleeper = write(tidy.project / "ipykernel_launcher.py", f"import time; time.sleep({NAP})\n")
    for name, content in CONNECTIONS.items():
        file = tidy.root / f"{name}.json"
        if content is None:
            os.mkfifo(file)
        elif isinstance(content, str):
            file.symlink_to(content)
        else:
            file.write_bytes(content)
        with subprocess.Popen(["/usr/bin/python3", sleeper, "-f", str(file)], cwd=tidy.project) as process:
            try:
                began = time.monotonic()
                done = tidy.kalyx("ask", f"process:{process.pid}", "--timeout", "3")
                assert done.returncode in (1, 3) and time.monotonic() - began < 6, (name, done.stdout)
                assert any(w in done.stdout for w in ("connection file", "its transport")), done.stdout
                assert "mistake" not in done.stdout + done.stderr, done.stdout
                assert tidy.kalyx("running").returncode in (0, 1)
            finally:
                process.kill()


def test_replies_of_wrong_types(tidy: World) -> None:
    """A kernel that signs what is no answer costs a sentence."""
    fake = write(tidy.project / "fake.py", (
        "import hashlib, hmac, json, sys, zmq\nc = json.load(open(sys.argv[1])); key = c['key'].encode()\n"
        "s = zmq.Context().socket(zmq.ROUTER); s.bind('tcp://127.0.0.1:%d' % c['shell_port'])\nreplies = [\n"
        "  {'status': 'ok', 'user_expressions': []}, {'status': 'ok', 'user_expressions': {'who': 3}}, [], None,\n"
        "  {'status': 'ok', 'user_expressions': {'who': {'status': 'ok', 'data': 7}}}]\n"
        "n = int(sys.argv[2])\nwhile True:\n    who, *rest = s.recv_multipart(); at = rest.index(b'<IDS|MSG>')\n"
        "    head = json.loads(rest[at + 2]); kind = head['msg_type']\n"
        "    body = {} if kind == 'kernel_info_request' else replies[n]\n"
        "    parts = [json.dumps(p).encode() for p in ({'msg_type': 'x'}, head, {}, body)]\n"
        "    m = hmac.new(key, digestmod=hashlib.sha256); [m.update(p) for p in parts]\n"
        "    s.send_multipart([who, b'<IDS|MSG>', m.hexdigest().encode(), *parts])\n"))
    for number in range(5):
        kernelspec(tidy.home, "fake", [sys.executable, str(fake), "{connection_file}", str(number)])
        done = tidy.kalyx("ask", "kernel:fake", "--timeout", "5")
        assert done.returncode in (0, 1, 3) and "mistake" not in done.stdout + done.stderr, (number, done.stdout)
    assert folders_of(tidy) == []


def test_who_waits_is_told(tmp_path: Path) -> None:
    """At a terminal a long step says that it is at work; in a pipe it does not; the answer is the same."""
    world = World(tmp_path)
    world.activate(world.venv("lab"))
    write(world.project / "slow.py", "import time\ntime.sleep(4)\n")
    master, terminal = os.openpty()
    watched = subprocess.run([KALYX, "why", "slow"], cwd=world.project, env=world.env, stdin=subprocess.DEVNULL,
                             stdout=subprocess.PIPE, stderr=terminal, timeout=60, check=False)
    os.close(terminal)
    said = os.read(master, 4096).decode()
    os.close(master)
    piped = world.kalyx("why", "slow")
    assert "still at work after" in said and piped.stderr == ""
    assert watched.stdout.decode() == piped.stdout and watched.returncode == piped.returncode == 0
