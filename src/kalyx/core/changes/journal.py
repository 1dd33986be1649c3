"""The journal: what Kalyx changed, with what was there before, and how to take it back."""

from __future__ import annotations

import json
import os
import shutil
from contextlib import contextmanager
from datetime import datetime, timezone
from stat import S_IMODE

from kalyx.core.changes.actions import (
    identity,
    is_action,
    kept_bytes,
    move,
    remove_if_empty,
    take_back,
    text_of,
    why_not,
)
from kalyx.core.changes.files import make_folder_with, read_regular, write_file
from kalyx.core.changes.lock import Lock
from kalyx.core.changes.watched import Watched
from kalyx.core.errors import NothingToJudge, Refused
from kalyx.core.facts.configuration.own_files import RETIRED, user_folder
from kalyx.core.lean.record import record, replace
from kalyx.core.masks import masked

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Sequence

    from kalyx.core.changes.actions import Action
    from kalyx.core.machine.interface import Machine

__all__ = ["RETIRED", "Change", "Entry", "Journal", "journal_folder"]

STATES = ("begun", "done", "undoing", "undone", "forgotten")


def journal_folder(machine: Machine) -> str:
    """Return the folder of the journal: the platform's place for a user's own data."""
    return str(machine.path.join(user_folder(machine, "data"), "journal"))


@record
class Change:
    """One entry: what was done, action by action, in order.

    ``state`` is begun, done, undoing, undone or forgotten. A change that another program made, and that
    was not kept, has no actions.
    """

    number: int
    what: str
    when: str
    state: str
    actions: tuple[Action, ...] = ()

    @property
    def files(self) -> tuple[dict[str, str | None], ...]:
        """The files that were written: each with its text before and after."""
        return tuple({k: a.get(k) for k in ("path", "before", "after")} for a in self.actions if a["do"] == "file")

    @property
    def moves(self) -> tuple[dict[str, str], ...]:
        """What was moved aside, renamed or made."""
        return tuple({"path": a["path"], "kept": a.get("kept", a.get("to")),
                      **({"made": "yes"} if a["do"] == "made" else {})}
                     for a in self.actions if a["do"] in ("aside", "rename", "made"))

    @property
    def installed(self) -> tuple[dict[str, object], ...]:
        """The environments whose packages were changed: how many files were added, and how many replaced or removed."""
        return tuple({"prefix": a["prefix"], "added": a.get("added", 0), "replaced": a.get("replaced", 0)}
                     for a in self.actions if a["do"] == "installed")

    @property
    def bytes_kept(self) -> int:
        """What is kept on the disk for its undo."""
        return sum(kept_bytes(a) for a in self.actions) if self.state in ("begun", "done", "undoing") else 0

    def to_json(self) -> dict[str, object]:
        """Return the entry as documents show it."""
        return {"number": self.number, "what": self.what, "when": self.when, "files": list(self.files),
                "moves": list(self.moves), "installed": list(self.installed), "bytes_kept": self.bytes_kept,
                "state": self.state}


class Entry:
    """A change that is being made: each action is written down before it is done."""

    def __init__(self, journal: Journal, change: Change) -> None:
        self._journal = journal
        self.change = change

    def _begin(self, action: Action) -> None:
        self.change = self._journal.save(replace(self.change, actions=(*self.change.actions, action)))

    def _replace_last(self, *actions: Action) -> None:
        self.change = self._journal.save(replace(self.change, actions=(*self.change.actions[:-1], *actions)))

    def write_text(self, path: str, text: str | None) -> None:
        """Create, replace or take away one text file, its folder with it.

        Raises:
            Refused: it cannot be read as text, or written.
        """
        path = os.path.realpath(path) if os.path.islink(path) else path
        before, mode, folder = None, None, os.path.dirname(path)
        if os.path.lexists(path):
            before, mode = text_of(path), S_IMODE(os.stat(path).st_mode)
            if before is None or before.startswith("\0"):
                raise Refused(f"{path} cannot be kept for undo: it is no text, or cannot be read.",
                              "Move it away by hand first.")
        self._begin({"do": "file", "path": path, "before": before, "after": text, "mode": mode,
                     "folder_made": not os.path.isdir(folder)})
        try:
            if text is None:
                os.unlink(path)
            elif os.path.isdir(folder):
                write_file(path, text.encode("utf-8"))
            else:
                make_folder_with(folder, {os.path.basename(path): text.encode("utf-8")})
        except (Refused, OSError) as error:
            self._replace_last()
            raise error if isinstance(error, Refused) else Refused(f"{path} cannot be taken away: {error}.",
                                                                   "See to it that it is yours.") from None

    def rename(self, path: str, to: str) -> None:
        """Give a file or folder another name.

        Raises:
            Refused: it is not there, something has that name, or it cannot be moved.
        """
        if not os.path.lexists(path) or os.path.lexists(to):
            raise Refused(f"{path} is not there." if not os.path.lexists(path) else f"{to} is there already.",
                          "Nothing was moved.")
        self._begin({"do": "rename", "path": path, "to": to, "ident": identity(path)})
        try:
            move(path, to)
        except Refused:
            self._replace_last()
            raise
        self._replace_last({**self.change.actions[-1], "ident": identity(to)})  # another one on another device

    def set_aside(self, path: str, kept: str) -> None:
        """Move a file or folder to where it is kept until it is forgotten.

        Raises:
            Refused: it cannot be moved.
        """
        self._begin({"do": "aside", "path": path, "kept": kept, "ident": identity(path)})
        try:
            move(path, kept)
        except Refused:
            self._replace_last()
            raise
        self._replace_last({**self.change.actions[-1], "ident": identity(kept)})  # another one on another device

    def take_back_last(self) -> None:
        """Take the last action back, and strike it out: it did not do what it was for.

        Raises:
            Refused: a file or folder cannot be written.
        """
        take_back(self.change.actions[-1])
        self._replace_last()

    def making(self, path: str, kept: str) -> None:
        """Note that a folder is about to be made; taking it back moves it to `kept`."""
        self._begin({"do": "made", "path": path, "kept": kept, "ident": None})

    def was_made(self) -> None:
        """Note which folder it is that was made."""
        last = self.change.actions[-1]
        self._replace_last({**last, "ident": identity(str(last["path"]))})

    def not_made(self) -> None:
        """Strike the last action out: what it was to make was taken away again."""
        self._replace_last()

    def installing(self, prefix: str, folders: Sequence[str], replaced: Iterable[str] | None) -> Watched:
        """Keep aside what another program is about to replace in some folders (None: anything); note what is there.

        Raises:
            Refused: it cannot be kept.
        """
        store = os.path.join(self._journal.folder, f"{self.change.number:06d}.kept", str(len(self.change.actions)))
        watched = Watched(folders, store)
        watched.keep(replaced)
        self._begin({"do": "installed", "prefix": prefix, "folders": watched.folders, "store": store})
        return watched

    def was_installed(self, watched: Watched) -> bool:
        """Note what the other program has changed; return whether that is anything."""
        added, replaced = watched.done()
        if not added and not replaced:
            shutil.rmtree(watched.store, ignore_errors=True)
            self._replace_last()
            return False
        self._replace_last({**self.change.actions[-1], "added": len(added), "replaced": len(replaced)})
        return True


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
            entry = Entry(self, self._new(what))
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
                place = str(action.get("prefix") or action["path"])
                if place not in seen:
                    _refuse(change, why_not(action, change.state))
                seen.add(place)
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
