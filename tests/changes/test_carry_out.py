"""What of a remedy is carried out and what is left to a person; each kind done, disturbed and taken back."""

from __future__ import annotations

import os
import shutil
import stat
from collections.abc import Callable
from pathlib import Path

import pytest

from kalyx.core.changes.actions import free_place, is_action, kept_bytes
from kalyx.core.changes.carry_out import (
    check_edits,
    do_edits,
    do_file_command,
    is_file_command,
    rewritten_files,
    why_not_carried_out,
)
from kalyx.core.changes.files import missing_folders, place_to_write, temporary_near
from kalyx.core.changes.journal import Change, Journal
from kalyx.core.changes.modes import give_back
from kalyx.core.errors import Refused
from kalyx.core.machine.local import RealMachine
from kalyx.core.model import Edit, Move, Remedy

OWN = ("/opt/python", "-m", "kalyx")


def command(*argv: str, **more: object) -> Remedy:
    """Return a remedy that is a command."""
    return Remedy("Do it.", "command", argv=argv, **more)  # type: ignore[arg-type]


WHOSE = {
    "for a person": (Remedy("Restart it.", "manual"), "for a person"),
    "a trial": (command("/e/python", "-m", "pip", "install", "x", is_trial=True), "changes nothing"),
    "packages of the system": (command("apt-get", "install", "libx"), "apt-get does could not be taken back"),
    "by its whole path": (command("/usr/bin/dnf", "install", "x"), "could not be taken back"),
    "as administrator": (command("sudo", "rm", "/x"), "could not be taken back"),
    "another program": (command("/usr/bin/make", "all"), "could not be taken back"),
    "a shell's line": (command("sh", "-c", "rm -rf /x"), "could not be taken back"),
    "pip": (command("/e/bin/python", "-m", "pip", "install", "x"), ""),
    "pip of another": (command("/b/python", "-I", "-m", "pip", "--python", "/e", "install", "x"), ""),
    "venv": (command("/b/python", "-m", "venv", "/e"), ""),
    "its own pip": (command("/e/bin/python", "-m", "ensurepip"), ""),
    "another module": (command("/e/bin/python", "-m", "this"), "could not be taken back"),
    "pip as a word": (command("/e/bin/python", "pip"), "could not be taken back"),
    "a shell's line with pip": (command("sh", "-c", "'/e/python' '-m' 'pip' 'install' 'x'"), ""),
    "conda": (command("conda", "install", "-p", "/e", "x"), ""),
    "enrol": (command(*OWN, "enrol", "/e"), ""), "make": (command(*OWN, "make", "/e"), ""),
    "retire": (command(*OWN, "retire", "lab"), ""),
    "undo": (command(*OWN, "undo"), "a command of its own"),
    "mend": (command(*OWN, "mend", "x"), "a command of its own"),
    "another Kalyx": (command("/other/kalyx", "enrol", "/e"), "could not be taken back"),
    "a file away": (command("rm", "/w/json.py"), ""), "with an option": (command("rm", "-f", "/w/json.py"), ""),
    "two files away": (command("rm", "/a", "/b"), "could not be taken back"),
    "another name": (command("mv", "/a", "/b"), ""), "a copy": (command("cp", "-r", "/a", "/b"), ""),
    "a link": (command("ln", "-s", "/a", "/b"), ""), "rights": (command("chmod", "-R", "u+rwX", "/a"), ""),
    "rights by number": (command("chmod", "777", "/a"), "could not be taken back"),
    "away on Windows": (command("cmd", "/c", "del", "/q", "C:\\a"), ""),
    "a folder away on Windows": (command("cmd", "/c", "rmdir", "/s", "/q", "C:\\a"), ""),
    "another line of cmd": (command("cmd", "/c", "format", "C:"), "could not be taken back"),
    "rights on Windows": (command("icacls", "C:\\a", "/reset"), "could not be taken back"),
    "an edit": (Remedy("Edit it.", "edit", edits=(Edit("/a", "x", "y"),)), ""),
}


@pytest.mark.parametrize("name", WHOSE)
def test_who_carries_it_out(name: str) -> None:
    """What can be taken back is carried out; of all else it is said why not."""
    remedy, says = WHOSE[name]
    why_not = why_not_carried_out(remedy, OWN)
    assert says in why_not if says else why_not == ""
    assert is_file_command(remedy.argv) == (bool(remedy.argv) and not says and (
        remedy.argv[0] in ("rm", "mv", "cp", "ln", "chmod") or remedy.argv[:2] == ("cmd", "/c")))


def test_code_that_writes_files(tmp_path: Path) -> None:
    """A line of code with the files that it writes behind it can be taken back; any other cannot."""
    file = tmp_path / "a.py"
    file.write_text("")
    code = (str(tmp_path / "python"), "-c", "...")
    assert rewritten_files((*code, str(file))) == [str(file)]
    for argv in (code, (*code, "a.py"), (*code, str(tmp_path / "b.py")), (*code, str(file), "b.py"),
                 ("sh", "-c", "x", str(file)), (str(tmp_path / "python"), str(file))):
        assert rewritten_files(argv) == [], argv
    assert why_not_carried_out(command(*code, str(file)), OWN) == "" != why_not_carried_out(command(*code), OWN)


# -- done, and taken back --------------------------------------------------------------------------
def seen(folder: Path) -> dict[str, object]:
    """Return all below a folder: permissions, and content or where a link leads."""
    return {str(p.relative_to(folder)): (os.readlink(p) if p.is_symlink() else (
        stat.S_IMODE(p.stat().st_mode), p.read_bytes() if p.is_file() else None)) for p in sorted(folder.rglob("*"))}


@pytest.fixture
def place(tmp_path: Path) -> Path:
    """Return a folder with files, a folder and a link in it."""
    folder = tmp_path / "w"
    (folder / "lib" / "deep").mkdir(parents=True)
    for name, text in (("a.py", "one\ntwo\none\n"), ("b.py", "x = 1\n"), ("lib/c.py", "c\n"), ("lib/deep/d", "d\n")):
        (folder / name).write_text(text)
    (folder / "b.py").chmod(0o640)
    (folder / "lib" / "deep").chmod(0o700)
    (folder / "link").symlink_to("b.py")
    (folder / "bytes").write_bytes(b"\xff\xfe\0")
    return folder


def journal_of(place: Path) -> Journal:
    """Return a journal of its own for what is changed in a folder."""
    root = place.parent
    return Journal(RealMachine({"HOME": str(root), "XDG_DATA_HOME": str(root / "data")}, str(place)))


def edit(place: Path, moves: list, edits: list) -> Remedy:
    """Return a remedy that gives files of a folder other names, and then changes texts."""
    return Remedy("Edit.", "edit", edits=tuple(Edit(str(place / f), b, a) for f, b, a in edits),
                  moves=tuple(Move(str(place / f), str(place / t)) for f, t in moves))


EDITS = {
    "a line": ([], [("b.py", "x = 1", "x = 2")], {"b.py": "x = 2\n"}),
    "two files": ([], [("a.py", "two", "2"), ("lib/c.py", "c", "3")], {"a.py": "one\n2\none\n", "lib/c.py": "3\n"}),
    "a new file": ([], [("new/e.toml", None, "[x]\n")], {"new/e.toml": "[x]\n"}),
    "a file away": ([], [("b.py", "x = 1\n", None)], {"b.py": None}),
    "another name": ([("b.py", "beds.py")], [], {"b.py": None, "beds.py": "x = 1\n"}),
    "a new file in its place": ([("b.py", "beds.py")], [("b.py", None, "new\n")],
                                {"beds.py": "x = 1\n", "b.py": "new\n"}),
    "through a link": ([], [("link", "x = 1", "x = 3")], {"b.py": "x = 3\n"}),
    "a folder's name": ([("lib", "library")], [], {"library/c.py": "c\n", "lib/c.py": None}),
}


@pytest.mark.parametrize("name", EDITS)
def test_edits(name: str, place: Path) -> None:
    """They are done in order, permissions and links stay, and taking them back leaves everything as it was."""
    moves, edits, expected = EDITS[name]
    remedy, before, journal = edit(place, moves, edits), seen(place), journal_of(place)
    check_edits(remedy)
    with journal.change("edit") as entry:
        do_edits(entry, remedy)
    for file, text in expected.items():
        assert ((place / file).read_text() if (place / file).exists() else None) == text
    assert (place / "link").is_symlink()
    if "beds.py" not in expected and (place / "b.py").exists():
        assert stat.S_IMODE((place / "b.py").stat().st_mode) == 0o640
    journal.take_back(journal.find(None))
    assert seen(place) == before


WRONG = {
    "not there": ([], [("none.py", "x", "y")], "none.py is not there any more"),
    "there already": ([], [("b.py", None, "y")], "b.py is there already"),
    "changed": ([], [("b.py", "x = 5", "y")], "stands in it 0 times"),
    "twice": ([], [("a.py", "one", "y")], "stands in it 2 times"),
    "no text": ([], [("bytes", "x", "y")], "is no text"),
    "a folder": ([], [("lib", "x", "y")], "is no text"),
    "name gone": ([("none.py", "n.py")], [], "none.py is not there any more"),
    "name taken": ([("b.py", "a.py")], [], "a.py is there already"),
    "the second": ([("lib", "library")], [("b.py", "x = 1", "y"), ("a.py", "one", "y")], "2 times"),
    "below a file": ([], [("b.py", "x = 1", "y"), ("a.py/new", None, "y")], "a.py"),
}


@pytest.mark.parametrize("name", WRONG)
def test_what_is_not_as_it_was(name: str, place: Path) -> None:
    """All of an edit or nothing of it: what an earlier part did is taken back when a later one cannot be."""
    moves, edits, says = WRONG[name]
    remedy, before, journal = edit(place, moves, edits), seen(place), journal_of(place)
    with pytest.raises(Refused) as refused, journal.change("edit") as entry:
        do_edits(entry, remedy)
    assert says in refused.value.message and seen(place) == before
    assert not [c for c in journal.entries()[0] if c.actions]


COMMANDS = {
    "a file away": (("rm", "-f", "b.py"), {"b.py": None}), "a folder away": (("rm", "-r", "lib"), {"lib/c.py": None}),
    "another name": (("mv", "b.py", "beds.py"), {"b.py": None, "beds.py": "x = 1\n"}),
    "into a folder": (("mv", "b.py", "lib"), {"b.py": None, "lib/b.py": "x = 1\n"}),
    "a copy": (("cp", "b.py", "e.py"), {"b.py": "x = 1\n", "e.py": "x = 1\n"}),
    "a copy over a file": (("cp", "-f", "b.py", "a.py"), {"a.py": "x = 1\n"}),
    "a copy into a folder": (("cp", "b.py", "lib"), {"lib/b.py": "x = 1\n"}),
    "a copy of a folder": (("cp", "-r", "lib", "library"), {"library/deep/d": "d\n", "lib/c.py": "c\n"}),
    "a link": (("ln", "-s", "b.py", "f.py"), {"f.py": "x = 1\n"}),
    "a link over a file": (("ln", "-sfn", "b.py", "a.py"), {"a.py": "x = 1\n"}),
    "rights": (("chmod", "a+r", "b.py"), {"b.py": "x = 1\n"}),
    "rights of a folder": (("chmod", "-R", "a+rX", "lib"), {"lib/deep/d": "d\n"}),
}


@pytest.mark.parametrize("name", COMMANDS)
def test_commands_on_files(name: str, place: Path) -> None:
    """They do what the line would do that is typed, what goes is kept, and all of it can be taken back."""
    argv, expected = COMMANDS[name]
    argv = tuple(str(place / w) if "." in w or w in ("lib", "library") else w for w in argv)
    if name.startswith("a link"):  # where it leads is written as it is given
        argv = (*argv[:2], "b.py", argv[3])
    before, journal = seen(place), journal_of(place)
    with journal.change("command") as entry:
        do_file_command(entry, argv, str(place.parent / "kept" / "it"))
    for file, text in expected.items():
        assert ((place / file).read_text() if (place / file).is_file() else None) == text, file
    if argv[0] == "chmod":
        assert seen(place)["b.py" if "-R" not in argv else "lib/deep"][0] in (0o644, 0o755)  # type: ignore[index]
    assert seen(place) != before
    journal.take_back(journal.find(None))
    assert seen(place) == before
    for bad in (("rm", str(place / "none")), ("mv", str(place / "none"), str(place / "x")),
                ("cp", str(place / "none"), str(place / "x"))):
        with pytest.raises(Refused), journal.change("command") as entry:
            do_file_command(entry, bad, str(place.parent / "kept" / "other"))
        assert seen(place) == before


# What somebody else does between a change and its undo: the change, the deed, what is said (empty: it is taken back)
MEANWHILE: dict[str, tuple[tuple[str, ...], Callable[[Path], object], str]] = {
    "written file changed": (("write", "b.py"), lambda p: (p / "b.py").write_text("mine\n"), "was changed since"),
    "written file gone": (("write", "b.py"), lambda p: (p / "b.py").unlink(), "was taken away since"),
    "new file changed": (("write", "new.py"), lambda p: (p / "new.py").write_text("mine\n"), "was changed since"),
    "file beside it": (("write", "new/e.py"), lambda p: (p / "new" / "mine").write_text(""), ""),
    "name taken again": (("rename", "b.py", "beds.py"), lambda p: (p / "b.py").write_text("mine\n"), "is there again"),
    "renamed file gone": (("rename", "b.py", "beds.py"), lambda p: (p / "beds.py").unlink(), "is gone"),
    "another in its place": (("rename", "b.py", "beds.py"), lambda p: (
        (p / "beds.py").rename(p / "x"), (p / "beds.py").write_text("mine\n")), "another thing"),
    "aside, and there again": (("aside", "b.py"), lambda p: (p / "b.py").write_text("mine\n"), "is there again"),
    "what was kept is gone": (("aside", "b.py"), lambda p: shutil.rmtree(p.parent / "kept"), "is gone"),
    "rights changed": (("let", "lib/deep"), lambda p: (p / "lib/deep").chmod(0o711), "were changed since"),
    "rights of what is gone": (("let", "lib/deep"), lambda p: shutil.rmtree(p / "lib/deep"), ""),
    "made folder gone": (("make", "made"), lambda p: (p / "made").rmdir(), "is gone already"),
    "made folder another": (("make", "made"), lambda p: ((p / "made").rename(p / "x"), (p / "made").mkdir()),
                            "another thing"),
    "made folder filled": (("make", "made"), lambda p: (p / "made" / "mine").write_text(""), ""),
}


@pytest.mark.parametrize("name", MEANWHILE)
def test_what_others_did_meanwhile(name: str, place: Path) -> None:
    """What is not as the change left it is not written over: it is said, and everything stays; else it is undone."""
    (do, *words), disturb, says = MEANWHILE[name]
    paths, journal = [str(place / w) for w in words], journal_of(place)
    with journal.change("something") as entry:
        if do == "write":
            entry.write_text(paths[0], "new\n")
        elif do == "rename":
            entry.rename(*paths)
        elif do == "aside":
            entry.set_aside(paths[0], str(place.parent / "kept" / "b.py"))
        elif do == "let":
            entry.let("a+rX", paths[0], recursive=True)
        else:
            entry.making(paths[0], str(place.parent / "kept" / "made"))
            os.mkdir(paths[0])
            entry.was_made()
    disturb(place)
    now = seen(place)
    if not says:
        journal.take_back(journal.find(None))
        assert seen(place) != now or "gone" in name
        return
    with pytest.raises(Refused) as refused:
        journal.take_back(journal.find(None))
    assert says in refused.value.message + refused.value.hint and seen(place) == now


ACTIONS = [
    ({"do": "file", "path": "/a", "before": None, "after": "x"}, True),
    ({"do": "file", "path": "/a", "before": "x", "after": None, "mode": 0o644, "folders_made": ["/b"]}, True),
    ({"do": "file", "path": "a", "before": None, "after": "x"}, False), ({"do": "file"}, False),
    ({"do": "file", "path": "/a", "before": 5, "after": "x"}, False),
    ({"do": "file", "path": "/a", "before": "x", "after": "y", "mode": "644"}, False),
    ({"do": "file", "path": "/a", "before": "x", "after": "y", "folders_made": "/b"}, False),
    ({"do": "file", "path": "/a", "before": "x", "after": "y", "folders_made": [5]}, False),
    ({"do": "rename", "path": "/a", "to": "/b"}, True), ({"do": "rename", "path": "/a", "to": "b"}, False),
    ({"do": "aside", "path": "/a", "kept": "/b"}, True), ({"do": "aside", "path": "/a"}, False),
    ({"do": "modes", "path": "/a", "before": {"/a": 1}, "after": {"/a": 2}}, True),
    ({"do": "modes", "path": "/a", "before": {"/a": True}, "after": {}}, False),
    ({"do": "modes", "path": "/a", "before": [], "after": {}}, False),
    ({"do": "installed", "prefix": "/e", "store": "/s", "folders": [], "alone": ["/x"]}, True),
    ({"do": "installed", "prefix": "/e", "store": "s", "folders": []}, False),
    ({"do": "remove", "path": "/a"}, False), ([], False), (None, False), ("file", False),
]


@pytest.mark.parametrize("number", range(len(ACTIONS)))
def test_what_is_an_action(number: int) -> None:
    """What a journal holds is taken for an action only with all that it must have, of the right kinds."""
    action, is_one = ACTIONS[number]
    assert is_action(action) is is_one


def test_places(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Free names, folders that lack, and where something is built; a name that starts at a folder that is gone."""
    (tmp_path / "a").write_text("x" * 9000)
    (tmp_path / "a-2").mkdir()
    assert free_place(str(tmp_path / "a")) == str(tmp_path / "a-3") and free_place("/nowhere/x") == "/nowhere/x"
    assert missing_folders(str(tmp_path / "b" / "c")) == [str(tmp_path / "b"), str(tmp_path / "b" / "c")]
    assert missing_folders(str(tmp_path)) == []
    assert os.path.dirname(temporary_near(str(tmp_path / "b" / "c" / "d"))) == str(tmp_path)
    assert os.path.dirname(temporary_near(str(tmp_path / "k" / "lab"))) == str(tmp_path)
    kept = kept_bytes({"do": "aside", "kept": str(tmp_path)})
    assert 9000 <= kept <= 20_000
    os.link(tmp_path / "a", tmp_path / "b")
    assert kept_bytes({"do": "aside", "kept": str(tmp_path)}) == 0, "what has another name too takes nothing more"
    gone = tmp_path / "gone"
    gone.mkdir()
    monkeypatch.chdir(gone)
    machine = RealMachine({"HOME": str(tmp_path)}, str(gone))
    gone.rmdir()
    assert place_to_write(machine, str(tmp_path / "x")) == str(tmp_path / "x")
    with pytest.raises(Refused, match="was deleted"):
        place_to_write(machine, "x")
    give_back({str(tmp_path / "none"): 0o644})
    assert not (tmp_path / "none").exists()


def test_what_a_change_tells() -> None:
    """Files are told with their texts, what was moved with both places; what is gone of it keeps nothing."""
    change = Change(3, "2026-11-29T10:00:00+00:00", "put x", "done", (
        {"do": "file", "path": "/a", "before": None, "after": "x"}, {"do": "rename", "path": "/b", "to": "/c"},
        {"do": "aside", "path": "/d", "kept": "/nowhere/kept"}))
    assert change.files == ({"path": "/a", "before": None, "after": "x"},)
    assert [(m["path"], m.get("to") or m.get("kept")) for m in change.moves] == [("/b", "/c"), ("/d", "/nowhere/kept")]
    assert (change.installed, change.bytes_kept) == ((), 0)
    assert change.to_json()["number"] == 3
