"""The extension in real kernels, under a real server: what stands under a traceback, and that its remedies mend."""

from __future__ import annotations

import json
import subprocess
import sys
import urllib.request
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
import websocket

import kalyx
from tests.answers.test_enrol import with_real_kernel
from tests.answers.test_kernels import SERVE, _url_of
from tests.support.build import World, site_of, write

LOAD = "%load_ext kalyx"


class Server:
    """A notebook server in a world, and one kernel under it at a time."""

    def __init__(self, url: str) -> None:
        self.url = url
        self.kernel = ""
        self.socket: websocket.WebSocket | None = None

    def call(self, path: str, body: object = None, method: str = "") -> Any:
        """Ask the server; return what it says."""
        request = urllib.request.Request(
            f"{self.url}{path}", method=method or ("POST" if body else "GET"),
            headers={"Authorization": "token seed"}, data=json.dumps(body).encode() if body else None)
        with urllib.request.urlopen(request, timeout=60) as reply:
            return json.loads(reply.read() or b"null")

    def start(self, name: str, folder: str = "") -> None:
        """Start a kernel, and end the one before it."""
        self.end()
        self.kernel = self.call("api/kernels", {"name": name, "path": folder})["id"]
        self._connect()

    def restart(self) -> None:
        """Restart the kernel, as its menu does."""
        assert self.socket is not None
        self.socket.close()
        self.call(f"api/kernels/{self.kernel}/restart", {"now": True})
        self._connect()

    def _connect(self) -> None:
        address = f"{self.url}api/kernels/{self.kernel}/channels?token=seed".replace("http", "ws", 1)
        self.socket = websocket.create_connection(address, timeout=40)

    def end(self) -> None:
        """End the kernel."""
        if self.kernel and self.socket is not None:
            self.socket.close()
            self.call(f"api/kernels/{self.kernel}", method="DELETE")
            self.kernel = ""

    def run(self, code: str) -> list[dict[str, Any]]:
        """Run a cell; return what it put out, in its order: the kind and the content of each."""
        assert self.socket is not None
        number = uuid.uuid4().hex
        header = {"msg_id": number, "msg_type": "execute_request", "session": "s", "username": "", "version": "5.3",
                  "date": ""}
        content = {"code": code, "silent": False, "store_history": True, "user_expressions": {}, "allow_stdin": False}
        self.socket.send(json.dumps({"header": header, "parent_header": {}, "metadata": {}, "channel": "shell",
                                     "buffers": [], "content": content}))
        found = []
        while True:
            message = json.loads(self.socket.recv())
            if message["parent_header"].get("msg_id") != number:
                continue
            if message["msg_type"] == "status" and message["content"]["execution_state"] == "idle":
                return found
            if message["msg_type"] in ("stream", "error", "display_data", "execute_result"):
                found.append({"kind": message["msg_type"], **message["content"]})


@contextmanager
def serving(world: World) -> Iterator[Server]:
    """Run a notebook server in a world."""
    process = subprocess.Popen([sys.executable, "-W", "ignore", "-c", SERVE, str(world.project)], env={
        **world.env, "JUPYTER_RUNTIME_DIR": str(world.root / "runtime"), "IPYTHONDIR": str(world.root / "ipython")},
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        yield Server(_url_of(world.root / "runtime", process))
    finally:
        process.terminate()
        process.wait(30)


def with_extension(world: World) -> Path:
    """Make an environment with a kernel and Kalyx, enrolled as lab; pip can be run in it."""
    lab = with_real_kernel(world)
    write(site_of(lab) / "kalyx.pth", f"{Path(kalyx.__file__ or '').parent.parent}\n")
    assert world.answer("enrol", "lab")["exit"] == 0
    return lab


def answers(outputs: list[dict[str, Any]]) -> list[dict[str, str]]:
    """Return what was displayed, as text and as HTML."""
    return [o["data"] for o in outputs if o["kind"] == "display_data"]


def lines_in(text: str) -> list[str]:
    """Return the lines of an answer that are for a cell."""
    return [line.strip() for line in text.splitlines() if line.strip().startswith("!")]


class Act:
    """A scene of a notebook: its world, and the kernel that plays in it."""

    def __init__(self, world: World, lab: Path, server: Server) -> None:
        self.world, self.lab, self.server, self.site = world, lab, server, site_of(lab)

    def fails(self, code: str, says: str) -> str:
        """Run a cell that fails to import; what is displayed under the traceback says so. Return that."""
        outputs = self.server.run(code)
        assert [o["kind"] for o in outputs if o["kind"] != "stream"] == ["error", "display_data"], (code, outputs)
        shown = answers(outputs)[0]
        assert says in " ".join(shown["text/plain"].split()), (code, shown["text/plain"])
        assert "<script" not in shown["text/html"] and shown["text/html"].count("<div") == shown["text/html"].count(
            "</div")
        return shown["text/plain"]

    def works(self, *cells: str) -> list[dict[str, Any]]:
        """Run cells that do not fail, and under which nothing is said; return what the last one put out."""
        outputs: list[dict[str, Any]] = []
        for code in cells:
            outputs = self.server.run(code)
            assert not [o for o in outputs if o["kind"] in ("error", "display_data")], (code, outputs)
        return outputs

    def restarts(self) -> None:
        """Restart the kernel, and load the extension again."""
        self.server.restart()
        self.works(LOAD)


def absent(act: Act) -> None:
    """What is missing is put in by the line that is shown."""
    act.world.wheels.add("germkit", "1.2")
    said = act.fails("import germkit", "germkit is not installed")
    act.works(*lines_in(said), "import germkit")
    for code in ("%%time\nimport no_such", "import os, no_such, sys", "import json; import no_such as x",
                 "import importlib; importlib.import_module('no_such.part')", "def f():\n    import no_such\nf()",
                 "try:\n    import no_such\nexcept ImportError as e:\n    raise RuntimeError('wrapped') from e"):
        act.fails(code, "no_such is not installed in lab")
    write(act.world.project / "lazy.py", "def go():\n    import no_such\n")
    act.fails("import lazy; lazy.go()", "needs no_such")
    act.world.wheels.add("need-kit", "1.0", {"need_kit/__init__.py": "import tray_kit\n"}, ["tray-kit"])
    act.world.wheels.install(act.world.wheels.add("other-kit", "1.0"), act.site)
    act.fails("x = 1\nfrom other_kit import (\n    version,\n    nothing,\n)",
              "other_kit (other-kit 1.0) is here and has no nothing")


def edited(act: Act) -> None:
    """A file of one's own was edited after it had been imported: a new process imports it, this one not."""
    helper = write(act.world.project / "helper.py", "def sow(): pass\n")
    write(act.world.project / "rows.py", "from helper import reap\n")
    act.works("import helper")
    write(helper, "def sow(): pass\n\ndef reap(): pass\n")
    act.fails("from helper import reap", "still has helper loaded, of files that were changed since")
    act.fails("import rows", "still has helper loaded, of files that were changed since")
    act.fails("from helper import sieve", "helper is here and has no sieve")  # nor has the new one
    shown = answers(act.server.run("%why helper"))[0]["text/plain"]
    assert "once it is started anew" in shown and "Restart the kernel" in shown
    act.works("import importlib; importlib.reload(helper)", "from helper import reap")
    write(helper, "def sow(): pass\n\ndef reap(): pass\n\ndef sieve(): pass\n")
    act.fails("from helper import sieve", "still has helper loaded")
    act.restarts()
    act.works("from helper import sieve, reap", "import rows")


def upgraded(act: Act) -> None:
    """A package was upgraded under a kernel that has the old one loaded."""
    for version, names in (("1.0", "old"), ("2.0", "old, new")):
        act.world.wheels.add("seedling", version, {"seedling/__init__.py": f"__version__ = {version!r}\n{names} = " + (
            "1\n" if "," not in names else "1, 2\n")})
    act.works("!{__import__('sys').executable} -m pip install -q seedling==1.0", "import seedling")
    said = act.fails("from seedling import new", "(seedling 1.0) is here and has no new")
    act.works(*lines_in(said)) if lines_in(said) else act.works(
        "!{__import__('sys').executable} -m pip install -q seedling==2.0")
    said = act.fails("from seedling import new", "This kernel still has seedling 1.0 loaded")
    assert "Restart the kernel" in said and "a Python that is started now imports seedling" in " ".join(said.split())
    act.restarts()
    act.works("from seedling import new")


def path_changed(act: Act) -> None:
    """A cell took a folder off sys.path, another put one on."""
    act.world.wheels.install(act.world.wheels.add("humidlog"), act.site)
    far = act.world.home / "far"
    write(far / "farmod.py", "import humidlog\n")
    act.works(f"import sys; sys.path.append({str(far)!r})")
    assert str(far / "farmod.py").replace(str(act.world.home), "~") in answers(
        act.server.run("%why farmod"))[0]["text/plain"]
    act.works(f"kept = list(sys.path); sys.path[:] = [p for p in sys.path if p != {str(act.site)!r}]")
    said = act.fails("import humidlog", "was taken off sys.path by code that ran in this kernel")
    act.fails("import farmod", "was taken off sys.path by code that ran in this kernel")
    rows = [line.strip() for line in said.splitlines()]
    act.works("\n".join(r for r in rows if r.startswith(("import sys", "sys.path"))), "import humidlog, farmod")
    act.works("sys.path.remove(next(p for p in kept if p.endswith('lib-dynload')))")
    assert "taken off sys.path" in " ".join(answers(act.server.run("%here"))[0]["text/plain"].split())


def installed_since(act: Act) -> None:
    """What came to the search path by a .pth file after the kernel's start is found after a restart."""
    write(act.world.home / "src" / "linked.py", "")
    write(act.site / "linked.pth", f"{act.world.home / 'src'}\n")
    act.fails("import linked", "its folder came to the search path after the kernel had started")
    shown = answers(act.server.run("%why linked"))[0]["text/plain"]
    assert "once it is started anew" in shown
    act.restarts()
    act.works("import linked")


def hidden(act: Act) -> None:
    """A file of one's own hides what a package needs, and what Kalyx itself would import."""
    act.world.wheels.install(act.world.wheels.add("colorkit", "1.0", {
        "colorkit/__init__.py": "from traygrid import version\n"}, ["traygrid"]), act.site)
    act.world.wheels.install(act.world.wheels.add("traygrid"), act.site)
    own = write(act.world.project / "traygrid.py", "")
    for name in ("json", "random", "psutil", "packaging", "jinja2"):
        write(act.world.project / f"{name}.py", f"raise SystemExit('{name} of the notebook was run')\n")
    act.fails("import colorkit", "~/project/traygrid.py")
    own.unlink()
    act.restarts()
    act.works("import colorkit")


def start_folder(act: Act) -> None:
    """Where the notebook's folder stands on sys.path is known of a kernel that does not run: behind the library."""
    write(act.world.project / "wave.py", "")
    real = json.loads(act.works("import sys, json; print(json.dumps([p or 'here' for p in sys.path]))")[0]["text"])
    layers = act.world.answer("packages", "--at", "kernel:lab")["result"]["layers"]
    known = ["here" if x["layer"] == "start" else x["path"] for x in layers]
    assert [p for p in known if p in real] == [p for p in real if p in known] and "here" in known[1:]
    number = act.works("import os; print(os.getpid())")[0]["text"].strip()
    for words in (("wave", "--at", "kernel:lab"), ("wave", "--at", "kernel:lab", "--no-run"),
                  ("wave", "--at", f"process:{number}")):
        origin = act.world.answer("why", *words)["result"]["imports"][0]["origin"]
        assert origin == act.works("import wave; print(wave.__file__)")[0]["text"].strip()
    assert act.world.answer("ask", "kernel:lab", "import sys; sys.path.index('')")["result"]["seats"][0][
        "value"] == str(real.index("here"))


def silent(act: Act) -> None:
    """Nothing is said of what is no import, of code that raises by itself, and when it is switched off."""
    write(act.world.project / "raiser.py", "rows = []\nrows[3]\n")
    for code in ("1 / 0", "raise ValueError('No module named x')", "import raiser", "def f(:\n", "%nosuch", "nosuch"):
        outputs = act.server.run(code)
        assert not answers(outputs), (code, outputs)
    on = act.server.run("import no_such_thing")
    assert answers(on)
    assert "says nothing" in act.works("%kalyx off")[0]["text"]
    off = act.server.run("import no_such_thing")
    assert not answers(off)
    errors = [[{**o, "traceback": [line.replace("In[8]", "In[n]") for line in o["traceback"]]} for o in x
               if o["kind"] == "error"] for x in (on, off)]
    assert [(e["ename"], e["evalue"], len(e["traceback"])) for e in errors[0]] == [
        (e["ename"], e["evalue"], len(e["traceback"])) for e in errors[1]]
    assert "neither on nor off" in act.works("%kalyx sideways")[0]["text"]
    act.works("%kalyx on")
    assert answers(act.server.run("import no_such_thing"))
    act.works("%unload_ext kalyx")
    assert not answers(act.server.run("import no_such_thing"))
    act.works(LOAD)


def broken_around(act: Act) -> None:
    """Whatever cells did to the modules that Kalyx uses in the kernel, the traceback stays as it is."""
    act.works("import subprocess, traceback, os\n"
              "subprocess.Popen = subprocess.run = traceback.format_exception = None\n"
              "os.environ['PYTHONHOME'] = '/nowhere'; os.environ['PYTHONPATH'] = '/tmp'")
    act.fails("import no_such_thing", "no_such_thing is not installed")
    act.works("class Odd(ImportError):\n    def __str__(self): raise OSError\n    __repr__ = __str__\n")
    assert {o["kind"] for o in act.server.run("raise Odd()") if o["kind"] != "stream"} == {"error"}
    act.works("import os; os.chdir('/'); import shutil; os.makedirs('/tmp/gone-kalyx', exist_ok=True); "
              "os.chdir('/tmp/gone-kalyx'); os.rmdir('/tmp/gone-kalyx')")
    assert [o["kind"] for o in act.server.run("import no_such_thing") if o["kind"] == "error"] == ["error"]


def commands(act: Act) -> None:
    """The magics answer for this kernel, take the commands' options, and say what is wrong with a line."""
    act.world.wheels.install(act.world.wheels.add("humidlog", "1.3"), act.site)
    texts = {line: answers(act.server.run(line))[0]["text/plain"] for line in (
        "%why humidlog", "%why humidlog --no-run", "%packages", "%packages --name 'humid*'", "%here")}
    assert "humidlog imports in this kernel (lab, Python" in texts["%why humidlog"]
    assert "humidlog is there in this kernel" in texts["%why humidlog --no-run"]
    assert all("humidlog" in texts[line] for line in list(texts)[2:4])
    assert "this kernel" in texts["%here"] and str(act.lab).replace(str(act.world.home), "~") in texts["%here"]
    assert "has no option --wrong" in act.works("%why --wrong")[0]["text"]
    assert "Name a module" in act.works("%why")[0]["text"]
    assert "cannot be read" in act.works("%why 'half")[0]["text"]
    assert "usage: kalyx packages" in act.works("%packages --help")[0]["text"]
    assert json.loads(act.works("%why humidlog --json")[0]["text"])["result"]["imports"][0]["outcome"] == "imports"


ACTS: tuple[Callable[[Act], None], ...] = (
    absent, edited, upgraded, path_changed, installed_since, hidden, start_folder, silent, broken_around, commands)


@pytest.mark.parametrize("play", [
    ACTS[:3], *(pytest.param(p, marks=pytest.mark.thorough) for p in (ACTS[3:7], ACTS[7:]))],
    ids=lambda p: ",".join(f.__name__ for f in p))
def test_under_a_traceback(play: tuple[Callable[[Act], None], ...], world: World) -> None:
    """Each scene in a kernel of its own: what is said is right, and what it says to do mends."""
    lab = with_extension(world)
    site = site_of(world.venv("pip-source", pip=True))
    for entry in site.glob("pip*"):
        (site_of(lab) / entry.name).symlink_to(entry)
    with serving(world) as server:
        for scene in play:
            server.start("lab")
            act = Act(world, lab, server)
            act.works(LOAD)
            scene(act)
        server.end()
