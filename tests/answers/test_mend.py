"""``mend``: chains of what is wrong are mended in one go, proved, and taken back byte for byte."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
from pathlib import Path

import pytest

from tests.answers.test_enrol import with_real_kernel
from tests.answers.test_journal import journal_of, tree
from tests.situations.accidents import ACCIDENTS, planted
from tests.support.build import KALYX, World, kernelspec, notebook, python_of, run, site_of, write

# Accidents of which each is found after the one before
CHAINS = [names for n, names in enumerate(zip(list(ACCIDENTS), list(ACCIDENTS)[3:], list(ACCIDENTS)[7:], strict=False))
          if n % 3 == 0]


@pytest.mark.parametrize("chain", CHAINS, ids=" and ".join)
def test_chains_are_mended_and_undone(chain: tuple[str, ...], world: World, validate) -> None:
    """Two and three accidents at once: mend leads out, the import works, one undo brings all of it back."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    site = planted(world, lab)
    for name in chain:
        if (site / "soilbook" / "ground.py").is_file() and (site / "seedling" / "__init__.py").is_file():
            ACCIDENTS[name][0](world, site)
    before = {**tree(lab), **tree(world.project)}
    planned = world.answer("mend", "seedling", "--dry-run")
    validate(planned)
    if planned["result"]["outcome"] == "well":
        pytest.skip("these accidents take each other away")
    assert planned["result"]["outcome"] == "planned" and {**tree(lab), **tree(world.project)} == before
    document = world.answer("mend", "seedling", "--yes")
    validate(document)
    result = document["result"]
    assert (result["outcome"], document["status"], document["exit"]) == ("mended", "ok", 0), result
    assert run([python_of(lab), "-c", "import seedling"], cwd=world.project, env=world.env).returncode == 0
    assert {r["change"] for r in result["rounds"]} == {1} and all(r["done"] for r in result["rounds"])
    undone = world.answer("undo")
    assert undone["exit"] == 0, undone["result"]
    assert {**tree(lab), **tree(world.project)} == before
    assert world.answer("undo")["exit"] == 3, "it was one change"


def test_without_an_answer_it_plans(world: World) -> None:
    """In a pipe and without --yes nothing is changed, and it says so; what is well is well."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    world.wheels.add("sowkit", "1")
    planned = world.kalyx("mend", "sowkit")
    assert planned.returncode == 1 and "nothing was changed" in planned.stdout and "added" in planned.stdout
    assert not (site_of(lab) / "sowkit").exists() and not journal_of(world).exists()
    well = world.answer("mend", "json", "--yes")
    assert (well["result"]["outcome"], well["exit"], well["result"]["rounds"]) == ("well", 0, [])


def test_what_would_break_something_is_not_taken(world: World, validate) -> None:
    """An installation that breaks another package's requirement: left with --yes, done when it was chosen."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    for name, version, requires in (("traygrid", "1", []), ("germkit", "1", ["traygrid<2"])):
        world.wheels.install(world.wheels.add(name, version, requires=requires), site_of(lab))
    world.wheels.add("traygrid", "2")
    world.wheels.add("sowkit", "1", requires=["traygrid>=2"])
    left = world.answer("mend", "sowkit", "--yes")
    validate(left)
    assert (left["result"]["outcome"], left["exit"]) == ("left", 1)
    assert "would break" in left["result"]["rounds"][0]["why_not"] and left["result"]["rounds"][0]["breaks"]
    assert not (site_of(lab) / "sowkit").exists() and world.answer("changes")["result"]["changes"] == []
    done = world.answer("mend", "sowkit", "--yes", "--choose", "a")
    assert done["result"]["outcome"] == "mended" and (site_of(lab) / "sowkit").exists()


def test_what_did_not_help_is_said(world: World) -> None:
    """The same finding after its remedy ends it; what cannot be had ends it, with pip's reason; a person's is left."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    world.wheels.add("sowkit", "1", {"other.py": ""})
    same = world.answer("mend", "sowkit", "--yes")["result"]
    assert same["outcome"] == "left" and len(same["rounds"]) <= 2, same
    assert any("did not help" in r["why_not"] or not r["done"] for r in same["rounds"])
    nowhere = world.answer("mend", "nowhere_at_all", "--yes")["result"]
    assert nowhere["outcome"] == "left" and "pip cannot install it" in nowhere["rounds"][0]["why_not"]
    write(world.project / "mine.py", "raise ValueError('half')\n")
    mine = world.answer("mend", "mine", "--yes")["result"]
    assert (mine["outcome"], mine["rounds"][0]["remedy"], mine["left"][0]["cause"]) == ("left", None, "raises")
    text = world.kalyx("mend", "mine", "--yes")
    assert text.returncode == 1 and "Read " in text.stdout and "what is left" in text.stdout


def test_a_script_and_a_notebook(world: World) -> None:
    """A wrong name in a script and in a cell are written anew, and what is missing is put beside; undone, all of it."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    kernelspec(world.home, "lab", [python_of(lab), "-m", "ipykernel_launcher", "-f", "{connection_file}"])
    world.wheels.add("humidlog", "1")
    script = write(world.project / "a.py", "import jsn\nimport humidlog\nfrom collections import OrderedDit\n", 0o755)
    book = notebook(world.project / "b.ipynb", "lab", "import jsn\nimport humidlog")
    before = tree(world.project)
    for file in ("a.py", "b.ipynb"):
        answer = world.answer("mend", file, "--yes")
        assert answer["result"].get("outcome") == "mended", answer["result"]
    assert run([python_of(lab), "a.py"], cwd=world.project, env=world.env).returncode == 0
    assert script.stat().st_mode & 0o777 == 0o755 and "import json" in "".join(
        json.loads(book.read_text())["cells"][0]["source"])
    assert world.answer("undo")["exit"] == world.answer("undo")["exit"] == 0
    assert {k: v[:2] for k, v in tree(world.project).items()} == {k: v[:2] for k, v in before.items()}


def test_what_here_finds(world: World) -> None:
    """A setting one folder off and a kernel of a moved environment are mended without a name; undo brings them back."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    write(lab / "bin" / "pip", f"#!{python_of(lab)}\nfrom pip._internal.cli.main import main\nmain()\n", 0o755)
    file = write(world.project / ".vscode" / "settings.json", json.dumps(
        {"python.defaultInterpreterPath": str(lab / "bn" / "python")}, indent=4) + "\n")
    old = file.read_bytes()
    document = world.answer("mend", "--yes")
    assert document["result"].get("outcome") == "mended", document["result"]
    assert str(lab / "bin" / "python") in file.read_text() and world.answer("here")["exit"] == 0
    assert world.answer("undo")["exit"] == 0 and file.read_bytes() == old


@pytest.mark.real
@pytest.mark.parametrize(("answer", "installed"), [("y\n", True), ("n\n", False), ("", False)])
def test_a_person_is_asked(world: World, answer: str, installed: bool) -> None:
    """At a terminal each round is shown and asked; no, or the end of what is typed, leaves all as it is."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    world.wheels.add("sowkit", "1")
    master, terminal = os.openpty()
    child = subprocess.Popen([KALYX, "mend", "sowkit"], cwd=world.project, env=world.env, stdin=terminal,
                             stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    os.close(terminal)
    os.write(master, answer.encode() or b"\x04")
    out, err = child.communicate(timeout=120)
    os.close(master)
    assert "Do it? It can be undone. [y/N]" in err.decode() and "sowkit" in err.decode()
    assert child.returncode == (0 if installed else 1), out.decode()
    assert (site_of(lab) / "sowkit").exists() == installed
    assert ("kalyx undo 1" in out.decode()) == installed


def test_a_file_that_changed_meanwhile(world: World) -> None:
    """A read-only folder, and a name that is taken: one sentence, and nothing by halves."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    own = write(world.project / "random.py", "rows = 6\n")
    write(world.project / "my_random.py", "")
    done = world.answer("mend", "tempfile", "--yes")
    assert done["result"]["outcome"] == "mended" and not own.exists()
    assert (world.project / "my_random_2.py").exists()
    assert world.answer("undo")["exit"] == 0 and own.exists()
    shutil.rmtree(world.home / "envs")


def test_a_kernel_that_only_carries_a_name(world: World) -> None:
    """A kernel that is called as an environment and runs another is enrolled for real, in the same change."""
    lab, other = with_real_kernel(world, "lab"), world.venv("other")
    world.activate(lab)
    write(lab / "bin" / "pip", f"#!{python_of(lab)}\n", 0o755)
    spec = kernelspec(world.home, "lab", [python_of(other), "-m", "ipykernel_launcher", "-f", "{connection_file}"])
    notebook(world.project / "a.ipynb", "lab")
    old = spec.read_text()
    document = world.answer("mend", "--yes")
    rounds = document["result"]["rounds"]
    assert any(r["done"] and "kernel" in r["finding"]["cause"] for r in rounds), rounds
    assert python_of(lab) in spec.read_text() and world.answer("ask", "kernel:lab")["exit"] == 0
    assert world.answer("undo")["exit"] == 0 and spec.read_text() == old


def test_an_index_that_is_down(world: World) -> None:
    """What cannot be fetched ends the round with a sentence; nothing is changed, and nothing stands in the journal."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    write(world.project / "requirements.txt", "sowkit\n")
    env = {"PIP_NO_INDEX": "", "PIP_FIND_LINKS": "", "PIP_INDEX_URL": "http://127.0.0.1:9/simple", "PIP_RETRIES": "0",
           "PIP_TIMEOUT": "1"}
    left = world.answer("mend", "sowkit", "--yes", env=env)
    assert (left["result"]["outcome"], left["exit"]) == ("left", 1)
    assert "pip cannot install it" in left["result"]["rounds"][0]["why_not"]
    assert world.answer("changes")["result"]["changes"] == []


def _wrong_setting(world: World) -> Path:
    """Have an editor's setting be one folder off."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    write(lab / "bin" / "pip", f"#!{python_of(lab)}\nfrom pip._internal.cli.main import main\nmain()\n", 0o755)
    return write(world.project / ".vscode" / "settings.json", json.dumps(
        {"python.defaultInterpreterPath": str(lab / "bn" / "python")}, indent=4) + "\n")


def test_a_settings_file_that_may_not_be_written(world: World) -> None:
    """It stays as it is, and is named; nothing stands in the journal."""
    file = _wrong_setting(world)
    old = file.read_bytes()
    file.parent.chmod(0o555)
    try:
        left = world.answer("mend", "--yes", privileged=False)
        assert left["exit"] == 1 and str(file) in json.dumps(left["result"]), left
        assert file.read_bytes() == old
    finally:
        file.parent.chmod(0o755)


@pytest.mark.real
@pytest.mark.parametrize("what", ["changed meanwhile", "Ctrl-C"])
def test_between_question_and_answer(what: str, world: World) -> None:
    """A file that changed since it was shown is left, with a sentence; Ctrl-C at the question changes nothing."""
    file = _wrong_setting(world)
    master, terminal = os.openpty()
    child = subprocess.Popen([KALYX, "mend"], cwd=world.project, env=world.env, stdin=terminal, stdout=subprocess.PIPE,
                             stderr=subprocess.PIPE)
    os.close(terminal)
    assert child.stderr is not None
    said = b""
    while b"[y/N]" not in said:
        more = os.read(child.stderr.fileno(), 4096)
        assert more, said
        said += more
    if what == "Ctrl-C":
        child.send_signal(signal.SIGINT)
    else:
        file.write_text(file.read_text().replace("defaultInterpreterPath", "pythonPath").replace("bn", "bm"))
        os.write(master, b"y\n")
    now = file.read_bytes()
    out, err = child.communicate(timeout=120)
    os.close(master)
    assert file.read_bytes() == now and b"Traceback" not in out + err
    assert child.returncode == (130 if what == "Ctrl-C" else 1)
    assert what == "Ctrl-C" or b"has changed" in out, out
    assert world.answer("changes")["result"]["changes"] == []
