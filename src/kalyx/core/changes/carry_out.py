"""Carries a remedy out, each thing that it changes noted in the journal before."""

from __future__ import annotations

import os

from kalyx.core.changes.actions import text_of
from kalyx.core.errors import Refused

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.changes.journal import Entry
    from kalyx.core.model import Edit, Remedy

__all__ = ["check_edits", "do_edits", "do_file_command", "is_file_command"]

_FILE_COMMANDS = ("rm", "mv", "cp")  # that remedies name, with what they mean on every system


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
    """Whether a command line is one that takes away, renames or copies a file, which needs no program."""
    return bool(argv) and argv[0] in _FILE_COMMANDS and len([w for w in argv[1:] if not w.startswith("-")]) in (1, 2)


def do_file_command(entry: Entry, argv: tuple[str, ...], kept: str) -> None:
    """Do what a command that takes away, renames or copies a file would do; what goes is `kept`.

    Raises:
        Refused: it is not there, or cannot be moved.
    """
    import shutil

    words = [w for w in argv[1:] if not w.startswith("-")]
    if argv[0] == "rm":
        entry.set_aside(words[0], kept)
        return
    source, target = words
    if os.path.isdir(target):
        target = os.path.join(target, os.path.basename(source))
    if argv[0] == "mv":
        entry.rename(source, target)
        return
    if os.path.lexists(target):
        entry.set_aside(target, kept)
    entry.making(target, f"{kept}-copy")
    try:
        if os.path.isdir(source):
            shutil.copytree(source, target, symlinks=True)
        else:
            shutil.copy2(source, target)
    except OSError as error:
        entry.take_back_last()
        raise Refused(f"{target} cannot be written: {error}.", "See to it that it is yours to write.") from None
    entry.was_made()
