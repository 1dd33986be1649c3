"""What each command prints, held against its own document: on the demo's scenario, in every form."""

from __future__ import annotations

import json
import os
import re
import shlex
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from kalyx.demo.scenario import Scenario, build
from tests.support.build import KALYX
from tests.support.forked import Forked
from tests.support.thorough import first_of_each

MARKS = {"problem": ("◆", "[!]"), "ok": ("◇", "[ok]"), "unknown": ("◈", "[?]")}
NOTEBOOK = "notebook:germination.ipynb"
READS: list[tuple[str, ...]] = [
    ("here",), ("here", "--verbose"), ("here", "..", "--ask-shell"), ("here", "--running"),
    ("why", "humidlog"), ("why", "humidlog", "germkit", "csv"), ("why", "germkit", "--at", NOTEBOOK,
    "--verbose"),
    ("why", "seedscan"), ("why", "vaultmap", "--verbose"), ("why", "driftplot"), ("why", "old_course"),
    ("why", "skylog:daylight"), ("why", "json", "--at", "env:winter"), ("why", "seedlots"), ("why", "dewpoint"),
    ("why", "inventory.py"), ("why", "sowing.py", "--verbose"), ("why", "."), ("why", "germination.ipynb"),
    ("why", "humidlog", "--compare", "env:lab-old"), ("why", "--traceback", "visitor.txt"),
    ("why", "germkit", "--at", "kernel:greenhouse"), ("why", "humidlog", "--no-run"), ("why", "csv"),
    ("why", "csv", "--no-run"), ("why", "--explain", "foreign-abi"), ("why", "sporecount", "--at",
    "script:cold_room.py"),
    ("envs", "--under", "../envs"), ("envs", "--under", "../envs", "--verbose"), ("envs", "--under", "../envs",
    "--size"),
    ("envs", "--under", "../envs", "--has", "humidlog", "--python", ">=3"), ("packages", "--at", "env:field"),
    ("packages", "--at", NOTEBOOK, "--conflicts"), ("packages", "--at", "env:field", "--module", "humidlog"),
    ("packages", "--at", "env:field", "--size", "--verbose"), ("kernels",), ("kernels", "--verbose"),
    ("kernels", "--stale"), ("kernels", "--server", "env:lab-old"), ("running", "--under", "."), ("changes",),
    ("ask", "shell", "print(6 * 7)"), ("ask", "shell", "env:field", NOTEBOOK), ("ask", "env:winter", "1"),
    ("ask", "shell", "1/0"), ("put", "nothingofthatname", "--at", "env:lab", "--dry-run"),
    ("put", "seedaxis>=2", "--at", "env:lab", "--dry-run"), ("enrol", "lab", "--dry-run", "--overwrite"),
    ("enrol", "field", "--dry-run"), ("retire", "greenhouse", "--dry-run"), ("undo", "--dry-run"),
]


@pytest.fixture(scope="module")
def scenario(tmp_path_factory: pytest.TempPathFactory) -> Scenario:
    """Return the demo's scenario, built once; what is run here changes nothing in it."""
    return build(str(tmp_path_factory.mktemp("texts")))


@pytest.fixture(scope="module")
def said(scenario: Scenario, forked: Forked) -> Callable[..., tuple[int, str]]:
    """Return what runs a command in the scenario, and returns its status and what it printed."""
    def run_it(*argv: str, **env: str) -> tuple[int, str]:
        done = forked.run(argv, Path(scenario.project), {**scenario.env, "LANG": "C.UTF-8", **env})
        assert "Traceback (most" not in done.stderr, done.stderr
        return done.returncode, done.stdout

    return run_it


def findings(value: Any) -> Iterator[dict[str, Any]]:
    """Yield every finding in a document, as deep as it lies."""
    if isinstance(value, dict):
        if {"cause", "because", "evidence", "remedies"} <= set(value):
            yield value
        for inner in value.values():
            yield from findings(inner)
    elif isinstance(value, list):
        for inner in value:
            yield from findings(inner)


def plain(text: str) -> str:
    """Return a text in one line, without colours."""
    return " ".join(re.sub(r"\x1b\[[0-9;]*m", "", text).split())


LAID_OUT: set[tuple[str, int]] = set()  # the pages that this process has looked at in color, and in ASCII


def kind(argv: tuple[str, ...]) -> tuple[str, ...]:
    """Return what lines have in common that are laid out in the same way: their options, and what is asked about."""
    options = tuple(word for word in argv if word.startswith("--"))
    return (*argv[:1], *options, argv[1].rpartition(".")[2] if "." in argv[1] else "") if argv[0] == "why" else argv[:1]


@pytest.mark.parametrize("argv", first_of_each(READS, kind, 1), ids=" ".join)
def test_text_and_document(argv: tuple[str, ...], scenario: Scenario, said, validate) -> None:
    """The same status and causes; commands that can be copied; nothing lost in any of the forms."""
    home = scenario.env["HOME"]
    status, text = said(*argv)
    code, raw = said(*argv, "--json")
    if not text:  # refused: the sentence went to standard error
        assert code == status > 0 and json.loads(raw)["result"]["message"]
        return
    document = json.loads(raw)
    validate(document)
    assert code == status == {"ok": 0, "problem": 1, "unknown": 3}.get(document["status"], 2)
    rows = text.splitlines()
    assert "\n\n\n" not in text and not [r for r in rows if r != r.rstrip()]
    shown = document["result"]
    if argv[1:2] != ("--explain",):
        assert rows[0].startswith(MARKS[document["status"]][0]), rows[0]
    told = [f for f in findings(shown) if f["severity"] == "error"]
    if argv[0] == "why" and told and not shown.get("groups"):
        first = told[0]
        assert plain(first["because"].replace(home + os.sep, "~/")) in plain(text), text
        commands = [r.split("$ ", 1)[1] for r in rows if r.strip().startswith("$ ")]
        for remedy in first["remedies"]:
            if remedy["argv"] and ":\\" not in remedy["argv"][0]:  # Windows has other quotes
                words = shlex.split(remedy["argv"][2]) if remedy["argv"][:2] == ["sh", "-c"] else remedy["argv"]
                words = ["kalyx", *words[1:]] if words[0] == KALYX else words
                assert [os.path.expanduser(w) if w.startswith("~") else w for w in words] in [
                    [w.replace("~/", home + "/", 1) if w.startswith("~/") else w for w in shlex.split(c)]
                    for c in commands], (remedy, commands)
    kept = {r for r in rows if not r.strip().startswith(("- ", "+ "))}
    assert not [r for r in kept if re.search(re.escape(home) + r"(?=/|$)", r)], text
    _, quiet = said(*argv, "--quiet")
    assert set(quiet.splitlines()) <= set(rows) and len(quiet.splitlines()) <= len(rows)
    if argv[0] in ("ask", "here", "running", "changes") or (argv[0], code) in LAID_OUT:
        return  # times and process numbers differ from run to run; or the same page was looked at
    LAID_OUT.add((argv[0], code))
    colored = said(*argv, "--color", "always")[1]
    assert [r.rstrip() for r in re.sub(r"\x1b\[[0-9;]*m", "", colored).splitlines()] == rows
    ascii_only = said(*argv, PYTHONIOENCODING="ascii")[1]
    assert ascii_only.isascii() and len(ascii_only.splitlines()) == len(rows)
    assert argv[1:2] == ("--explain",) or ascii_only.startswith(MARKS[document["status"]][1])


def test_nothing_was_changed(scenario: Scenario, said) -> None:
    """After all that was read, the scenario is as it was built."""
    journal = Path(scenario.env["HOME"], ".local/share/kalyx")
    assert not journal.exists() or not any(journal.rglob("*.json"))
    assert not list(Path(scenario.project).rglob("*.pyc"))
