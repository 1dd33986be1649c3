"""``kernels``, ``enrol``'s choices, ``retire``, ``changes``, ``undo``, ``ask``: real kernels and a real server."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

import psutil
import pytest

from kalyx.demo import distributions
from tests.answers.test_enrol import spec_of, with_real_kernel
from tests.support.build import (
    KALYX,
    World,
    kernelspec,
    notebook,
    other_pythons,
    python_of,
    run,
    site_of,
    write,
)

SPRIG = Path(distributions.PAYLOAD, "sprigkernel.py")


def with_sprig(w: World, name: str = "lab", **more: object) -> Path:
    """Make an environment with the small stand-in kernel, which starts quickly."""
    env = w.venv(name, **more)
    write(site_of(env) / "sprigkernel.py", SPRIG.read_text())
    spec = {"argv": ["python", *distributions.KERNEL_ARGS], "display_name": "Sprig", "language": "python"}
    write(env / "share/jupyter/kernels/sprig/kernel.json", json.dumps(spec))
    return env


def test_every_kernel_is_listed(world: World, validate) -> None:
    """Search order, hidden ones, other languages, broken ones; as another server sees them; proven."""
    lab, old = with_sprig(world), with_sprig(world, "lab-old")
    extra = world.root / "extra"
    kernelspec(world.home, "lab", [python_of(old), *distributions.KERNEL_ARGS])
    kernelspec(world.home, "fine", [python_of(lab), *distributions.KERNEL_ARGS], "Lab")
    kernelspec(world.home, "stale", [str(world.home / "gone/bin/python"), "-m", "x"])
    kernelspec(world.home, "other", ["/usr/bin/true"], language="R")
    write(world.home / ".local/share/jupyter/kernels/broken/kernel.json", "{]")
    write(extra / "kernels/fine/kernel.json", json.dumps(
        {"argv": [python_of(old), *distributions.KERNEL_ARGS], "display_name": "In front", "language": "python"}))
    env = {"JUPYTER_PATH": str(extra)}
    document = world.answer("kernels", "--server", "lab", env=env)
    validate(document)
    listed = [(k["name"], k["scope"]) for k in document["result"]["kernels"]]
    assert listed.index(("fine", "path")) < listed.index(("fine", "user"))
    by_place = {(k["name"], k["scope"]): k for k in document["result"]["kernels"]}
    causes = {key: {f["cause"] for f in k["findings"]} for key, k in by_place.items()}
    assert causes["stale", "user"] == {"kernel-interpreter-gone"} and causes["other", "user"] == set()
    assert causes["broken", "user"] == {"kernel-unreadable"}
    assert "kernel-mislabelled" in causes["lab", "user"] and "kernel-hidden" in causes["fine", "user"]
    assert by_place["fine", "user"]["hidden_by"] == str(extra / "kernels/fine/kernel.json")
    assert by_place["sprig", "env"]["interpreter"]["prefix"] == str(lab)
    assert document["result"]["server"]["prefix"] == str(lab) and document["exit"] == 1
    other = world.answer("kernels", "--server", "lab-old")["result"]["kernels"]
    assert next(k for k in other if k["name"] == "sprig")["interpreter"]["prefix"] == str(old)
    stale = world.answer("kernels", "--stale")
    assert [k["name"] for k in stale["result"]["kernels"]] == ["stale"]
    proven = {k["name"]: k["proof"] for k in world.answer(
        "kernels", "--prove", "--timeout", "20")["result"]["kernels"]}
    assert (proven["fine"]["prefix"], proven["lab"]["prefix"]) == (str(lab), str(old))
    assert not proven["stale"]["answered"] and proven["other"] is None
    text = world.kalyx("kernels").stdout
    assert "  yours  " in text and "of the language R" in text
    assert world.answer("kernels", "--server", "nix")["exit"] == 3


def test_conda_kernel_without_its_variables(world: World) -> None:
    """A conda environment wants its variables: a warning, whose remedy sets them."""
    env = with_sprig(world, "field")
    (env / "conda-meta").mkdir()
    (env / "pyvenv.cfg").unlink()
    home = os.path.dirname(os.path.realpath(python_of(env)))
    for name in ("python", "python3"):
        (env / "bin" / name).unlink(missing_ok=True)
    shutil.copy2(os.path.join(home, os.path.basename(os.path.realpath(sys.executable))), env / "bin" / "python")
    library = next(env.glob("lib/python*"))
    for item in Path(os.__file__).parent.iterdir():
        if item.name != "site-packages":
            (library / item.name).symlink_to(item)
    for item in Path(os.__file__).parent.parent.glob("libpython*"):
        (env / "lib" / item.name).symlink_to(item)
    if run([python_of(env), "-c", "import sys; assert sys.prefix == sys.argv[1]", str(env)]).returncode:
        pytest.skip("this interpreter cannot be copied")
    kernelspec(world.home, "field", [python_of(env), *distributions.KERNEL_ARGS])
    words = " ".join(distributions.KERNEL_ARGS[:-1])
    script = write(world.home / "start", f"""#!/bin/bash
export CONDA_PREFIX='{env}' PATH="{env}/bin:$PATH"
exec "$CONDA_PREFIX/bin/python" {words} "$@"
""", 0o755)
    kernelspec(world.home, "entered", [str(script), distributions.KERNEL_ARGS[-1]])
    entered, found = (next(k for k in world.answer("kernels")["result"]["kernels"] if k["name"] == n)
                      for n in ("entered", "field"))
    assert entered["environment"]["path"] == str(env) and not entered["findings"], "its script puts it on PATH"
    finding = next(f for f in found["findings"] if f["cause"] == "kernel-not-activated")
    assert finding["severity"] == "warning"
    done = run(finding["remedies"][0]["argv"], env=world.env, cwd=world.project)
    assert done.returncode == 0, done.stdout + done.stderr
    spec = json.loads(spec_of(world, "field").read_text())
    assert spec["env"]["CONDA_PREFIX"] == str(env) and spec["env"]["PATH"].startswith(str(env / "bin"))
    again = next(k for k in world.answer("kernels")["result"]["kernels"] if k["name"] == "field")
    assert [f for f in again["findings"] if f["severity"] != "note"] == []


def test_enrol_as_it_is_wished(world: World, validate) -> None:
    """Where it is registered, what it sets, and that pip in a cell is the environment's own."""
    lab = with_sprig(world, pip=True)
    write(lab / "bin" / "pip", f"#!{python_of(lab)}\nimport pip\n", 0o755)
    document = world.answer("enrol", "lab", "--set", "TRAY=6", "--label", "Lab of today")
    validate(document)
    assert document["exit"] == 0, document
    spec = json.loads(spec_of(world, "lab").read_text())
    assert spec["env"] == {"PATH": f"{lab / 'bin'}:${{PATH}}", "VIRTUAL_ENV": str(lab), "TRAY": "6"}
    assert document["result"]["proof"]["pip"] == str(lab / "bin" / "pip")
    cases = {("--into", str(world.root / "data")): world.root / "data", ("--for", "env"): lab / "share/jupyter"}
    for options, folder in cases.items():
        assert world.answer("enrol", "lab", *options, "--bare")["exit"] == 0
        spec = json.loads((folder / "kernels/lab/kernel.json").read_text())
        assert "env" not in spec and spec["argv"][0] == python_of(lab)
    for wrong, status in ((("--set", "novalue"), 2), (("--name", "a/b"), 2), (("--name", "x\x1b[31m"), 2),
                          (("--into", "/proc/nix"), 1), (("--for", "nobody"), 2)):
        assert world.answer("enrol", "lab", *wrong)["exit"] == status, wrong


def tree(folder: Path) -> dict[str, bytes]:
    """Return every file below a folder with its content."""
    return {str(p.relative_to(folder)): p.read_bytes() for p in sorted(folder.rglob("*"))
            if p.is_file() and not p.is_symlink()}


def test_retired_and_brought_back(world: World, validate) -> None:
    """A kernel and its environment go and come back byte for byte; what was changed since is left alone."""
    lab = with_sprig(world)
    spec = kernelspec(world.home, "lab", [python_of(lab), *distributions.KERNEL_ARGS])
    write(spec.parent / "logo-64x64.png", b"\x89PNG\0")
    kernelspec(world.home, "stale", ["/gone/python", "-m", "x"])
    before = tree(world.home)
    assert world.kalyx("retire", "lab").returncode == 1 and spec.exists()  # nobody can be asked
    dry = world.answer("retire", "lab", "--with-env", "--dry-run")
    validate(dry)
    assert dry["result"]["environments"] == [str(lab)] and spec.exists()
    document = world.answer("retire", "lab", "--with-env", "--yes")
    validate(document)
    assert document["exit"] == 0 and not spec.parent.exists() and not lab.exists()
    assert world.answer("envs", "--under", str(world.home))["result"]["environments"] == []
    assert "lab" not in {k["name"] for k in world.answer("kernels")["result"]["kernels"]}
    assert world.answer("retire", "--stale", "--yes")["result"]["kernels"][0]["name"] == "stale"
    listed = world.answer("changes")
    validate(listed)
    assert [c["state"] for c in listed["result"]["changes"]] == ["done", "done"]
    for _ in range(2):
        undone = world.answer("undo")
        validate(undone)
        assert undone["exit"] == 0
    after = {k: v for k, v in tree(world.home).items() if "kalyx/journal" not in k}
    assert after == before and run([python_of(lab), "-c", "pass"]).returncode == 0
    assert world.answer("undo")["exit"] == 3
    assert world.answer("enrol", "lab", "--overwrite")["exit"] == 0
    spec.write_text("{}")
    refused = world.kalyx("undo")
    assert refused.returncode == 1 and "changed since" in refused.stderr and spec.read_text() == "{}"
    assert world.answer("retire", "stale", "--yes")["exit"] == 0
    number = str(world.answer("changes")["result"]["changes"][-1]["number"])
    assert world.answer("changes", "--forget", number)["result"]["changes"][-1]["state"] == "forgotten"
    assert world.kalyx("undo", number).returncode == 1 and not list(world.home.rglob("*kalyx-kept*"))
    for wrong, status in ((("retire", "nix", "--yes"), 3), (("retire",), 2), (("undo", "99"), 3), (("undo", "x"), 2),
                          (("changes", "--forget", "x"), 2)):
        assert world.answer(*wrong)["exit"] == status, wrong


def test_killed_at_any_instant(world: World) -> None:
    """The kernel's folder is absent or whole, the journal can be read, and undo works after it."""
    with_sprig(world)
    shortest = time.monotonic()
    assert world.answer("enrol", "lab")["exit"] == 0
    whole = time.monotonic() - shortest
    assert world.answer("undo")["exit"] == 0
    world.env["TMPDIR"] = str(write(world.root / "left" / "over", "").parent)  # who is killed tidies nothing up
    for step in range(24):
        child = subprocess.Popen([KALYX, "enrol", "lab", "--overwrite"], cwd=world.project, env=world.env,
                                 stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(whole * step / 20)
        child.send_signal(signal.SIGKILL)
        child.wait()
        spec = spec_of(world, "lab")
        if spec.parent.exists():
            assert json.loads(spec.read_text())["argv"] and [p.name for p in spec.parent.iterdir()] == ["kernel.json"]
        folder = spec.parent.parent
        assert not folder.exists() or {p.name for p in folder.iterdir()} <= {"lab"}
        listed = world.answer("changes")
        assert listed["exit"] == 0 and listed["notes"] == []
        while [c for c in world.answer("changes")["result"]["changes"] if c["state"] in ("begun", "done")]:
            assert world.answer("undo")["exit"] == 0
        assert not spec.parent.exists()


def test_ask(world: World, validate) -> None:
    """Each kind of seat says who it is and runs code; errors, time limits and several seats at once."""
    lab, old = with_sprig(world), world.venv("lab-old")
    world.activate(lab)
    kernelspec(world.home, "lab", [python_of(lab), *distributions.KERNEL_ARGS])
    notebook(world.project / "sub" / "n.ipynb", "lab")
    write(world.project / "sub" / "run.py", "")
    write(world.project / "sub" / "beside.py", "here = 5\n")
    write(world.project / "code.py", "import sys\nprint(sys.version_info[0])\n")
    seats = ["shell", "kernel:lab", "notebook:sub/n.ipynb", f"env:{old}"]
    document = world.answer("ask", *seats)
    validate(document)
    said = [a["who"]["prefix"] for a in document["result"]["seats"]]
    assert said == [str(lab), str(lab), str(lab), str(old)] and document["exit"] == 0
    assert "2 different environments" in world.kalyx("ask", *seats).stdout
    for args, output, value in (
            (("shell", "6 * 7"), "42\n", None), (("kernel:lab", "print('x')\n6 * 7"), "x\n", "42"),
            (("script:sub/run.py", "import beside; beside.here"), "5\n", None),
            (("notebook:sub/n.ipynb", "import os; os.path.basename(os.getcwd())"), "", "'sub'"),
            (("shell", "--code-file", "code.py"), "3\n", None)):
        document = world.answer("ask", *args)
        validate(document)
        answer = document["result"]["seats"][0]
        assert (answer["outcome"], answer["output"], answer["value"]) == ("ok", output, value), args
    for args, status, outcome in (
            (("kernel:lab", "1/0"), 1, "error"), (("shell", "import nix"), 1, "error"), (("shell", "(("), 1, "error"),
            (("shell", "import time; time.sleep(99)", "--timeout", "1"), 3, "timeout"),
            (("python:/nonexistent", "1"), 3, "unknown")):
        document = world.answer("ask", *args)
        assert (document["exit"], document["result"]["seats"][0]["outcome"]) == (status, outcome), args
    assert world.answer("ask", "kernel:nix", "1")["exit"] == 3
    for version, python in sorted(other_pythons().items()):
        answer = world.answer("ask", f"python:{python}")["result"]["seats"][0]["who"]
        assert version.startswith("/") or answer["version"].startswith(version)


def test_ask_a_running_kernel(world: World) -> None:
    """A live kernel is asked in its own namespace, leaves no trace, and is not disturbed at work."""
    connection = world.root / "kernel-1.json"
    module = write(world.project / "seedmod.py", "__version__ = '1.2'\n")
    code = ("from jupyter_client.manager import KernelManager\nimport sys, time\n"
            f"m = KernelManager(connection_file={str(connection)!r})\n"
            "m.start_kernel()\nc = m.blocking_client(); c.start_channels(); c.wait_for_ready()\n"
            "c.execute_interactive('seeds = 480; import seedmod')\nprint(m.provisioner.process.pid, flush=True)\n"
            "sys.stdin.readline()\nc.execute('import time; time.sleep(30)')\n"
                  "time.sleep(0.5)\nprint('busy', flush=True)\n"
            "sys.stdin.readline()\nm.shutdown_kernel(now=True)\n")
    client = subprocess.Popen([sys.executable, "-W", "ignore", "-c", code], stdin=subprocess.PIPE,
                              stdout=subprocess.PIPE,
                              stderr=subprocess.PIPE, text=True, env=world.env, cwd=world.project)
    try:
        assert client.stdout is not None and client.stdin is not None
        line = client.stdout.readline().strip()
        assert line.isdigit(), client.stderr.read() if client.stderr else ""
        seat = f"process:{line}"
        first = world.answer("ask", seat)["result"]["seats"][0]
        assert (first["outcome"], first["who"]["prefix"]) == ("ok", sys.prefix)
        assert world.answer("ask", seat, "seeds + 1")["result"]["seats"][0]["value"] == "481"
        printed = world.answer("ask", seat, "x = 1\nprint(seeds)")["result"]["seats"][0]
        assert printed["output"] == "480\n", printed
        assert "NameError" in world.answer("ask", seat, "nix")["result"]["seats"][0]["error"]
        assert world.answer("why", "seedmod", "--at", seat)["exit"] == 0, "it has loaded what is there"
        os.utime(module, (time.time() + 5,) * 2)  # an editor has saved it
        old = world.answer("why", "seedmod", "json", "--at", seat)
        causes = [[f["cause"] for f in r["causes"]] for r in old["result"]["imports"]]
        assert (old["exit"], causes) == (1, [["loaded-replaced"], []])
        assert f"seedmod 1.2 loaded, of {module}, which was written anew" in old["result"]["imports"][0]["causes"][0][
            "because"]
        module.unlink()
        gone = world.answer("why", "seedmod", "--at", seat)["result"]["imports"][0]
        assert (gone["outcome"], gone["causes"][0]["cause"]) == ("fails", "loaded-replaced")
        client.stdin.write("\n")
        client.stdin.flush()
        assert client.stdout.readline().strip() == "busy"
        assert "kernel-busy" in {n["note"] for n in world.answer("why", "json", "--at", seat)["notes"]}
        document = world.answer("ask", seat, "seeds")
        assert (document["exit"], document["result"]["seats"][0]["outcome"]) == (3, "busy")
    finally:
        client.communicate("\n", timeout=60)


# What is left out checks a format that no message here has, and takes 2 s to load
SERVE = ("import os, sys\nsys.modules['rfc3987_syntax'] = None\nfrom jupyter_server.serverapp import main\n"
         "main(['--no-browser', '--port=0', '--ServerApp.token=seed', '--allow-root', "
         "'--ServerApp.root_dir=' + sys.argv[1], '--ServerApp.ip=127.0.0.1'])\n")
THROUGH = """\
import json, sys, uuid, websocket
ws = websocket.create_connection(sys.argv[1], timeout=60)
mid = uuid.uuid4().hex
ws.send(json.dumps({"header": {"msg_id": mid, "msg_type": "execute_request", "session": "s", "username": "",
                               "version": "5.3",
    "date": ""}, "parent_header": {}, "metadata": {}, "channel": "shell", "buffers": [],
    "content": {"code": sys.argv[2], "silent": False, "store_history": False, "user_expressions": {},
                               "allow_stdin": False}}))
out = []
while True:
    m = json.loads(ws.recv())
    if m["parent_header"].get("msg_id") != mid:
        continue
    if m["msg_type"] == "stream":
        out.append(m["content"]["text"])
    if m["msg_type"] == "error":
        out.append(m["content"]["ename"])
    if m["msg_type"] == "status" and m["content"]["execution_state"] == "idle":
        break
print("".join(out))
"""


def test_under_a_real_server(world: World) -> None:
    """A server of one environment, kernels of two others: its list, its cells, retired, undone and back."""
    envs = {}
    for name in ("spring", "autumn"):
        envs[name] = with_real_kernel(world, name)
        for entry in Path(site_of(world.venv("pip-source", pip=True))).glob("pip*") if name == "spring" else []:
            shutil.copytree(entry, site_of(envs[name]) / entry.name)
        write(site_of(envs[name]) / f"only_{name}.py", f"name = {name!r}\n")
        write(envs[name] / "bin" / "pip", f"#!{python_of(envs[name])}\nimport sys; print(sys.prefix)\n", 0o755)
        assert world.answer("enrol", name)["exit"] == 0
    other = next((p for v, p in sorted(other_pythons().items()) if v in ("3.8", "3.9", "3.12", "3.13")), None)
    if other is not None:  # another Python: with the kernel that needs nothing compiled
        winter = envs["winter"] = with_sprig(world, "winter", python=other)
        write(site_of(winter) / "only_winter.py", "name = 'winter'\n")
        write(winter / "bin" / "pip", f"#!{python_of(winter)}\nimport sys; print(sys.prefix)\n", 0o755)
        assert world.answer("enrol", "winter")["exit"] == 0
    server = subprocess.Popen([sys.executable, "-W", "ignore", "-c", SERVE, str(world.project)], env={
        **world.env, "JUPYTER_RUNTIME_DIR": str(world.root / "runtime")}, stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL)
    try:
        url = _url_of(world.root / "runtime", server)

        def call(path: str, body: object = None) -> object:
            request = urllib.request.Request(f"{url}{path}?token=seed", method="POST" if body else "GET", headers={
                "Authorization": "token seed"}, data=json.dumps(body).encode() if body else None)
            with urllib.request.urlopen(request, timeout=30) as reply:
                return json.load(reply)

        def names() -> set[str]:
            return set(call("api/kernelspecs")["kernelspecs"])

        assert set(envs) <= names()
        for name, env in envs.items():
            kernel = call("api/kernels", {"name": name})
            code = f"import sys, only_{name}\nprint(sys.prefix)\n!pip --version"
            address = f"{url}api/kernels/{kernel['id']}/channels?token=seed".replace("http", "ws", 1)
            said = run([sys.executable, "-c", THROUGH, address, code]).stdout.split()
            assert said == [str(env), str(env)]
        before = tree(spec_of(world, "autumn").parent)
        assert world.answer("retire", "autumn", "--yes")["exit"] == 0
        assert "autumn" not in names()
        assert world.answer("undo")["exit"] == 0
        assert "autumn" in names() and tree(spec_of(world, "autumn").parent) == before
    finally:
        server.terminate()
        server.wait(30)


def _url_of(folder: Path, server: subprocess.Popen[bytes]) -> str:
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline and server.poll() is None:
        for file in folder.glob("jpserver-*.json") if folder.exists() else []:
            try:
                url = json.loads(file.read_text())["url"]
                with urllib.request.urlopen(f"{url}api", timeout=5):  # the file is there before it listens
                    return url
            except (ValueError, KeyError, OSError):
                continue
        time.sleep(0.1)
    raise AssertionError("the server did not start")


def test_no_room_and_no_package(world: World) -> None:
    """No space left: a sentence, and nothing half-written; the kernel package is put in when that is wished."""
    with_sprig(world)
    full = run(["bash", "-c", f"ulimit -f 0; {KALYX} enrol lab"], env=world.env, cwd=world.project)
    assert full.returncode == 1 and full.stderr.startswith("kalyx: "), full.stderr
    assert not spec_of(world, "lab").parent.exists() and not list(world.home.rglob(".kalyx-*"))
    bare = world.venv("bare", pip=True)
    assert world.answer("enrol", "bare")["exit"] == 1
    assert world.kalyx("enrol", "bare", "--with-kernel-package").returncode == 1  # pip finds none
    spec = {"argv": ["python", *distributions.KERNEL_ARGS], "display_name": "Sprig", "language": "python"}
    world.wheels.add("ipykernel", "6", {"sprigkernel.py": SPRIG.read_text()},
                     data={"share/jupyter/kernels/sprig/kernel.json": json.dumps(spec)})
    document = world.answer("enrol", "bare", "--with-kernel-package")
    assert (document["exit"], document["result"]["proof"]["prefix"]) == (0, str(bare))


def test_interrupted(world: World) -> None:
    """Ctrl-C ends a question, and what was started for it, at once."""
    world.activate(with_sprig(world))
    kernelspec(world.home, "lab", [python_of(world.home / "envs/lab"), *distributions.KERNEL_ARGS])
    for seat in ("shell", "kernel:lab"):
        child = subprocess.Popen([KALYX, "ask", seat, "import time; time.sleep(4329)"], cwd=world.project,
                                 env=world.env,
                                 stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        while child.poll() is None and not ("python" in psutil.Process(child.pid).exe()
                                            and psutil.Process(child.pid).children()):
            time.sleep(0.05)  # a shell is what finds the Python
        time.sleep(0.5)
        child.send_signal(signal.SIGINT)
        _, err = child.communicate(timeout=20)
        assert child.returncode == 130 and "Traceback" not in err, (child.returncode, err)
        time.sleep(0.2)
        left = [line for line in run(["ps", "-eo", "args"]).stdout.splitlines()
                if "4329" in line or ("sprigkernel" in line and str(world.root) in line)]
        assert left == []
