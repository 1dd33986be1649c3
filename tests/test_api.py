"""What `import kalyx` gives Python code: the answers that the commands print, loaded when they are used."""

from __future__ import annotations

import inspect
import json
import subprocess
import sys
from pathlib import Path

import pytest

import kalyx
from kalyx import api
from tests.situations.reach import kernel
from tests.support.build import World, notebook, python_of, run, tree, write

PUBLIC = ["AmbiguousName", "KalyxError", "NothingToJudge", "Unreadable", "WrongUsage", "__version__", "contrast",
          "envs", "fit", "here", "kernels", "packages", "why"]
# in Python, and at the command line
SAME = {
    "kalyx.here()": ["here"], "kalyx.here('nb')": ["here", "nb"],
    "kalyx.why('seedling', 'json')": ["why", "seedling", "json"],
    "kalyx.why('seedling', at='nb/a.ipynb', run=False)": ["why", "seedling", "--at", "nb/a.ipynb", "--no-run"],
    "kalyx.envs(has='pip')": ["envs", "--has", "pip"], "kalyx.kernels()": ["kernels"],
    "kalyx.packages('kernel:lab', name='p*')": ["packages", "--at", "kernel:lab", "--name", "p*"],
    "kalyx.fit('nb/a.ipynb')": ["fit", "nb/a.ipynb"],
    "kalyx.contrast('kernel:lab', LAB)": ["contrast", "kernel:lab", "LAB"]}
ANSWER = """
import json, sys, kalyx
LAB = sys.argv[1]
answer = {call}
from kalyx.show import as_json
result = getattr(as_json, "{name}_result")(answer)
print(as_json.document("{name}", answer.status, result, answer.notes))
"""


@pytest.mark.parametrize("call", SAME)
def test_answers_as_the_command_does(call: str, world: World) -> None:
    """The same status, result and notes; nothing is printed or left behind."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    kernel(world, "lab", python_of(lab))
    write(world.project / "nb" / "b.ipynb", "{")
    notebook(world.project / "nb" / "a.ipynb", "lab")
    before = tree(world.project)
    words = [str(lab) if word == "LAB" else word for word in SAME[call]]
    said = world.answer(*words)
    del said["exit"]
    program = ANSWER.format(call=call, name=words[0])
    done = run([sys.executable, "-c", program, str(lab)], cwd=world.project, env=world.env)
    assert (json.loads(done.stdout), done.stderr, tree(world.project)) == (said, "", before)


def test_requests_that_are_none(world: World) -> None:
    """Each is an error of the documented tree, with what to do."""
    program = """
import kalyx
for call in (lambda: kalyx.why(), lambda: kalyx.why("a b"), lambda: kalyx.here("gone"),
             lambda: kalyx.packages("kernel:gone"), lambda: kalyx.fit(), lambda: kalyx.envs(python="x")):
    try:
        call()
    except kalyx.KalyxError as error:
        print(type(error).__name__, bool(error.message), bool(error.hint))
"""
    done = run([sys.executable, "-c", program], cwd=world.project, env=world.env)
    assert [line.split()[0] for line in done.stdout.splitlines()] == [
        "WrongUsage", "WrongUsage", "NothingToJudge", "NothingToJudge", "WrongUsage", "WrongUsage"], done.stderr
    assert "False" not in done.stdout


def test_public_names() -> None:
    """They are these; each is documented and says what it takes and returns; nothing else is offered."""
    assert kalyx.__all__ == PUBLIC and set(PUBLIC) < set(dir(kalyx))
    assert [n for n in PUBLIC if n.islower() and n[0] != "_"] == api.__all__
    for name in api.__all__:
        one = getattr(kalyx, name)
        signature = inspect.signature(one)
        assert one is getattr(api, name) and inspect.getdoc(one) and signature.return_annotation.endswith("Answer")
        assert all(p.annotation is not inspect.Parameter.empty for p in signature.parameters.values())
    assert not hasattr(kalyx, "nothing") and (Path(kalyx.__file__).parent / "py.typed").is_file()


def test_import_loads_nothing() -> None:
    """`import kalyx` brings itself alone; what answers comes with its first use."""
    program = "import sys; before = set(sys.modules); import kalyx; print(*sorted(set(sys.modules) - before))"
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True)
    assert done.stdout.split() == ["kalyx"]
