"""``beacon``, ``--from``, ``--through``: a cell that runs anywhere, a block that survives, answers in groups."""

from __future__ import annotations

import base64
import getpass
import html
import json
import os
import quopri
import random
import re
import shutil
import socket
import subprocess
import sys
import textwrap
import urllib.parse
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from kalyx.core.carried.blocks import find_blocks
from kalyx.demo.visitor import facts_told, write_block
from tests.support.build import SHORT, World, other_pythons, python_of, run, site_of, tree, write
from tests.support.thorough import some_pythons

PYTHONS = {**other_pythons(), SHORT: sys.executable}
SSHD = shutil.which("sshd") or "/usr/sbin/sshd"


def printed(world: World, python: str, *modules: str, **more: object) -> str:
    """Have a Python run the cell for some modules, as ``python -`` does; return what it prints."""
    cell = world.kalyx("beacon", *modules).stdout
    done = subprocess.run([python, "-"], input=cell, capture_output=True, text=True, cwd=world.project, timeout=60,
                          check=False, env=world.env, **more)  # type: ignore[call-overload]
    assert (done.returncode, done.stderr) == (0, ""), done.stderr
    return str(done.stdout)


def read(world: World, text: str, *words: str) -> dict:
    """Have Kalyx answer ``why`` from a text in a file."""
    file = write(world.root / "told.txt", text)
    return world.answer("why", "--from", str(file), *words)


@pytest.mark.parametrize("version", some_pythons(PYTHONS))
def test_every_python_runs_the_cell(version: str, world: World, validate: Callable[[dict], None]) -> None:
    """From 2.7 on: imports, modules that are not there, own files, exits; nothing is written, no name is left."""
    python = PYTHONS[version]
    write(world.project / "half.py", "import traygrid\n")
    write(world.project / "leaves.py", "import sys\nsys.exit(3)\n")
    write(world.project / "odd.py", "import sys\nsys.path.append(sys)\nclass Odd(Exception):\n    name = msg = 5\n"
          "    lineno = property(lambda self: 1 // 0)\n    __str__ = lambda self: 1 // 0\nraise Odd()\n")
    write(world.project / "json.py", "raise RuntimeError('a file that hides a module')\n")
    env = {"PYTHONDONTWRITEBYTECODE": "1"}
    world.env |= env
    before = tree(world.root)
    text = printed(world, python, "os", "half", "odd", "leaves", "os:nothing", "traygrid", "json")
    assert tree(world.root) == before
    answer = read(world, text)
    validate(answer)
    imports = {r["module"] + (":" + r["name"] if r["name"] else ""): r for r in answer["result"]["imports"]}
    assert {k: r["outcome"] for k, r in imports.items()} == {"os": "imports"} | dict.fromkeys(
        ["half", "odd", "leaves", "os:nothing", "traygrid", "json"], "fails")
    assert imports["leaves"]["error"]["type"] == "SystemExit"
    assert imports["traygrid"]["causes"][0]["cause"] == "not-installed"
    assert imports["json"]["causes"][0]["cause"] == "hidden-by-file"
    said = run([python, "-c", "import sys; print(sys.prefix); print('%d.%d.%d' % sys.version_info[:3])"]).stdout.split()
    interpreter = imports["os"]["interpreter"]
    assert [interpreter["prefix"], interpreter["version"].split("rc")[0]] == said
    assert answer["result"]["places"] == [{"host": socket.gethostname(), "label": socket.gethostname(), "count": 1}]
    code = f"before = set(globals()) | {{'before'}}\n{world.kalyx('beacon').stdout}\nprint(set(globals()) - before)"
    assert run([python, "-c", code]).stdout.splitlines()[-1] in ("set()", "set([])")


def test_cell(world: World, validate: Callable[[dict], None]) -> None:
    """It is short, plain and readable, names what it imports, and takes no word that is no module's name."""
    document = world.answer("beacon", "numpy", "a-b", "pkg.part:name")
    validate(document)
    cell = document["result"]["cell"]
    assert cell == world.kalyx("beacon", "numpy", "a-b", "pkg.part:name").stdout
    lines = cell.splitlines()
    assert len(lines) <= 100 and max(map(len, lines)) <= 120 and cell.isascii()
    assert 'ASKED = ["numpy", "a_b", "pkg.part:name"]' in cell
    assert not re.search(r"urllib|subprocess|os\.(?:system|remove|mkdir)|open\([^)]*\"[wa]", cell)
    for word in ("x; import os", "a b", "1x", '"'):
        assert world.answer("beacon", word)["exit"] == 2


def test_large_environment(world: World) -> None:
    """Four hundred distributions: under a second, under 64 kB; what there was no room for is said."""
    lab = world.venv("lab")
    for number in range(400):
        name = f"dist{number:03d}"
        needs = "".join(f"Requires-Dist: other{n:03d}>={n % 7}.{number % 11}\n" for n in range(number, number + 12))
        write(site_of(lab) / f"{name}-1.{number}.dist-info/METADATA", f"Name: {name}\nVersion: 1.{number}\n{needs}\n")
        write(site_of(lab) / f"{name}-1.{number}.dist-info/RECORD", "".join(
            f"{name}/part{n}.py,sha256={number * n:043d},{n}\n" for n in range(40)))
        write(site_of(lab) / name / "__init__.py", "")
    world.activate(lab)
    text = printed(world, python_of(lab), "dist007", "dist399")
    block = text[text.index("[kalyx beacon"):]
    assert len(block) < 65536
    answer = read(world, text)
    assert [r["outcome"] for r in answer["result"]["imports"]] == ["imports", "imports"], answer["notes"]
    assert [r["distribution"]["version"] for r in answer["result"]["imports"]] == ["1.7", "1.399"]
    packages = world.answer("packages", "--from", str(world.root / "told.txt"))
    assert len(packages["result"]["distributions"]) == 400
    assert {n["note"] for n in packages["notes"]} <= {"beacon-cut", "not-recorded"}


def test_archives_on_the_path(world: World) -> None:
    """What a beacon did not look into is not known, and costs nothing else; a library in an archive is one."""
    lab = world.venv("lab")
    world.wheels.install(world.wheels.add("seedling", "1", {"seedling.py": ""}), site_of(lab))
    archive = world.root / "lib.zip"
    with zipfile.ZipFile(archive, "w") as made:
        made.writestr("husk.py", "x = 1\n")
    cell = world.kalyx("beacon", "husk", "bark").stdout
    done = subprocess.run([python_of(lab), "-"], input=cell, cwd=world.project, capture_output=True, text=True,
                          check=True, env={**world.env, "PYTHONPATH": str(archive)})
    answer = read(world, done.stdout)
    there, gone = answer["result"]["imports"]
    assert (there["outcome"], there["origin"], gone["outcome"]) == ("imports", f"{archive}/husk.py", "fails")
    packages = world.answer("packages", "--from", str(world.root / "told.txt"))
    assert [d["name"] for d in packages["result"]["distributions"]] == ["seedling"]
    for said in (answer, packages):
        assert {n["note"] for n in said["notes"]} <= {"not-recorded"} and "no zip" not in str(said), said["notes"]
    facts = facts_told()
    library = facts["prefix"] + "\\python312.zip"  # as Windows' embeddable Python has it
    facts |= {"path": [library], "folders": {library: True}, "installed": [], "imports": [{
        "module": "json", "name": None, "chain": [], "loaded": {"json": [f"{library}\\json\\__init__.pyc", []]}}]}
    assert read(world, write_block(facts, "k12345"))["result"]["imports"][0]["layer"] == "stdlib"


FACTS = {**facts_told(), "host": "node7"}
MANY = [f"m{random.Random(n).random()}" for n in range(200)]
BLOCK = write_block({**FACTS, "stdlib": [*FACTS["stdlib"], *MANY]}, "k12345")
LINES = BLOCK.splitlines()
WRAPPED = [part for line in LINES for part in textwrap.wrap(line, 40)]
# What mail, chats, notebooks and launchers do to a text
MANGLED = {
    "quoted": "".join(f"> > {line}\n" for line in LINES), "quoted by a bar": "".join(f"| {x}\n" for x in LINES),
    "trailing blanks, CRLF": BLOCK.replace("\n", "  \t\r\n"), "wrapped": "\n".join(WRAPPED),
    "wrapped and quoted": "".join(f"> {line}\n" for line in WRAPPED), "lines apart": BLOCK.replace("\n", "\n\n"),
    "HTML": "<pre>" + html.escape(BLOCK).replace("\n", "<br/>\n") + "</pre>",
    "HTML of a mail": "".join(f"<div class=\"x\"><span>&gt;&nbsp;{html.escape(x)}</span></div>" for x in LINES),
    "a notebook": json.dumps({"cells": [{"outputs": [{"text": BLOCK.splitlines(True)}]}]}, indent=1),
    "a notebook's lines": "".join(f'      "{x}\\n",\n' for x in LINES), "one string": json.dumps({"text": BLOCK}),
    "Python's repr": repr(BLOCK), "colours": "".join(f"\x1b[32m{x}\x1b[0m\r\n" for x in LINES),
    "typographic quotes": f"\u201cSee\u201d \u2013 it\u2019s this\u2026\n{BLOCK}\u201cbye\u201d",
    "a launcher's labels": "".join(f"node07: {x}\n" for x in LINES),
    "a rank": "".join(f"[1,0]<stdout>:{x}\n" for x in LINES), "one line": " ".join(LINES),
    "out of order": "\n".join([LINES[0], *reversed(LINES[1:])]), "invisible": BLOCK.replace(".", ".\u200b"),
    "between others' words": f"Welcome to node7!\n{BLOCK}logout\nConnection closed.\n", "UTF-16": BLOCK,
    "a saved mail": quopri.encodestring(BLOCK.encode()).decode(), "an address": urllib.parse.quote(BLOCK),
    "a saved mail with parts": "From: mo@example.org\nContent-Type: text/plain; charset=utf-8\n"
                               f"Content-Transfer-Encoding: base64\n\n{base64.encodebytes(BLOCK.encode()).decode()}"}


@pytest.mark.parametrize("how", MANGLED)
def test_block_survives(how: str, world: World) -> None:
    """Each is read as the block that was printed."""
    file = world.root / "told.txt"
    file.write_bytes(MANGLED[how].encode("utf-16" if how == "UTF-16" else "utf-8"))
    answer = world.answer("why", "--from", str(file))
    assert (answer["exit"], answer["result"]["places"][0]["host"]) == (1, "node7"), answer
    assert answer["result"]["imports"][0]["causes"][0]["cause"] == "not-installed"


MIDDLE, FIFTH = len(LINES) // 2, LINES[5]
# A damaged block, and what is said of it
DAMAGED = {
    "a sign changed": (BLOCK.replace(FIFTH, FIFTH[:20] + "~" + FIFTH[21:]), "line 5 of"),
    "two signs swapped": (BLOCK.replace(FIFTH, FIFTH[:20] + FIFTH[21] + FIFTH[20] + FIFTH[22:]), "line 5 of"),
    "a line lost": ("\n".join(x for n, x in enumerate(LINES) if n != 3), "line 3 of"),
    "cut off": ("\n".join(LINES[:MIDDLE]), f"line {MIDDLE} of"), "no first line": ("\n".join(LINES[1:]), "first line"),
    "the first line alone": (LINES[0], "line 1 of"),
    "of a newer form": (BLOCK.replace("beacon 1:", "beacon 9:"), "newer form"),
    "another length": (re.sub(r"\d+ bytes", "7 bytes", BLOCK), "cannot be unpacked"),
    "nothing": ("good morning", "no block"), "empty": ("", "no block"),
    "no facts": (write_block([], "k00000"), "no facts"),  # type: ignore[arg-type]
    "no Python": (write_block({"host": "x"}, "k00001"), "no Python"),
    "facts of another kind": (write_block({**FACTS, "path": {"a": 1}}, "k00002"), "tells what no beacon does"),
    "imports of another kind": (write_block({**FACTS, "imports": [{"module": 1}]}, "k00003"), "no beacon does"),
    "frames of another kind": (write_block({**FACTS, "imports": [{**FACTS["imports"][0], "chain": [
        {"type": "E", "message": "m", "frames": [1]}]}]}, "k00004"), "no beacon does"),
    "deeply nested": (write_block(json.loads('{"a":' + "[" * 900 + "]" * 900 + "}"), "k00005"), "recursion")}


@pytest.mark.parametrize("how", DAMAGED)
def test_damage_is_said(how: str, world: World, validate: Callable[[dict], None]) -> None:
    """Each is one sentence that says what is wrong and where; beside a whole block it costs that one alone."""
    text, says = DAMAGED[how]
    answer = read(world, text)
    validate(answer)
    assert answer["exit"] == 3 and says in answer["result"]["message"], answer["result"]
    beside = read(world, BLOCK + "\n" + text.replace("k12345", "k54321"))
    assert [r["outcome"] for r in beside["result"]["imports"]] == ["fails"]


@pytest.mark.thorough
def test_random_damage(world: World) -> None:
    """Whatever one change does to a block, it is read as it was, or said to be damaged."""
    wrong = []
    for seed in range(3000):
        chance = random.Random(seed)
        text, at = list(BLOCK), chance.randrange(len(BLOCK))
        what = chance.choice("cdis")
        if what == "c":
            text[at] = chr(chance.randrange(32, 127))
        elif what == "d":
            del text[at]
        elif what == "i":
            text.insert(at, chr(chance.randrange(32, 127)))
        else:
            other = chance.randrange(len(BLOCK))
            text[at], text[other] = text[other], text[at]
        found = find_blocks("".join(text))
        wrong += [seed for one in found if one.facts is not None and one.facts["host"] != "node7"]
        assert all(one.damage or one.facts is not None for one in found)
    assert not wrong


# -- through commands -----------------------------------------------------------------------------
LAUNCHER = """
import subprocess, sys
program = sys.stdin.read()
runs = [subprocess.Popen([sys.executable, "-u", "-"], stdin=subprocess.PIPE, stdout=sys.stdout, text=True)
        for _ in range(int(sys.argv[1]))]
for one in runs:
    one.stdin.write(program)
    one.stdin.close()
sys.exit(max(one.wait() for one in runs))
"""


def test_through_commands(world: World, validate: Callable[[dict], None]) -> None:
    """Shells, bare variables, a launcher of eight whose lines are mixed; equal answers are one; what failed is said."""
    lab, bare = world.venv("lab"), world.venv("bare")
    world.wheels.install(world.wheels.add("germkit", "2.0"), site_of(lab))
    launcher = write(world.root / "launch all.py", LAUNCHER)
    write(world.home / ".profile", "echo Welcome, {you}!\n")
    with_lab = [f"sh -c 'echo [kalyx; exec {python_of(lab)} -; echo gone'", f"env -i {python_of(lab)} -",
                f"sh -l -c '{python_of(lab)} -'", f"{python_of(lab)} '{launcher}' 8"]
    broken = ["no-such-launcher -", "sh -c 'echo cannot reach node31 >&2; exit 255'", "true",
              f"{python_of(lab)} -c 'pass'"]
    words = [w for command in (*with_lab, f"{python_of(bare)} -", *broken) for w in ("--through", command)]
    answer = world.answer("why", "germkit", *words)
    validate(answer)
    result = answer["result"]
    assert answer["exit"] == 1 and [p["count"] for p in result["places"]] == [11, 1]
    assert [(r["outcome"], r["causes"][0]["cause"] if r["causes"] else "") for r in result["imports"]] == [
        ("imports", ""), ("fails", "not-installed")]
    failed = [n["message"] for n in answer["notes"] if n["note"] == "through-failed"]
    assert len(failed) == len(broken) and all(any(m.startswith(b) for m in failed) for b in broken)
    assert any("cannot reach node31" in m for m in failed) and any("could not be started" in m for m in failed)
    text = world.kalyx("why", "germkit", *words).stdout
    assert "11 of 12" in text and "1 of 12" in text and "Traceback" not in text
    for more, exits in ((["--host", socket.gethostname()], 3), (["--host", "elsewhere"], 3)):
        assert world.answer("packages", *words[:2], *words[8:10], *more)["exit"] == exits
    packages = world.answer("packages", *words[:2])
    validate(packages)
    assert [d["name"] for d in packages["result"]["distributions"]] == ["germkit"]
    here = world.answer("here", *words[:2], *words[8:10])
    validate(here)
    assert [s["ref"] for s in here["result"]["seats"]] == [f"beacon:{socket.gethostname()}"] * 2
    assert here["result"]["agreement"]["agree"] is False


def test_what_hangs_has_a_limit(world: World) -> None:
    """A launcher that never ends, and one of which a part has answered; what came until then counts."""
    lab = world.venv("lab")
    half = f"sh -c '{python_of(lab)} -; sleep 60'"
    answer = world.answer("why", "json", "--through", half, "--through", "sleep 60", "--timeout", "3")
    assert [r["outcome"] for r in answer["result"]["imports"]] == ["imports"]
    notes = [n["message"] for n in answer["notes"] if n["note"] == "through-failed"]
    assert len(notes) == 2 and all("3 s" in n for n in notes)
    for command in ("", "'", "  "):
        assert world.answer("why", "json", "--through", command)["exit"] == 2


@pytest.mark.thorough
def test_many_at_once(world: World) -> None:
    """A launcher of forty: all are read, and are one group."""
    lab = world.venv("lab")
    launcher = write(world.root / "launch.py", LAUNCHER)
    answer = world.answer("why", "json", "--through", f"{python_of(lab)} {launcher} 40", "--timeout", "240")
    assert [p["count"] for p in answer["result"]["places"]] == [40]
    assert answer["result"]["imports"][0]["outcome"] == "imports"


@pytest.fixture
def ssh_command(world: World) -> Iterator[str]:
    """Start a server of the secure shell on the loopback, with keys of its own; yield the command that gets in."""
    if not os.path.exists(SSHD) or shutil.which("ssh") is None:
        pytest.skip("no ssh server on this machine")
    folder = world.root / "ssh"
    folder.mkdir(mode=0o700)
    for key in ("host", "own"):
        assert run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", folder / key]).returncode == 0
    shutil.copy(folder / "own.pub", folder / "authorized")
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    write(folder / "config", f"Port {port}\nListenAddress 127.0.0.1\nHostKey {folder}/host\nStrictModes no\nUsePAM no\n"
          f"PidFile {folder}/pid\nAuthorizedKeysFile {folder}/authorized\nPermitRootLogin yes\n")
    Path("/run/sshd").mkdir(exist_ok=True) if os.geteuid() == 0 else None
    server = subprocess.Popen([SSHD, "-D", "-e", "-f", folder / "config"], stderr=subprocess.DEVNULL)
    options = f"-p {port} -i {folder}/own -o StrictHostKeyChecking=no -o UserKnownHostsFile={folder}/known"
    command = f"ssh -F none -q -o BatchMode=yes {options} {getpass.getuser()}@127.0.0.1"
    try:
        for _ in range(50):
            if subprocess.run([*command.split(), "true"], stdin=subprocess.DEVNULL, check=False).returncode == 0:
                break
        yield command
    finally:
        server.terminate()
        server.wait()


def test_through_a_secure_shell(world: World, ssh_command: str) -> None:
    """A real server: its Python answers; a host that cannot be reached is said."""
    lab = world.venv("lab")
    lost = re.sub(r"-p \d+", "-p 9", ssh_command).replace(" -q ", " ")
    answer = world.answer("why", "json", "traygrid", "--through", f"{ssh_command} {python_of(lab)} -",
                          "--through", f"{lost} python3 -")
    assert [r["outcome"] for r in answer["result"]["imports"]] == ["imports", "fails"]
    assert answer["result"]["imports"][0]["interpreter"]["prefix"] == str(lab)
    assert "refused" in next(n["message"] for n in answer["notes"] if n["note"] == "through-failed").lower()


def test_through_a_namespace(world: World) -> None:
    """In a network and a host name of its own, as in a container; nothing is reached from there."""
    lab = world.venv("lab")
    enter = "unshare --net --uts sh -c 'hostname pod7 2>/dev/null; exec env -i {} -'"
    if run(["unshare", "--net", "--uts", "true"]).returncode:
        pytest.skip("this machine allows no namespaces")
    answer = world.answer("why", "json", "--through", enter.format(python_of(lab)))
    assert answer["result"]["imports"][0]["outcome"] == "imports"
    assert answer["result"]["places"][0]["host"] == ("pod7" if shutil.which("hostname") else socket.gethostname())
