"""Whatever is changed, in whatever order, and by whomever: what is taken back is as it was, to the letter."""

from __future__ import annotations

import os
import shutil
import stat
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from kalyx.core.changes.files import make_folder_with, missing_folders, read_regular, remove_temporary, write_file
from kalyx.core.changes.journal import Journal
from kalyx.core.changes.modes import is_mode, new_mode
from kalyx.core.changes.watched import Watched
from kalyx.core.errors import Refused
from kalyx.core.machine.local import RealMachine

EXAMPLES = settings(max_examples=int(os.environ.get("KALYX_EXAMPLES", "40")), deadline=None,
                    derandomize="KALYX_EXAMPLES" not in os.environ,
                    suppress_health_check=[HealthCheck.too_slow])
NAMES = ("a", "b.py", "c d", "é", "x/a", "x/y/b", "x/y/c")
FOLDERS = ("x", "x/y", "z")
TEXTS = ("", "1\n", "rows = 6\n", "é\u2028\n" * 9)
MODES = (0o600, 0o644, 0o755, 0o444, 0o400, 0o4755)


@contextmanager
def scratch() -> Iterator[Path]:
    """Give a new folder, and take it away whatever permissions are in it."""
    place = Path(tempfile.mkdtemp(prefix="kalyx-tests-"))
    try:
        yield place
    finally:
        subprocess.run(["chmod", "-R", "u+rwX", place], check=False)
        shutil.rmtree(place)


def lay_out(place: Path, files: dict[str, tuple[str, int]], links: dict[str, str]) -> None:
    """Write files with their permissions, and links."""
    for name, (text, mode) in files.items():
        (place / name).parent.mkdir(parents=True, exist_ok=True)
        (place / name).write_text(text)
        (place / name).chmod(mode)
    for name, target in links.items():
        if not os.path.lexists(place / name):
            (place / name).parent.mkdir(parents=True, exist_ok=True)
            (place / name).symlink_to(target)


def seen(place: Path) -> dict[str, object]:
    """Return all below a folder: kind, permissions, and content or target."""
    found: dict[str, object] = {}
    for path in sorted(place.rglob("*")):
        info = path.lstat()
        found[str(path.relative_to(place))] = (
            ("link", os.readlink(path)) if path.is_symlink() else
            ("folder", stat.S_IMODE(info.st_mode)) if path.is_dir() else
            ("file", stat.S_IMODE(info.st_mode), path.read_bytes()))
    return found


FILES = st.dictionaries(st.sampled_from(NAMES), st.tuples(st.sampled_from(TEXTS), st.sampled_from(MODES)), max_size=6)
LINKS = st.dictionaries(st.sampled_from(("l", "x/l")), st.sampled_from(("a", "nowhere", "x", "../a")), max_size=2)
STEPS = st.lists(st.tuples(st.sampled_from(("write", "remove", "rename", "aside", "let", "make")),
                           st.sampled_from((*NAMES, *FOLDERS, "l", "x/l", "new/deep/f")),
                           st.sampled_from((*NAMES, "x/n", "m")), st.sampled_from(TEXTS),
                           st.sampled_from(("u+rwX", "a+r", "g+x"))), max_size=7)


@EXAMPLES
@given(files=FILES, links=LINKS, steps=STEPS)
@example(files={"a": ("", 0o4755)}, links={}, steps=[("write", "a", "", "1", "")])
@example(files={"a": ("", 0o600)}, links={}, steps=[("rename", "a", "x/a", "", "")])
@example(files={"a": ("", 0o600), "b.py": ("", 0o600)}, links={}, steps=[
    ("remove", "b.py", "", "", ""), ("rename", "a", "b.py", "", "")])
@example(files={}, links={}, steps=[("write", "x/a", "", "", ""), ("rename", "x", "x/y/b", "", "")])
@example(files={}, links={}, steps=[("write", "x/y/b", "", "", ""), ("rename", "x/y", "a", "", ""),
                                    ("rename", "x", "x/y/b", "", "")])
@example(files={}, links={"l": "a"}, steps=[("write", "a", "", "", ""), ("remove", "a", "", "", ""),
                                            ("rename", "l", "a", "", ""), ("write", "a", "", "", "")])
def test_any_actions(files: dict[str, tuple[str, int]], links: dict[str, str],
                     steps: list[tuple[str, str, str, str, str]]) -> None:
    """One change of any actions, on the same files and folders too; what is refused leaves no trace."""
    with scratch() as root:
        place = root / "place"
        place.mkdir()
        lay_out(place, files, links)
        before = seen(place)
        journal = Journal(RealMachine({"HOME": str(root), "XDG_DATA_HOME": str(root / "data")}, str(root)))
        with journal.change("anything") as entry:
            for number, (do, name, other, text, words) in enumerate(steps):
                path, was = str(place / name), seen(place)
                try:
                    if do == "write":
                        entry.write_text(path, text)
                    elif do == "remove" and os.path.isfile(path):
                        entry.write_text(path, None)
                    elif do == "rename":
                        entry.rename(path, str(place / other))
                    elif do == "aside" and os.path.lexists(path):
                        entry.set_aside(path, str(root / f"kept-{number}"))
                    elif do == "let" and os.path.lexists(path):
                        entry.let(words, path, recursive=True)
                    elif do == "make" and not os.path.lexists(path) and os.path.isdir(os.path.dirname(path)):
                        entry.making(path, str(root / f"made-{number}"))
                        os.mkdir(path)
                        entry.was_made()
                except Refused:
                    assert seen(place) == was, (do, name)
        changes, broken = journal.entries()
        assert not broken
        for change in changes:
            journal.take_back(change)
        assert seen(place) == before


@EXAMPLES
@given(files=FILES, links=LINKS, after=FILES, others=LINKS, gone=st.sets(st.sampled_from((*NAMES, *FOLDERS))),
       in_place=st.booleans(), ended=st.booleans())
def test_another_program(files: dict[str, tuple[str, int]], links: dict[str, str], after: dict[str, tuple[str, int]],
                         others: dict[str, str], gone: set[str], in_place: bool, ended: bool) -> None:
    """What another program did in a folder, to its end or not, is put back; if it writes into files, by copies."""
    with scratch() as root:
        place = root / "place"
        place.mkdir()
        lay_out(place, files, links)
        before = seen(place)
        watched = Watched([str(place)], str(root / "store"))
        watched.keep(None, links=not in_place)
        for name in gone:
            path = place / name
            shutil.rmtree(path) if path.is_dir() and not path.is_symlink() else path.unlink(missing_ok=True)
        for name, (text, mode) in after.items():
            path = place / name
            if path.is_symlink() or path.is_dir() or any(p.is_symlink() or p.is_file() for p in path.parents):
                continue
            if not in_place and path.exists():
                path.unlink()
            lay_out(place, {name: (text, mode)} if not path.exists() else {}, {})
            if in_place and path.exists():
                path.chmod(0o644)
                path.write_text(text)
        lay_out(place, {}, {n: t for n, t in others.items() if (place / n).parent.is_dir()})
        if ended:
            watched.done()
        why = watched.why_not(undoing=False)
        assert not why, why
        watched.take_back()
        assert seen(place) == before
        watched.take_back()  # again: nothing is left to be done
        assert seen(place) == before


@EXAMPLES
@given(words=st.from_regex(r"[ugoa]{0,3}\+[rwxX]{1,3}", fullmatch=True), mode=st.integers(0, 0o777),
       is_folder=st.booleans(), mask=st.sampled_from((0o022, 0o077, 0)))
@example(words="+w", mode=0o400, is_folder=False, mask=0o022)
def test_modes_are_those_of_chmod(words: str, mode: int, is_folder: bool, mask: int) -> None:
    """A mode that is carried out gives the permissions that the same line gives when it is typed."""
    assert is_mode(words)
    with scratch() as root:
        path = root / "it"
        path.mkdir() if is_folder else path.touch()
        path.chmod(mode)
        was = os.umask(mask)
        try:
            subprocess.run(["chmod", words, path], check=False, stderr=subprocess.DEVNULL)
            assert new_mode(words, mode, is_folder=is_folder) == stat.S_IMODE(path.lstat().st_mode)
        finally:
            os.umask(was)


REFUSED: dict[str, tuple[Callable[[Path], object], str]] = {
    "a folder has that name": (lambda p: (p / "f").mkdir(), "f"),
    "a file where a folder should be": (lambda p: (p / "x").write_text("1"), "x/f"),
    "a link to itself": (lambda p: (p / "f").symlink_to("f"), "f"),
    "a name that is too long": (lambda p: None, "n" * 300),
}


@pytest.mark.parametrize("name", REFUSED)
def test_what_cannot_be_written(name: str, tmp_path: Path) -> None:
    """One error, with what to do, and nothing left beside it."""
    build, file = REFUSED[name]
    build(tmp_path)
    before = seen(tmp_path)
    with pytest.raises(Refused) as refused:
        write_file(str(tmp_path / file), b"1")
    assert refused.value.hint and seen(tmp_path) == before


def test_written_through_a_link_and_no_further(tmp_path: Path) -> None:
    """A link stays one, permissions stay, another name keeps what it had; only own leftovers are removed."""
    kept = tmp_path / "deep" / "settings"
    kept.parent.mkdir()
    kept.write_text("old")
    kept.chmod(0o640)
    os.link(kept, tmp_path / "second")
    (tmp_path / "link").symlink_to("deep/settings")
    write_file(str(tmp_path / "link"), b"new")
    assert (kept.read_text(), stat.S_IMODE(kept.stat().st_mode)) == ("new", 0o640)
    assert (tmp_path / "second").read_text() == "old"
    assert (tmp_path / "link").is_symlink() and sorted(p.name for p in kept.parent.iterdir()) == ["settings"]
    assert missing_folders(str(tmp_path / "a" / "b")) == [str(tmp_path / "a"), str(tmp_path / "a" / "b")]
    for name in ("deep", ".kalyx-1", ".kalyx-zzzzzzzzzzzzzzzz"):
        (tmp_path / name).mkdir(exist_ok=True)
        remove_temporary(str(tmp_path / name))
        assert (tmp_path / name).is_dir()
    with pytest.raises(Refused):
        make_folder_with(str(tmp_path / "deep"), {"f": b"1"}, str(tmp_path / ".kalyx-0123456789abcdef"))
    assert not (tmp_path / ".kalyx-0123456789abcdef").exists()
    os.mkfifo(tmp_path / "pipe")
    for odd in ("pipe", "deep", "none"):
        with pytest.raises(OSError):
            read_regular(str(tmp_path / odd))
