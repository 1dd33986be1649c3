"""The pages of the commands that change something, one after the other in one world, as a person reads them."""

from __future__ import annotations

import sys
from pathlib import Path

import pytest

from kalyx.cli import run
from tests.answers.test_kernels import with_sprig
from tests.support.build import World, bare_python, notebook, write

# What is typed, the exit status, and what stands on the page
STORY = [
    (("make", "fresh", "--python", "BARE", "--dry-run"), 0, ["This would make", "the plan", "-m venv"]),
    (("make", "fresh", "--python", "BARE"), 0, ["is an environment of Python", "how we know", "kalyx put NAME --at"]),
    (("make", "fresh", "--python", "BARE"), 1, ["is there already, and not empty"]),
    (("point", "fresh", "--file", ".vscode/settings.json", "--dry-run"), 0, ["This would point 1 file", "+ "]),
    (("point", "fresh", "--file", ".vscode/settings.json"), 0, ["1 file uses", "+ ", "kalyx undo 2"]),
    (("point", "fresh", "--file", ".vscode/settings.json"), 0, ["Nothing has to change", "already"]),
    (("enrol", "lab", "--dry-run"), 0, ["This would register the kernel lab", "the plan", "+ "]),
    (("enrol", "lab"), 0, ["is a notebook kernel now", "registered in", "sys.prefix", "what to do"]),
    (("enrol", "lab"), 1, ["--overwrite"]),
    (("ask", "kernel:lab", "print('hm'); 6 * 7"), 0, ["answered:", "hm", "42"]),
    (("ask", "kernel:lab", "1 / 0"), 1, ["ZeroDivisionError"]),
    (("ask", "kernel:lab", "shell"), 0, ["These 2 seats are the same environment"]),
    (("retire", "lab", "--dry-run"), 0, ["lab"]),
    (("retire", "lab", "--yes"), 0, ["kalyx undo"]),
    (("changes",), 0, ["Kalyx made 4 changes", "made ", "created ", "moved aside "]),
    (("undo",), 0, ["is taken back", "restored"]),
    (("undo", "2"), 0, ["Change 2", "is taken back"]),
    (("changes",), 0, ["taken back"]),
    (("undo", "99"), 3, ["99"]),
]


def test_one_after_the_other(world: World) -> None:
    """Each says what was done or would be, where, and how it is taken back."""
    world.activate(with_sprig(world, "lab"))
    write(world.project / ".vscode" / "settings.json", '{\n    "a": 1\n}\n')
    notebook(world.project / "a.ipynb", "lab")
    for words, status, told in STORY:
        done = world.kalyx(*(bare_python() if w == "BARE" else w for w in words))
        shown = done.stdout + done.stderr
        assert (done.returncode, [t for t in told if t not in shown]) == (status, []), (words, shown)
        assert "Traceback" not in shown and str(world.home) + "/" not in done.stdout, shown


@pytest.mark.parametrize(("words", "told"), [
    (("lab", "--shell", "bash"), ["One line enters lab", "kalyx enter", "--start", "--leave"]),
    (("lab", "--shell", "bash", "--verbose"), ["the line", "KALYX_BEFORE"]),
    (("lab", "--shell", "nu"), ["One line enters lab", "--start"]),
    (("lab", "--shell", "cmd"), ["One line enters lab", "Type:"]),
])
def test_line_that_enters(words: tuple[str, ...], told: list[str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch,
                          capsys: pytest.CaptureFixture[str]) -> None:
    """On a terminal it is a page, with what to type; a shell that reads it gets the line alone."""
    world = World(tmp_path)
    world.venv("lab")
    for name, value in world.env.items():
        monkeypatch.setenv(name, value)
    monkeypatch.chdir(world.project)
    monkeypatch.setattr(sys.stdout, "isatty", lambda: True)
    assert run(["enter", *words]) == 0
    shown = capsys.readouterr().out
    assert all(text in shown for text in told), shown
