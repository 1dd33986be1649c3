"""What is there and cannot be read, or takes for ever, is named; all the rest of the answer is there."""

from __future__ import annotations

import ast
import importlib
import json
import os
import pkgutil
import re
import signal
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kalyx.core
from kalyx.core.errors import KalyxError
from kalyx.core.facts.configuration import kalyx_toml
from kalyx.core.facts.editors import formats
from kalyx.core.facts.editors.settings import find_settings
from kalyx.core.facts.editors.table import EDITORS
from kalyx.core.facts.interpreters import pyvenv
from kalyx.core.facts.kernels import kernelspecs, notebooks
from kalyx.core.facts.packaging import distributions, project, record_file
from kalyx.core.facts.source_code.imports import read_source
from kalyx.core.facts.text_encoding import decode_text
from kalyx.core.facts.tracebacks.parser import parse_fatal, parse_refusal, parse_traceback
from kalyx.core.facts.tracebacks.pasted_text import text_of_notebook, without_prefixes
from kalyx.core.machine.local import RealMachine
from kalyx.core.wire.client import KernelFailed
from kalyx.core.wire.running import parse_connection
from tests.support.build import KALYX, SHORT, World, kernelspec, notebook, python_of, run, site_of, write
from tests.support.thorough import first_of_each

NOISE = bytes(range(256)) * 4
Build = Callable[[World, Path], object]


def pipe(path: Path) -> Path:
    path.parent.mkdir(parents=True, exist_ok=True)
    os.mkfifo(path)
    return path


def link(path: Path, target: str) -> Path:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.symlink_to(target)
    return path


def folder(path: Path) -> Path:
    path.mkdir(parents=True)
    return path


def shut(path: Path) -> Path:
    path.chmod(0)
    return path


def large(path: Path, size: int) -> Path:
    path.parent.mkdir(parents=True, exist_ok=True)
    with open(path, "wb") as file:
        file.write(b"x" * 65536)
        file.truncate(size)
    return path


def kernel_of(text: bytes | str) -> Build:
    return lambda w, e: write(w.home / ".local/share/jupyter/kernels/odd/kernel.json", text)


def info(file: str, text: bytes | str, name: str = "odd-1.0.dist-info") -> Build:
    return lambda w, e: write(site_of(e) / name / file, text)


SPEC = {"argv": ["/usr/bin/python3", "-m", "x"], "display_name": "x", "language": "python"}


def spec(**more: object) -> str:
    return json.dumps({**SPEC, **more})


# what is damaged -> (what makes it so and returns its path, the commands that have to name it)
HERE, PACKAGES, KERNELS, ENVS = ("here",), ("packages",), ("kernels",), ("envs",)
DAMAGED: dict[str, tuple[Build, tuple[str, ...]]] = {
    "pyvenv.cfg of noise": (lambda w, e: write(e / "pyvenv.cfg", NOISE), HERE),
    "pyvenv.cfg in UTF-16": (lambda w, e: write(e / "pyvenv.cfg", "home = /usr/bin\n".encode("utf-16")), HERE),
    "pyvenv.cfg that may not be read": (lambda w, e: shut(e / "pyvenv.cfg"), HERE),
    "pyvenv.cfg that is a pipe": (lambda w, e: ((e / "pyvenv.cfg").unlink(), pipe(e / "pyvenv.cfg"))[1], HERE),
    "pyvenv.cfg that is large": (lambda w, e: large(e / "pyvenv.cfg", 10**8), ENVS),
    "site folder that may not be listed": (lambda w, e: shut(site_of(e)), PACKAGES),
    "site folder that is a link to nowhere": (lambda w, e: (
        site_of(e).rename(e / "old"), link(e / "lib" / f"python{SHORT}" / "site-packages", "/gone"))[1], PACKAGES),
    "site folder that is a file": (lambda w, e: (
        site_of(e).rename(e / "old"), write(e / "lib" / f"python{SHORT}" / "site-packages", "x"))[1], PACKAGES),
    "folder of settings that is a link to nowhere": (lambda w, e: link(w.project / ".vscode", "/gone"), HERE),
    "METADATA of noise": (info("METADATA", NOISE), PACKAGES),
    "METADATA that is empty": (info("METADATA", ""), PACKAGES),
    "METADATA in Latin-1": (info("METADATA", "Name: odd\nVersion: 1\nAuthor: Zoë\n".encode("latin-1") + b"x" * 99),
                            PACKAGES),
    "METADATA without a name": (info("METADATA", "Version: 1.0\n"), PACKAGES),
    "METADATA without a version": (info("METADATA", "Name: odd\n"), PACKAGES),
    "METADATA that is a pipe": (lambda w, e: pipe(site_of(e) / "odd-1.0.dist-info" / "METADATA"), PACKAGES),
    "METADATA that is a folder": (lambda w, e: folder(site_of(e) / "odd-1.0.dist-info" / "METADATA"), PACKAGES),
    "METADATA that is a link to nowhere": (lambda w, e: link(site_of(e) / "odd-1.0.dist-info" / "METADATA", "/gone"),
                                           PACKAGES),
    "no METADATA": (lambda w, e: folder(site_of(e) / "odd-1.0.dist-info"), PACKAGES),
    "direct_url.json of noise": (lambda w, e: (
        info("METADATA", "Name: odd\nVersion: 1\n")(w, e), info("direct_url.json", "{")(w, e))[1], PACKAGES),
    "egg that is no zip": (lambda w, e: (write(site_of(e) / "e.pth", "./odd.egg\n"),
                                         write(site_of(e) / "odd.egg", NOISE))[1],
                           PACKAGES),
    "RECORD that is huge": (lambda w, e: (info("METADATA", "Name: odd\nVersion: 1\n")(w, e),
                                          large(site_of(e) / "odd-1.0.dist-info" / "RECORD", 3 * 10**8))[1], PACKAGES),
    ".pth that is a pipe": (lambda w, e: pipe(site_of(e) / "odd.pth"), PACKAGES),
    ".pth that may not be read": (lambda w, e: shut(write(site_of(e) / "odd.pth", "/x\n")), PACKAGES),
    "kernel.json with a byte order mark": (kernel_of("\ufeff" + spec()), KERNELS),
    "kernel.json in Latin-1": (kernel_of(spec().replace('"x"', '"\u00eb"').encode("latin-1")), KERNELS),
    "kernel.json of noise": (kernel_of(NOISE), KERNELS),
    "kernel.json that is nested": (kernel_of("[" * 100_000), KERNELS),
    "kernel.json with env as a list": (kernel_of(spec(env=[])), KERNELS),
    "kernel.json with a language of a number": (kernel_of(spec(language=3)), KERNELS),
    "kernel.json with a name of a list": (kernel_of(spec(display_name=["x"])), KERNELS),
    "kernel.json with metadata of text": (kernel_of(spec(metadata="x")), KERNELS),
    "kernel.json with another interrupt mode": (kernel_of(spec(interrupt_mode="nod")), KERNELS),
    "kernel.json that is a pipe": (lambda w, e: pipe(w.home / ".local/share/jupyter/kernels/odd/kernel.json"), KERNELS),
    "kernel.json that is a link to nowhere": (
        lambda w, e: link(w.home / ".local/share/jupyter/kernels/odd/kernel.json", "/gone"), KERNELS),
    "kernel.json that is a device": (lambda w,
                                     e: link(w.home / ".local/share/jupyter/kernels/odd/kernel.json", "/dev/zero"),
                                     KERNELS),
    "notebook with a byte order mark": (lambda w, e: write(w.project / "odd.ipynb", "\ufeff{}"), HERE),
    "notebook in Latin-1": (lambda w, e: write(w.project / "odd.ipynb", '{"metadata": {"a": "ë"}}'.encode("latin-1")),
                            HERE),
    "notebook that is a pipe": (lambda w, e: pipe(w.project / "odd.ipynb"), HERE),
    "notebook that is a link to nowhere": (lambda w, e: link(w.project / "odd.ipynb", "/gone"), HERE),
    "notebook that is a circle": (lambda w, e: link(w.project / "odd.ipynb", "odd.ipynb"), HERE),
    "notebook that is a device": (lambda w, e: link(w.project / "odd.ipynb", "/dev/zero"), HERE),
    "notebook that is nested": (lambda w, e: write(w.project / "odd.ipynb", '{"cells": ' + "[" * 200_000), HERE),
    "settings that are a pipe": (lambda w, e: pipe(w.project / ".vscode/settings.json"), HERE),
    "settings that are a folder": (lambda w, e: folder(w.project / ".vscode/settings.json"), HERE),
    "settings that are a link to nowhere": (lambda w, e: link(w.project / ".vscode/settings.json", "/gone"), HERE),
    "settings of noise": (lambda w, e: write(w.project / ".vscode/settings.json", NOISE), HERE),
    "settings that are large": (lambda w, e: large(w.project / ".vscode/settings.json", 10**9), HERE),
    ".env that may not be read": (lambda w, e: (write(w.project / ".vscode/settings.json", json.dumps(
        {"python.defaultInterpreterPath": python_of(e)})), shut(write(w.project / ".env", "A=1\n")))[1], HERE),
    "kalyx.toml of noise": (lambda w, e: write(w.project / "kalyx.toml", NOISE), HERE),
    "kalyx.toml that is a pipe": (lambda w, e: pipe(w.project / "kalyx.toml"), HERE),
    "pyproject.toml with a long key": (lambda w,
                                       e: write(w.project / "pyproject.toml", "a" + ".a" * 50_000 + " = 1\n"), HERE),
    "pyproject.toml with a long number": (lambda w, e: write(w.project / "pyproject.toml", "a = " + "9" * 50_000),
                                          HERE),
    "list of environments that is a pipe": (lambda w, e: pipe(w.home / ".conda" / "environments.txt"), ENVS),
}


@pytest.mark.parametrize("name", DAMAGED)
def test_nothing_is_lost_without_a_word(name: str, world: World, validate) -> None:
    """The file is named with what is wrong; what is beside it is there; nothing waits or fills the memory."""
    lab, good = world.venv("lab"), world.venv("good")
    world.wheels.install(world.wheels.add("humidlog", "2.1"), site_of(lab))
    world.activate(lab)
    kernelspec(world.home, "good", [python_of(good), "-m", "x"])
    notebook(world.project / "good.ipynb", "good")
    build, command = DAMAGED[name]
    path = build(world, lab)
    try:
        done = world.kalyx(*command, "--json", privileged=False, memory=2_500_000_000)
        document = json.loads(done.stdout)
        assert done.returncode in (0, 1, 3) and "mistake" not in done.stdout, done.stdout
        validate(document)
        assert json.dumps(str(path))[1:-1] in done.stdout or _folder_is_named(str(path), done.stdout), done.stdout
        assert "good" in done.stdout or command == PACKAGES
        if "listed" in name:
            assert document["status"] == "unknown"
        elif command == PACKAGES and "site folder" not in name:
            assert "humidlog" in done.stdout
    finally:
        for place in (path, *lab.glob("lib/py*/site-packages")):
            if isinstance(place, Path) and not place.is_symlink():
                place.chmod(0o755)


def _folder_is_named(path: str, text: str) -> bool:
    """Whether the folder of a distribution is named, or the environment of a pyvenv.cfg."""
    return ("dist-info" in path or "pyvenv.cfg" in path) and json.dumps(os.path.dirname(path))[1:-1] in text


@pytest.mark.real
def test_output_that_cannot_be_written(world: World) -> None:
    """A full device: a sentence and status 3; a pipe that was closed: no word."""
    for command in (["kernels", "--json"], ["kernels"], ["--version"], ["envs"], ["why", "--help"]):
        with open("/dev/full", "wb") as full:
            done = run([KALYX, *command], stdout=full, stderr=-1, capture_output=False, env=world.env)
        assert done.returncode == 3 and done.stderr.count("\n") == 1 and "written" in done.stderr, (command,
                                                                                                    done.stderr)
    done = run(["sh", "-c", f"{KALYX} envs --json | true; {KALYX} envs | true"], env=world.env)
    assert done.stderr == ""
    done = run([KALYX, "kernels", "--json"], env={**world.env, "PYTHONIOENCODING": "utf-16"}, text=False)
    assert json.loads(done.stdout.decode("utf-8"))["command"] == "kernels"
    assert run(["sh", "-c", f"{KALYX} kernels >&-"], env=world.env).returncode == 3


# -- what takes for ever -------------------------------------------------------------------------------
UNITS = ["a", " ", "\n", '"', "'", "(", ".", "/", "-", "=", ",", "1", "a ", "a.", "/a", "'a'", ": ", "\t", "import ",
         'File "',
         "from x import ", "a_", "a, ", "#", "\\", "[", "{", "a=", ".so ", "undefined symbol: ", "x: ", "line 1",
         "\x1b[",
         "<", "^", "~", "+", "| ", "cannot import name ", "a\n", "lib", "lib.", "(a", "a)", "GLIBC_", "@", "\r\n", ">=",
         "a>=1,", "find_library(", "name = ", "[Errno 1] ", "MAPPING = {", "version `x' not found"]


def patterns() -> Iterator[tuple[str, re.Pattern]]:
    """Yield every expression of the core."""
    for found in pkgutil.walk_packages(kalyx.core.__path__, "kalyx.core."):
        module = importlib.import_module(found.name)
        for node in ast.walk(ast.parse(Path(module.__file__ or "").read_text())):
            if isinstance(node, ast.Call) and node.args and isinstance(node.args[0], ast.Constant) and ast.unparse(
                    node.func) in ("re.compile", "re.search", "re.match", "re.findall", "re.sub", "re.split"):
                said = ast.unparse(node)
                flags = sum(flag for flag in (re.MULTILINE, re.VERBOSE, re.DOTALL) if flag.name in said)
                yield f"{found.name}, line {node.lineno}", re.compile(node.args[0].value, flags)


def test_no_expression_takes_for_ever() -> None:
    """Each on 25 kB of every monotonous text, alone, begun and ended by something else: half a second of computing."""
    def late(*_: object) -> None:
        raise TimeoutError

    before = signal.signal(signal.SIGVTALRM, late)
    slow = []
    try:
        for name, one in patterns():
            for unit in UNITS:
                for wrap in ("x '{}'!", "\n{}x:"):
                    for size in (500, 25_000):  # the long one only where the short one took its time
                        text: str | bytes = wrap.format(unit * (size // len(unit)))
                        text = text.encode() if isinstance(one.pattern, bytes) else text
                        began = time.process_time()
                        signal.setitimer(signal.ITIMER_VIRTUAL, 0.5)
                        try:
                            for _ in one.finditer(text):
                                pass
                        except TimeoutError:
                            slow.append((name, unit))
                        finally:
                            signal.setitimer(signal.ITIMER_VIRTUAL, 0)
                        if time.process_time() - began < 0.0003:
                            break
    finally:
        signal.signal(signal.SIGVTALRM, before)
    assert slow == []


TRACE = "Traceback (most recent call last):\n"
FRAME = '  File "/x/a.py", line 1, in <module>\n    import x\n'
TEXTS = {
    "long message": TRACE + FRAME + "ImportError: " + "lib.so: /" * 200_000,
    "many lines of message": TRACE + FRAME + "ImportError: x\n" + "  more\n" * 300_000,
    "many frames": TRACE + FRAME * 50_000 + "ImportError: x\n",
    "long number": TRACE + '  File "/x/a.py", line ' + "1" * 5000 + ", in f\nImportError: x\n",
    "long ruler": "-" * 300_000 + "\n" + TRACE + FRAME + "ImportError: x\n" + "=" * 300_000 + "!",
    "long prefix": " " * 100_000 + TRACE + FRAME + "ImportError: x\n",
    "many prefixes": "".join(f"a  b {'  ' * 400}| {ln}\n" for ln in (TRACE + FRAME + "ImportError: x").split("\n")),
    "brackets": "[" * 1_000_000,
}


@pytest.mark.parametrize("name", TEXTS)
def test_pasted_texts_come_to_an_end(name: str, world: World) -> None:
    """Texts of any length are answered."""
    file = write(world.project / "error.txt", TEXTS[name])
    done = run([KALYX, "why", "--traceback", str(file), "--json"], cwd=world.project, env=world.env, timeout=30)
    assert done.returncode in (0, 1, 3) and "mistake" not in done.stdout and json.loads(done.stdout)


SLOW_FILES: dict[str, Callable[[Path], object]] = {
    "lists that name each other": lambda p: [write(p / f"requirements-{n}.txt", "".join(
        f"-r requirements-{m}.txt\n" for m in range(14))) for n in range(14)],
    "thousands of dependencies": lambda p: write(p / "pyproject.toml",
                                                 "[project]\nname='x'\ndependencies = [\n" + "".join(
        f'"dep{n}>=1",\n' for n in range(8000)) + "]\n"),
    "settings with comments": lambda p: write(p / ".vscode/settings.json", "{" + "".join(
        f'"k{n}": [1, "//x",], // c "\n' for n in range(60_000)) + "}"),
    "lines that go on": lambda p: write(p / "requirements.txt", "a \\\n" * 200_000),
    "long lines of INI": lambda p: write(p / "setup.cfg", "[a]\nb" + " " * 500_000 + "c\n"),
    "many imports": lambda p: write(p / "m.py", "".join(
        f"try:\n    import alpha{n}\nexcept ImportError:\n    import beta{n}\n" for n in range(150))),
    "a message of 60 kB": lambda p: write(p / "m.py", "raise ImportError('lib.so: ' * 8000 + '/' * 60000)\n"),
    "a deep path": lambda p: os.makedirs(p / "/".join(["d"] * 900)),
}


@pytest.mark.parametrize("name", first_of_each(SLOW_FILES, lambda n: None, 5))
def test_files_come_to_an_end(name: str, world: World) -> None:
    """Files of the project that would take for ever are answered."""
    SLOW_FILES[name](world.project)
    if not (world.project / "m.py").exists():
        write(world.project / "m.py", "import nope_nope\n")
    for command in (["here"], ["why", "m.py"], ["why", "m"]):
        done = run([KALYX, *command, "--json"], cwd=world.project, env=world.env, timeout=40)
        assert done.returncode in (0, 1, 3) and "mistake" not in done.stdout, done.stdout[-2000:]


@pytest.mark.real
def test_own_work_has_a_bound(world: World, monkeypatch: pytest.MonkeyPatch,
                              capsys: pytest.CaptureFixture[str]) -> None:
    """What Kalyx itself does ends in time, with a sentence and status 3."""
    from kalyx.cli import bound, main

    before = signal.getsignal(signal.SIGALRM)
    monkeypatch.setattr(bound, "OWN_SECONDS", 0.2)
    monkeypatch.setattr(bound, "CHILD_SECONDS", 0.0)
    monkeypatch.setattr("kalyx.cli.kernels.answer_kernels", lambda *a, **k: time.sleep(20))
    began = time.monotonic()
    assert main.run(["kernels"]) == 3
    assert time.monotonic() - began < 10 and "did not come to an end" in capsys.readouterr().err
    assert signal.getsignal(signal.SIGALRM) is before and signal.getitimer(signal.ITIMER_REAL)[0] == 0


# -- readers of foreign files, with anything in them ------------------------------------------------------
VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(max_size=8) | st.sampled_from(
        ["²", "9" * 5000, "python", "/usr/bin/python3", "../x", "\ud800", "a\nb"]),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.sampled_from(
        ["argv", "env", "display_name", "language", "metadata", "kernelspec", "name", "cells", "source", "outputs",
         "output_type", "traceback", "settings", "build_systems", "cmd", "python.defaultInterpreterPath",
         "python.envFile",
         "python.analysis.extraPaths", "venv", "venvPath", "project", "dependencies", "tool", "poetry", "search",
         "roots",
         "editors", "files", "keys", "format", "limits", "seconds", "dependency-groups", "optional-dependencies", "url",
         "dir_info", "ip", "shell_port", "key", "transport"]), inner, max_size=6), max_leaves=20)
CONTENT = st.one_of(
    st.binary(max_size=300), VALUES.map(lambda v: json.dumps(v).encode("utf-8", "surrogatepass")),
    st.text(max_size=300).map(lambda t: t.encode("utf-8", "surrogatepass")),
    st.lists(st.sampled_from(["[a.b]\n", "a = 1\n", "a.b.c = [1,\n", '"x" = {y = 2}\n', "home = /usr/bin\n",
                              "version = ²\n",
                              "version = 3.11.x\n", "Name: x\n", "Version: \n", "Requires-Dist: ;\n", "a,sha256=,²\n",
                              '"a,,\n',
                              "-r x.txt\n", "-e .\n", "x @ https://u:p@h/\n", "import a\n", "from . import b\n",
                              "%%time\n",
                              "try:\n", "except ImportError:\n", "    import c\n", "\x00", TRACE, FRAME,
                              "ImportError: x\n",
                              "Fatal Python error: y\n", "<project>", "<jdk a='", "]]>", "[main_interpreter]\n"]),
             max_size=12).map(lambda parts: "".join(parts).encode()))


def readers(place: Path) -> list[tuple[str, Callable[[RealMachine], object]]]:
    """Return every reader of foreign files, with the name that its file has."""
    def metadata(m: RealMachine) -> object:
        for file in ("METADATA", "RECORD", "direct_url.json", "top_level.txt", "requires.txt"):
            (place / "x-1.dist-info").mkdir(exist_ok=True)
            (place / "x-1.dist-info" / file).write_bytes((place / "content").read_bytes())
        (place / "y.egg").write_bytes((place / "content").read_bytes())
        found = distributions.SiteMetadata(m, str(place)).distributions() + distributions.ZipShelf(
            m, str(place / "y.egg")).distributions()
        for one in found:
            record_file.Record(m, one).changed()
            distributions.SiteMetadata(m, str(place)).size_of(one)
        return found

    def pasted(m: RealMachine) -> object:
        text = without_prefixes(decode_text((place / "content").read_bytes()))
        return text_of_notebook(text), parse_fatal(text), parse_refusal(text), parse_traceback(text)

    return [
        ("kernel.json", lambda m: kernelspecs.read_kernel(m, str(place / "kernel.json"), "user")),
        ("n.ipynb", lambda m: (notebooks.read_notebook(m, str(place / "n.ipynb")),
                               read_source(m, str(place / "n.ipynb"), ""))),
        ("kalyx.toml", lambda m: kalyx_toml.read_config(m, str(place))),
        ("pyvenv.cfg", lambda m: pyvenv.find_venv_config(m, str(place / "python"))),
        ("s.py", lambda m: read_source(m, str(place / "s.py"), "")),
        *[(name, lambda m: project.read_project(m, str(place), [name])) for name in (  # noqa: B023 - used at once
            "requirements.txt", "pyproject.toml", "setup.cfg", "Pipfile", "environment.yml")],
        *[(name, lambda m: find_settings(m, str(place), EDITORS)) for name in (
            ".vscode/settings.json", "a.code-workspace", "b.sublime-project", ".idea/misc.xml", "pyrightconfig.json")],
        ("content", metadata), ("content", pasted),
        ("content", lambda m: parse_connection((place / "content").read_bytes())),
        ("content", lambda m: formats.parse_env_file((place / "content").read_text("utf-8", "replace"))),
    ]


@settings(max_examples=int(os.environ.get("KALYX_EXAMPLES", "60")), deadline=None,
          suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture])
@given(content=CONTENT)
def test_readers_take_anything(content: bytes, tmp_path: Path) -> None:
    """Any bytes: a value, or an error of ours; never another exception."""
    place = tmp_path / "place"
    place.mkdir(exist_ok=True)
    for name, read in readers(place):
        file = place / name
        file.parent.mkdir(exist_ok=True)
        file.write_bytes(content)
        try:
            read(RealMachine())
        except (KalyxError, KernelFailed):
            pass
        except ValueError as error:
            assert type(error) is ValueError, (name, error)
        finally:
            if name != "content":
                file.unlink()
