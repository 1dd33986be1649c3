"""Carries a remedy out, each thing that it changes noted in the journal before."""

from __future__ import annotations

import os
from itertools import pairwise

from kalyx.core.changes.modes import is_mode
from kalyx.core.errors import Refused

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.changes.entry import Entry
    from kalyx.core.model import Edit, Remedy

__all__ = ["OWN_COMMANDS", "check_edits", "do_edits", "do_file_command", "is_file_command",
           "rewritten_files", "why_not_carried_out"]

_INSTALLERS = ("pip", "venv", "ensurepip")
OWN_COMMANDS = ("enrol", "make", "retire")  # Kalyx's own that can be a part of another change
# What changes the system, so that Kalyx could not take it back: that is done by the person
_SYSTEMS = ("apt-get", "apt", "dnf", "yum", "zypper", "apk", "pacman", "brew", "sudo", "icacls", "cmd")
# What remedies name, with what it means on every system; the words of Windows' own shell are those of it
_FILE_COMMANDS = ("rm", "mv", "cp", "ln", "chmod")
_OF_WINDOWS: dict[tuple[str, ...], str] = {("cmd", "/c", "del"): "rm", ("cmd", "/c", "rmdir"): "rm"}


def why_not_carried_out(remedy: Remedy, own: tuple[str, ...]) -> str:
    """Return why a remedy is not carried out by Kalyx; empty where it can be. `own` is how Kalyx itself is started."""
    if remedy.kind == "manual":
        return "it is for a person to do"
    if remedy.is_trial:
        return "it shows the way, and changes nothing"
    if remedy.argv and os.path.basename(remedy.argv[0]) in _SYSTEMS and not is_file_command(remedy.argv):
        return f"what {remedy.argv[0]} does could not be taken back: that is for you to run"
    if remedy.argv and own != remedy.argv[:len(own)] and not (
            is_file_command(remedy.argv) or rewritten_files(remedy.argv) or _for_an_environment(remedy.argv)):
        return "what it changes could not be taken back: that is for you to run"
    words = remedy.argv[len(own):] if own and own == remedy.argv[:len(own)] else ()
    if words and words[0] not in OWN_COMMANDS:
        return "it is a command of its own: that is for you to run"
    return ""


def rewritten_files(argv: tuple[str, ...]) -> list[str]:
    """Return the files that a line of code, given to an interpreter, writes anew; they stand behind it."""
    if "-c" not in argv[:-2] or argv[:2] == ("sh", "-c"):
        return []
    files = list(argv[argv.index("-c") + 2:])
    return files if files and os.path.isfile(files[0]) and all(map(os.path.isabs, files)) else []


def _for_an_environment(argv: tuple[str, ...]) -> bool:
    """Whether a command line changes an environment, and nothing else: what it does there is kept track of."""
    words = " ".join(argv).replace("'", "").split()
    return words[0] == "conda" or any(m in _INSTALLERS for flag, m in pairwise(words) if flag == "-m")


def check_edits(remedy: Remedy) -> None:
    """See that everything stands where an edit expects it.

    Raises:
        Refused: a file is not there, has changed, or holds the text more than once.
    """
    for move in remedy.moves:
        if not os.path.lexists(move.path) or os.path.lexists(move.to):
            raise Refused(f"{move.path} is not there any more." if not os.path.lexists(move.path) else
                          f"{move.to} is there already.", "Nothing was changed.")
    gone = {move.path for move in remedy.moves}
    for edit in remedy.edits:
        if edit.path not in gone:
            _new_text(edit)


def _new_text(edit: Edit) -> str | None:
    """Return what an edit makes of its file; None where it takes it away.

    Raises:
        Refused: the file is not as the edit expects it.
    """
    from kalyx.core.changes.actions import text_of  # answers ask only what can be carried out

    now = text_of(edit.path)
    if edit.before is None:
        if now is not None:
            raise Refused(f"{edit.path} is there already.", "Nothing was changed.")
        return edit.after
    if now is None or now.startswith("\0"):
        raise Refused(f"{edit.path} {'is not there any more' if now is None else 'is no text, or cannot be read'}.",
                      "Nothing was changed.")
    if now.count(edit.before) != 1:
        raise Refused(f"{edit.path} has changed: what is to be replaced stands in it {now.count(edit.before)} times.",
                      "Nothing was changed. Ask again.")
    return None if edit.after is None else now.replace(edit.before, edit.after)


def do_edits(entry: Entry, remedy: Remedy) -> None:
    """Carry out an edit: its renames, then its changes of text. All of it, or nothing.

    Raises:
        Refused: something is not as it was expected, or cannot be written.
    """
    check_edits(remedy)
    known = len(entry.change.actions)
    try:
        for move in remedy.moves:
            entry.rename(move.path, move.to)
        for edit in remedy.edits:
            entry.write_text(edit.path, _new_text(edit))
    except Refused:
        while len(entry.change.actions) > known:
            entry.take_back_last()
        raise


def is_file_command(argv: tuple[str, ...]) -> bool:
    """Whether a command line takes away, renames or copies a file, or lets it be read: that needs no program."""
    name, words = _file_command(argv)
    return name in _FILE_COMMANDS and len(words) == (1 if name == "rm" else 2) and (
        name != "chmod" or is_mode(words[0]))


def _file_command(argv: tuple[str, ...]) -> tuple[str, list[str]]:
    """Return the name of a command and its words without options."""
    name = _OF_WINDOWS.get(tuple(argv[:3]))
    if name is not None:
        return name, [w for w in argv[3:] if not w.startswith("/")]
    return argv[0] if argv else "", [w for w in argv[1:] if not w.startswith("-")]


def do_file_command(entry: Entry, argv: tuple[str, ...], kept: str) -> None:
    """Do what a command that takes away, renames or copies a file, or lets it be read, would do; what goes is `kept`.

    Raises:
        Refused: it is not there, or cannot be moved.
    """
    import shutil

    name, words = _file_command(argv)
    if name == "rm":
        entry.set_aside(words[0], kept)
        return
    source, target = words
    if name == "chmod":
        entry.let(source, target, recursive="-R" in argv)
        return
    if os.path.isdir(target) and name != "ln":
        target = os.path.join(target, os.path.basename(source))
    if name == "mv":
        entry.rename(source, target)
        return
    if os.path.lexists(target):
        entry.set_aside(target, kept)
    entry.making(target, f"{kept}-copy")
    try:
        if name == "ln":
            os.symlink(source, target)
        elif os.path.isdir(source):
            shutil.copytree(source, target, symlinks=True)
        else:
            shutil.copy2(source, target)
    except OSError as error:
        entry.take_back_last()
        raise Refused(f"{target} cannot be written: {error}.", "See to it that it is yours to write.") from None
    entry.was_made()
