"""The extension in a shell of this process: what it asks, what it is answered, and that nothing of it stays."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any, ClassVar

import pytest

from kalyx.cli import within
from kalyx.notebook import answering, extension
from tests.support.build import write


class Overheard(subprocess.Popen):
    """A child that answers as ever; what it was asked and has answered is kept."""

    talks: ClassVar[list[tuple[dict, dict]]] = []

    def communicate(self, data: bytes, limit: float | None) -> tuple[bytes, bytes]:  # type: ignore[override]
        out, err = super().communicate(data, limit)
        Overheard.talks.append((json.loads(data), json.loads(out)))
        return out, err


@pytest.fixture
def shell(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Any]:
    """Return a real shell with the extension, in a folder of its own that its modules come from."""
    interactive = pytest.importorskip("IPython.core.interactiveshell").InteractiveShell
    config = pytest.importorskip("traitlets.config").Config()
    config.HistoryManager.enabled = False
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("HOME", str(tmp_path))
    monkeypatch.setenv("IPYTHONDIR", str(tmp_path / "ipython"))
    monkeypatch.syspath_prepend(str(tmp_path))
    monkeypatch.setattr(sys, "dont_write_bytecode", True)
    monkeypatch.setattr(extension, "Popen", Overheard)
    monkeypatch.setattr(Overheard, "talks", [])
    monkeypatch.setattr(within, "_within", [])
    hooks, modules = (sys.excepthook, sys.displayhook), set(sys.modules)
    one = interactive(config=config)
    one.extension_manager.load_extension("kalyx")
    yield one
    one.extension_manager.unload_extension("kalyx")
    sys.excepthook, sys.displayhook = hooks
    for name in set(sys.modules) - modules:
        if name in ("seedling", "beds", "rows"):
            del sys.modules[name]


CELLS = {
    "not there": ("import seedlingg", {"seedling.py": ""}, ["seedling"]),
    "in a module": ("import beds", {"beds.py": "import nowhere_at_all\n"}, ["nowhere_at_all"]),
    "of a name": ("from rows import nine", {"rows.py": "eight = 8\n"}, ["nine", "rows"]),
    "of its code": ("import rows", {"rows.py": "x = (\n"}, []),
    "while it is loaded": ("import rows", {"rows.py": "raise ValueError('no rows')\n"}, []),
    "no import": ("1 / 0", {}, None), "all well": ("import rows", {"rows.py": ""}, None),
    "of the cell itself": ("x = (", {}, None),
    "switched off": ("get_ipython().run_line_magic('kalyx', 'off')\nimport seedlingg", {}, None),
}


@pytest.mark.parametrize("name", CELLS)
def test_after_a_cell(name: str, shell: Any, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """A failed import has an answer, which is the one that judging the same question gives; all else has none."""
    code, files, says = CELLS[name]
    for file, text in files.items():
        write(tmp_path / file, text)
    shell.run_cell(code)
    shown = capsys.readouterr()
    assert ("Traceback" in shown.out + shown.err or "Error" in shown.out + shown.err) == (name != "all well")
    assert "mistake" not in shown.out + shown.err
    if says is None:
        assert Overheard.talks == []
        return
    (asked, told), = Overheard.talks
    assert asked["do"] == "failed" and asked["chain"] and asked["live"]["pid"] and "Error" in asked["text"]
    assert all(word in told["text"] for word in says), told["text"]
    assert ("<" in told["html"]) == bool(told["text"])
    pages = answering._answered(asked)
    assert "".join(map(answering._as_text, pages)).rstrip() == told["text"]
    assert bool(pages) == bool(says)


MAGICS = {
    "why json": ["imports"], "why nowhere_at_all": ["nowhere_at_all", "because"], "here": ["this kernel"],
    "packages --quiet": ["distributions"], "why": ["kalyx: "], "why 'a": ["cannot be read"], "why --help": ["usage"],
    "kalyx off": ["nothing of its own accord"], "kalyx on": ["says why"], "kalyx maybe": ["neither on nor off"],
    "kalyx": ["says why"],
}


@pytest.mark.parametrize("line", MAGICS)
def test_magics(line: str, shell: Any, capsys: pytest.CaptureFixture[str]) -> None:
    """Each says what the command says of this kernel, in the plain form where that is all that there is."""
    name, _, rest = line.partition(" ")
    shell.run_line_magic(name, rest)
    shown = capsys.readouterr()
    said = shown.out + shown.err
    if Overheard.talks:
        said += Overheard.talks[0][1]["text"]
        pages = answering._answered(Overheard.talks[0][0])
        printed = capsys.readouterr()
        text = printed.out + printed.err + "".join(map(answering._as_text, pages))
        if name != "here":  # what it found has the time of asking in it
            assert text.rstrip().splitlines()[:1] == Overheard.talks[0][1]["text"].splitlines()[:1]
    assert all(word in said for word in MAGICS[line]), said


def test_what_goes_wrong_is_said(shell: Any, monkeypatch: pytest.MonkeyPatch,
                                 capsys: pytest.CaptureFixture[str]) -> None:
    """A Python that is not there, one that says nonsense, one that takes too long; and the cell goes on."""
    for argv, says in (("/nowhere/python", "cannot be started"), ("", "does not know which Python"),
                       ("/bin/echo", "There is no answer")):
        monkeypatch.setattr(sys, "executable", argv)
        monkeypatch.setattr(extension, "Popen", subprocess.Popen)
        shell.run_line_magic("why", "json")
        assert says in capsys.readouterr().err, argv
    monkeypatch.setattr(sys, "executable", "/bin/cat")
    monkeypatch.setattr(extension, "PATIENCE", 0.2)
    monkeypatch.setattr(extension, "BOOT", "")
    shell.run_cell("import nowhere_at_all")
    assert "nowhere_at_all" in capsys.readouterr().out


def test_one_for_each_shell(shell: Any) -> None:
    """Loaded twice it is there once; taken away, nothing of it is left."""
    extension.load_ipython_extension(shell)
    assert len(extension._extensions) == 1
    assert {"why", "here", "packages", "kalyx"} <= set(shell.magics_manager.magics["line"])
    hooks = len(shell.events.callbacks["post_run_cell"])
    extension.unload_ipython_extension(shell)
    extension.unload_ipython_extension(shell)
    assert len(shell.events.callbacks["post_run_cell"]) == hooks - 1 and not extension._extensions
    assert not {"why", "here", "packages", "kalyx"} & set(shell.magics_manager.magics["line"])
    extension.load_ipython_extension(shell)
    assert within.asked_within() is None or within.asked_within().live is not None  # type: ignore[union-attr]
