"""The command line and the Python functions in the tests' own process: each command's text, document and status."""

from __future__ import annotations

import io
import json
import os
import signal
import sys
import time
from pathlib import Path

import pytest

import kalyx
from kalyx import __main__ as way_in
from kalyx.cli import completion, options, patience, run
from kalyx.cli.commands import COMMANDS
from tests.situations.reach import kernel
from tests.support.build import World, notebook, python_of, site_of, write
from tests.support.thorough import first_of_each


@pytest.fixture
def place(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> World:
    """Return a world that this process is in: an environment, a kernel, notebooks, code, a change in the journal."""
    made = World(tmp_path)
    lab = made.venv("lab", pip=True)
    made.activate(lab)
    made.venv("lab-old")
    made.wheels.install(made.wheels.add("germkit", "1.0", {"germkit.py": "import zorkmid\n"}, ["zorkmid"]),
                        site_of(lab))
    made.wheels.install(made.wheels.add("seedling", "2.0"), site_of(made.home / "envs" / "lab-old"))
    kernel(made, "lab", python_of(lab))
    notebook(made.project / "a.ipynb", "lab", "import germkit\nimport seedling")
    write(made.project / "plan.py", "import json\nimport seedling\n")
    write(made.project / ".vscode" / "settings.json", json.dumps({"python.defaultInterpreterPath": python_of(lab)}))
    for name in os.environ:
        if name not in ("KALYX_COVERAGE", "KALYX_TESTS_SHARED", "PYTEST_CURRENT_TEST"):
            monkeypatch.delenv(name)
    for name, value in made.env.items():
        monkeypatch.setenv(name, value)
    monkeypatch.chdir(made.project)
    return made


# What is typed, the exit status, and words of the text
LINES = {
    "here": (1, ["shell", "lab"]), "here --verbose": (1, ["lab"]), "envs": (0, ["lab-old"]),
    "envs --has seedling": (0, ["lab-old"]), "envs --has nothing-of-that": (3, []), "kernels": (1, ["lab"]),
    "running": (0, []), "packages": (0, ["germkit"]), "packages --name g*": (0, ["germkit"]),
    "packages --conflicts": (1, ["zorkmid"]), "packages --at kernel:lab": (0, ["germkit"]),
    "why json": (0, ["json"]), "why germkit": (1, ["because", "zorkmid"]), "why seedling": (1, ["lab-old"]),
    "why seedling --verbose": (1, ["how we know"]), "why seedling --no-run": (1, ["not"]),
    "why seedling --compare env:lab-old": (1, ["lab-old"]), "why plan.py": (1, ["seedling"]),
    "why a.ipynb": (1, ["germkit", "seedling"]), "why json seedling germkit": (1, ["zorkmid"]),
    "why --explain dependency-absent": (0, ["dependency-absent"]),
    "why germkit --at notebook:a.ipynb": (1, ["zorkmid"]),
    "ask shell 1": (None, []), "fit plan.py": (0, ["lab-old"]), "fit a.ipynb": (1, []),
    "contrast env:lab env:lab-old": (1, ["germkit", "seedling"]), "contrast env:lab env:lab": (0, []),
    "weigh": (0, ["germkit"]), "weigh --envs": (0, ["lab-old"]), "enter lab --shell bash": (0, ["lab"]),
    "enrol lab --dry-run --overwrite": (1, []), "retire lab --dry-run": (0, ["lab"]),
    "make new --dry-run": (0, ["new"]),
    "put humidlog --dry-run": (1, []), "point a.ipynb --to kernel:lab --dry-run": (None, []),
    "mend germkit --dry-run": (None, ["zorkmid"]), "mend json": (0, []), "mend": (None, []),
    "snapshot --to s.json": (0, ["s.json"]), "report --to r.html": (1, ["r.html"]),
    "beacon germkit": (0, ["kalyx"]),
    "changes": (0, []), "undo": (3, []), "changes 7": (2, []), "frobnicate": (2, []), "why": (2, []),
    "why 'a b'": (2, []),
    "here nowhere": (3, []), "packages --at kernel:gone": (3, []), "weigh --at env:gone": (3, []),
    "fit nowhere.py": (3, []), "enter": (2, []), "enter gone": (3, []), "retire gone": (3, []),
    "ask kernel:gone 1": (3, []),
    "contrast env:lab env:gone": (3, []), "point plan.py --to env:lab": (None, []), "make . --dry-run": (1, []),
    "put --dry-run": (2, []), "--version": (0, ["kalyx 0."]), "--help": (0, list(COMMANDS)),
    "": (0, ["kalyx why pandas"]),
    "--completion bash": (0, ["complete"]), "why --help": (0, ["--no-run"]),
}
NO_DOCUMENT = ("--version", "--help", "", "--completion bash", "why --help", "frobnicate", "beacon germkit",
               "enter lab --shell bash")


@pytest.mark.parametrize("line", first_of_each(LINES, lambda n: (n.partition(" ")[0], LINES[n][0]), 1))
def test_each_command(line: str, place: World, capsys: pytest.CaptureFixture[str], validate) -> None:
    """The status is the documented one, in text and as a document; errors are a sentence; nothing is a mistake."""
    import shlex

    status, words = LINES[line]
    argv = shlex.split(line)
    code = run(argv)
    shown = capsys.readouterr()
    assert code == status or (status is None and code in (0, 1, 2, 3)), (code, shown.out[-400:], shown.err[-400:])
    assert all(word in shown.out for word in words), shown.out
    assert "mistake" not in shown.err and "Traceback" not in shown.out + shown.err
    assert shown.out or shown.err
    if code in (2, 3) and not shown.out:
        assert shown.err.startswith("kalyx: ") and "\n       " in shown.err
    if line in NO_DOCUMENT:
        return
    for file in ("s.json", "r.html"):
        (place.project / file).unlink(missing_ok=True)
    again = run([*argv, "--json"])
    document = json.loads(capsys.readouterr().out)
    assert again == code
    assert document["status"] in {0: ("ok",), 1: ("problem", "ok"), 2: ("error",), 3: ("unknown",)}[code]
    if document["command"]:
        validate(document)
    assert run([*argv, "--quiet"]) in (code, 1)
    assert len(capsys.readouterr().out.splitlines()) <= max(1, len(argv) - 1)  # one for each thing that was asked


def test_functions_of_python(place: World) -> None:
    """Each returns the record of its answer, and raises the documented errors."""
    assert {s.ref for s in kalyx.here().seats} >= {"shell", "notebook:" + str(place.project / "a.ipynb")}
    answer = kalyx.why("germkit", "json")
    assert [i.outcome for i in answer.imports] == ["fails", "imports"] and answer.status == "problem"
    assert answer.imports[0].causes[0].cause == "dependency-absent"
    assert kalyx.why("germkit", run=False).imports[0].outcome == "unknown"
    assert kalyx.why("plan.py").imports and kalyx.why("json", at="kernel:lab").status == "ok"
    assert {i.environment.name for i in kalyx.envs().environments} >= {"lab", "lab-old"}
    assert {d.name for d in kalyx.packages(name="g*").distributions} == {"germkit"}
    assert [k.kernel.name for k in kalyx.kernels().kernels if k.kernel.name == "lab"] == ["lab"]
    assert kalyx.fit("plan.py").status == "ok" and kalyx.contrast("env:lab", "env:lab-old").status == "problem"
    for call, error in ((lambda: kalyx.why(), kalyx.WrongUsage), (lambda: kalyx.why("a b"), kalyx.WrongUsage),
                        (lambda: kalyx.here("gone"), kalyx.NothingToJudge), (lambda: kalyx.fit(), kalyx.WrongUsage),
                        (lambda: kalyx.packages("env:gone"), kalyx.NothingToJudge)):
        with pytest.raises(error) as raised:
            call()
        assert raised.value.message and raised.value.hint
    assert dir(kalyx) == sorted(dir(kalyx)) and not hasattr(kalyx, "nothing_of_that_name")


def test_what_completes(place: World) -> None:
    """Seats, environments, kernels, modules, causes and files, as this machine has them."""
    known = completion._KNOWN
    assert {"shell", "lab"} <= set(known["SEAT"](prefix="")) and "kernel:lab" in known["SEAT"](prefix="kernel:")
    assert {"lab", "lab-old"} <= set(known["ENV"](prefix="")) and "lab" in known["KERNEL"](prefix="")
    assert {"germkit", "json", "plan.py", "a.ipynb"} <= set(known["MODULE"](prefix=""))
    assert "_abc" not in known["MODULE"](prefix="") and "_abc" in known["MODULE"](prefix="_a")
    assert "dependency-absent" in known["CAUSE"](prefix="")
    assert known["FILE"](prefix="pl") == ["plan.py"] and known["FILE"](prefix="no/where/") == []
    assert known["FOLDER"](prefix=f"{place.home}/env") == [f"{place.home}/envs/"]
    assert known["NAME"]() and not completion.is_asked_for()
    for shell in completion.SHELLS:
        assert "kalyx" in completion.shell_code(shell)


def test_own_modules_come_first(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The start folder and PYTHONPATH go from the path, in every spelling; Kalyx's own stays, whatever is named."""
    own = os.path.dirname(os.path.dirname(os.path.realpath(way_in.__file__)))
    (tmp_path / "link").symlink_to(tmp_path)
    monkeypatch.setattr(sys, "path", [str(tmp_path), own, "", str(tmp_path / "link"), "/usr/lib/x", f"{own}/../src"])
    monkeypatch.setenv("PYTHONPATH", os.pathsep.join(("", f"{tmp_path}/link/.", own)))
    way_in.secure_import_path()
    assert sys.path == ["/usr/lib/x", own]
    monkeypatch.setattr(sys, "path", ["/usr/lib/x"])
    monkeypatch.setenv("PYTHONPATH", "")
    way_in.secure_import_path()
    assert sys.path[-1] == own


def test_patience(monkeypatch: pytest.MonkeyPatch) -> None:
    """Where somebody watches it is said that it goes on, from time to time, but not while they are asked."""
    import time

    class Watched(io.StringIO):
        encoding = "utf-8"  # type: ignore[assignment]

        def isatty(self) -> bool:
            return True

    monkeypatch.setattr(patience, "FIRST", 0.02)
    monkeypatch.setattr(patience, "NEXT", 0.02)
    monkeypatch.setattr(sys, "stderr", Watched())
    with patience.asking(), patience.Patience("why"):
        time.sleep(0.15)
    assert sys.stderr.getvalue() == ""  # type: ignore[attr-defined]
    with patience.Patience("why"):
        time.sleep(0.3)
    assert "why: still at work after 0 s" in sys.stderr.getvalue()  # type: ignore[attr-defined]
    said = sys.stderr.getvalue()  # type: ignore[attr-defined]
    time.sleep(0.1)
    assert sys.stderr.getvalue() == said, "it ends with the command"  # type: ignore[attr-defined]
    monkeypatch.setattr(sys, "stderr", io.StringIO())
    with patience.Patience("why"):
        time.sleep(0.1)
    assert sys.stderr.getvalue() == ""


@pytest.mark.parametrize(("word", "known", "says"), [
    ("wyh", ["why", "here"], "why"), ("pack", ["packages"], "packages"), ("xx", ["why"], ""), ("WHY", ["why"], "why"),
    ("--jsno", ["--json", "--quiet"], "--json"), ("p", ["packages"], "")])
def test_what_was_meant(word: str, known: list[str], says: str) -> None:
    """The nearest known word is asked about; where none is near, nothing."""
    assert options.nearest(word, known, "kalyx ") == (f"Did you mean kalyx {says}?" if says else "")


@pytest.mark.parametrize(("text", "value"), [("5", 5.0), ("0.5", 0.5), ("0", None), ("-1", None), ("soon", None),
                                             ("nan", None), ("inf", None), ("86400", 86400.0), ("86401", None)])
def test_seconds(text: str, value: float | None) -> None:
    """A limit is a positive number of seconds, of a day at most."""
    import argparse

    if value is not None:
        assert options.seconds(text) == value
        return
    with pytest.raises(argparse.ArgumentTypeError, match=r"second|86400"):
        options.seconds(text)


def test_signals_end_us_wherever_they_come(monkeypatch: pytest.MonkeyPatch) -> None:
    """What is raised where Python ignores it comes again; what comes while a child is started waits for that."""
    from kalyx.core.machine import children

    class Late:
        def __del__(self) -> None:
            raise way_in.Ended(signal.SIGTERM)

    numbers = (signal.SIGTERM, signal.SIGHUP, signal.SIGINT)
    before = [signal.signal(n, signal.SIG_DFL if n != signal.SIGINT else signal.default_int_handler) for n in numbers]
    monkeypatch.setattr(sys, "unraisablehook", sys.unraisablehook)
    try:
        way_in.end_by_signals()
        for number in numbers:
            with pytest.raises(way_in.Ended) as ended:
                signal.raise_signal(number)
            assert ended.value.number == number
        with pytest.raises(way_in.Ended):
            Late()
            time.sleep(10)
        monkeypatch.setattr(children, "_is_starting", True)
        signal.raise_signal(signal.SIGHUP)
        assert children._held_back == [signal.SIGHUP]
    finally:
        children._held_back.clear()
        for number, handler in zip(numbers, before, strict=True):
            signal.signal(number, handler)
