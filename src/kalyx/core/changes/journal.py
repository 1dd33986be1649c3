"""The journal: what Kalyx changed, with what was there before, and how to take it back."""

from __future__ import annotations

import json
import os
import shutil
from contextlib import contextmanager
from datetime import datetime, timezone

from kalyx.core.changes.actions import (
    free_place,
    identity,
    is_action,
    remove_if_empty,
    take_back,
    why_not,
)
from kalyx.core.changes.entry import Change, Entry
from kalyx.core.changes.files import (
    read_regular,
    remove_temporary,
    write_file,
)
from kalyx.core.changes.lock import Lock
from kalyx.core.errors import NothingToJudge, Refused
from kalyx.core.facts.configuration.own_files import RETIRED, user_folder
from kalyx.core.lean.record import replace
from kalyx.core.masks import masked

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator

    from kalyx.core.machine.interface import Machine

__all__ = ["RETIRED", "Change", "Entry", "Journal", "journal_folder", "kept_beside"]

STATES = ("begun", "done", "undoing", "undone", "forgotten")


def kept_beside(path: str) -> str:
    """Return where a folder is kept that is set aside: beside it, where no rename leads to another device."""
    return free_place(os.path.join(os.path.dirname(path), f".{os.path.basename(path).lstrip('.')}{RETIRED}"))


def journal_folder(machine: Machine) -> str:
    """Return the folder of the journal: the platform's place for a user's own data."""
    return str(machine.path.join(user_folder(machine, "data"), "journal"))


class Journal:
    """Makes changes and writes down how to take them back.

    An entry is there, as ``begun``, before anything is touched, and is ``done`` after it; it is ``undoing`` while it
    is taken back. A kill in between leaves something to go by, and each state can be gone on from.
    """

    def __init__(self, machine: Machine) -> None:
        self.folder = journal_folder(machine)

    # -- reading ---------------------------------------------------------------------------
    def entries(self) -> tuple[list[Change], list[str]]:
        """Return all entries, the oldest first, and the files that cannot be read as one."""
        found, broken = [], []
        try:
            names = sorted(os.listdir(self.folder))
        except OSError:
            return [], []
        for name in names:
            if not (name.endswith(".json") and name[:-5].isascii() and name[:-5].isdecimal()):
                continue
            try:
                data = read_regular(os.path.join(self.folder, name))
                if not data:  # its number was taken, and nothing was done: it was killed then
                    continue
                change = _change_of(json.loads(data.decode("utf-8")))
                if change.number != int(name[:-5]):
                    raise ValueError("it has another number")
                found.append(change)
            except (OSError, ValueError, KeyError, TypeError, RecursionError):
                broken.append(os.path.join(self.folder, name))
        return found, broken

    def find(self, number: int | None) -> Change:
        """Return one entry; without a number, the latest that stands.

        Raises:
            NothingToJudge: there is none.
        """
        found, _ = self.entries()
        wanted = [c for c in found if (c.number == number if number is not None
                                       else c.state in ("begun", "done", "undoing"))]
        if not wanted:
            raise NothingToJudge(f"There is no change {number} in the journal." if number is not None else
                                 "There is nothing to undo.", "kalyx changes lists them.")
        return wanted[-1]

    # -- changing --------------------------------------------------------------------------
    @contextmanager
    def change(self, what: str, entry: Entry | None = None) -> Iterator[Entry]:
        """Begin a change, or go on with one that is being made, alone; it is done when the context ends.

        An entry in which nothing was done is not left. After an error, or where it is broken off, what was done
        stays and stands in the journal.

        Raises:
            Refused: another Kalyx is changing something.
        """
        if entry is not None:
            yield entry
            return
        with Lock(self.folder, what):
            entry = Entry(self._new(what), self.folder, self.save)
            try:
                yield entry
            finally:
                if entry.change.actions:
                    entry.change = self.save(replace(entry.change, state="done"))
                else:
                    self._strike(entry.change.number)

    def note(self, what: str) -> Change:
        """Record something that another program did for us, which Kalyx cannot take back."""
        with Lock(self.folder, what):
            return self.save(replace(self._new(what), state="done"))

    def take_back(self, change: Change) -> Change:
        """Restore what was there before a change, one that was cut short too.

        Raises:
            Refused: something was changed since by someone else, or was forgotten.
        """
        with Lock(self.folder, f"taking back change {change.number}"):
            change = self.find(change.number)
            if change.state in ("undone", "forgotten"):
                raise Refused(f"Change {change.number} is {change.state} already.", "kalyx changes lists them.")
            if not change.actions and change.state != "done":  # killed before the first of it
                return self.save(replace(change, state="undone"))
            if not change.actions:
                raise Refused(f"Change {change.number} ({change.what}) was made by another program, and Kalyx "
                              "cannot take it back.", "kalyx undo N takes back another one.")
            seen: set[str] = set()
            for action in reversed(change.actions):  # what came before another action on the same is looked at later
                places = {str(action[k]) for k in ("prefix", "path", "to") if action.get(k)}
                if not any(_is_around(a, b) or _is_around(b, a) for a in places for b in seen):
                    _refuse(change, why_not(action, change.state))
                seen |= places
            self.save(replace(change, state="undoing"))
            for action in reversed(change.actions):
                _refuse(change, why_not(action, "undoing"))
                take_back(action)
            return self.save(replace(change, state="undone"))

    def forget(self, change: Change) -> Change:
        """Delete for good what a change has kept aside: only what it put there itself."""
        with Lock(self.folder, f"forgetting change {change.number}"):
            for action in change.actions:
                kept = str(action.get("kept", ""))
                if action["do"] == "aside" and action.get("ident") in (None, identity(kept)) and RETIRED in kept:
                    shutil.rmtree(kept, ignore_errors=True) if os.path.isdir(kept) else _unlink(kept)
                    if os.path.basename(os.path.dirname(kept)) == RETIRED:
                        remove_if_empty(os.path.dirname(kept))
            shutil.rmtree(os.path.join(self.folder, f"{change.number:06d}.kept"), ignore_errors=True)
            return self.save(replace(change, state="forgotten"))

    # -- its files -------------------------------------------------------------------------
    def save(self, change: Change) -> Change:
        """Write an entry as it is now; return it."""
        stored = {"number": change.number, "what": change.what, "when": change.when, "state": change.state,
                  "actions": [dict(a) for a in change.actions]}
        text = json.dumps(stored, indent=1, ensure_ascii=False)
        write_file(self._file(change.number), text.encode("utf-8", "surrogateescape"), mode=0o600)
        return change

    def _new(self, what: str) -> Change:
        """Take the next number, which nobody else can have."""
        for name in os.listdir(self.folder):  # what a kill left, as nobody else writes here now
            if name.startswith(".kalyx-"):
                remove_temporary(os.path.join(self.folder, name))
        while True:
            number = self._next_number()
            try:
                os.close(os.open(self._file(number), os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600))
            except FileExistsError:
                continue
            except OSError as error:
                raise Refused(f"The journal {self.folder} cannot be written: {error.strerror}.",
                              "Without it nothing is changed, as nothing could be taken back.") from None
            when = datetime.now(timezone.utc).isoformat(timespec="seconds")
            try:
                return self.save(Change(number, masked(what), when, "begun"))
            except Refused:
                _unlink(self._file(number))
                raise

    def _strike(self, number: int) -> None:
        _unlink(self._file(number))
        shutil.rmtree(os.path.join(self.folder, f"{number:06d}.kept"), ignore_errors=True)

    def _file(self, number: int) -> str:
        return os.path.join(self.folder, f"{number:06d}.json")

    def _next_number(self) -> int:
        names = os.listdir(self.folder) if os.path.isdir(self.folder) else []
        return 1 + max((int(n[:6]) for n in names if n[:6].isascii() and n[:6].isdecimal()), default=0)


def _refuse(change: Change, why: str) -> None:
    if why:
        raise Refused(f"Change {change.number} is not taken back: {why}.", "Take it back by hand.")


def _is_around(folder: str, path: str) -> bool:
    """Whether a path is a folder, or lies in it."""
    return path == folder or path.startswith(folder.rstrip(os.sep) + os.sep)


def _unlink(path: str) -> None:
    try:
        os.unlink(path)
    except OSError:  # it is gone already
        pass


def _change_of(content: object) -> Change:
    """Return the change that an entry describes, one of an older Kalyx too.

    Raises:
        ValueError: it is no entry: a key is lacking, or of another type.
    """
    if not isinstance(content, dict):
        raise ValueError("it is no object")
    number, actions = content.get("number"), content.get("actions")
    if type(number) is not int or not 0 <= number < 10**9:
        raise ValueError("it lacks its number")
    if actions is None:  # it was kept by kinds, files first
        files, moves = content.get("files"), content.get("moves", [])
        if not isinstance(files, list) or not isinstance(moves, list):
            raise ValueError("it lacks its files")
        actions = [{"do": "file", **f} for f in files] + [
            {"do": "made" if "made" in m else "aside", **m} for m in moves]
    if not isinstance(actions, list) or not all(map(is_action, actions)):
        raise ValueError("one of its actions is described wrongly")
    state = str(content.get("state", ""))
    if state not in STATES:
        raise ValueError("it is in no state that there is")
    return Change(number, str(content.get("what", "")), str(content.get("when", "")), state, tuple(actions))
