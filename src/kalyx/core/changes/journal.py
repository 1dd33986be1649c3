"""The journal: what Kalyx changed, with what was there before, and how to take it back."""

from __future__ import annotations

import errno
import json
import os
import shutil
from datetime import datetime, timezone

from kalyx.core.changes.files import make_folder_with, read_regular, write_file
from kalyx.core.errors import NothingToJudge, Refused
from kalyx.core.facts.configuration.own_files import RETIRED, user_folder
from kalyx.core.lean.record import record, replace
from kalyx.core.masks import masked

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from kalyx.core.machine.interface import Machine

__all__ = ["RETIRED", "Change", "Journal", "journal_folder"]



def journal_folder(machine: Machine) -> str:
    """Return the folder of the journal: the platform's place for a user's own data."""
    return str(machine.path.join(user_folder(machine, "data"), "journal"))


@record
class Change:
    """One entry: what was done, and each file with its content before and after.

    ``moves`` are folders that were moved aside: ``{"path": ..., "kept": ...}``.
    ``state`` is begun, done, undone or forgotten.
    """

    number: int
    what: str
    when: str
    files: tuple[Mapping[str, str | None], ...]
    state: str
    moves: tuple[Mapping[str, str], ...] = ()

    def to_json(self) -> dict[str, object]:
        """Return the entry as it stands in the journal."""
        return {"number": self.number, "what": self.what, "when": self.when,
                "files": list(self.files), "moves": list(self.moves), "state": self.state}


class Journal:
    """Applies changes and writes down how to take them back.

    An entry is written as ``begun`` before anything is touched and as ``done``
    after it, so that a kill in between leaves something to go by.
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
                content = json.loads(read_regular(os.path.join(self.folder, name)).decode("utf-8"))
                found.append(_change_of(content))
            except (OSError, ValueError, KeyError, TypeError, RecursionError):
                broken.append(os.path.join(self.folder, name))
        return found, broken

    def find(self, number: int | None) -> Change:
        """Return one entry; without a number, the latest that can be undone.

        Raises:
            NothingToJudge: there is none.
        """
        found, _ = self.entries()
        wanted = [c for c in found if (c.number == number if number is not None
                                       else c.state in ("begun", "done") and (c.files or c.moves))]
        if not wanted:
            raise NothingToJudge(f"There is no change {number} in the journal." if number is not None else
                                 "There is nothing to undo.", "kalyx changes lists them.")
        return wanted[-1]

    # -- changing --------------------------------------------------------------------------
    def write_text(self, what: str, path: str, text: str) -> Change:
        """Create or replace one text file, its folder with it, and record the change.

        Raises:
            Refused: it cannot be written.
        """
        before: str | None = None
        if os.path.lexists(path):
            try:
                before = read_regular(path).decode("utf-8")
            except (OSError, UnicodeDecodeError) as error:
                raise Refused(f"{path} cannot be kept for undo: {error}.",
                              "Move it away by hand first.") from None
        change = self._begin(what, files=({"path": path, "before": before, "after": text},))
        try:
            if os.path.isdir(os.path.dirname(path)):
                write_file(path, text.encode("utf-8"))
            else:
                make_folder_with(os.path.dirname(path),
                                 {os.path.basename(path): text.encode("utf-8")})
        except Refused:
            os.unlink(self._file(change.number))
            raise
        return self._end(change, "done")

    def move_aside(self, what: str, places: Sequence[tuple[str, str]]) -> Change:
        """Move folders to where they are kept until `forget`; each is (folder, where to).

        Raises:
            Refused: one cannot be moved; those before it are moved back.
        """
        change = self._begin(what, moves=tuple({"path": a, "kept": b} for a, b in places))
        moved: list[tuple[str, str]] = []
        try:
            for path, kept in places:
                os.makedirs(os.path.dirname(kept), exist_ok=True)
                os.rename(path, kept)
                moved.append((path, kept))
        except OSError as error:
            for path, kept in reversed(moved):
                os.rename(kept, path)
            os.unlink(self._file(change.number))
            raise Refused(f"{error.filename or places[0][0]} cannot be moved: {error.strerror}.",
                          "See to it that its parent folder is yours to write.") from None
        return self._end(change, "done")

    def made(self, what: str, path: str, kept: str) -> Change:
        """Record a folder that was made; taking it back moves it to `kept`."""
        change = self._begin(what, moves=({"path": path, "kept": kept, "made": "yes"},))
        return self._end(change, "done")

    def note(self, what: str) -> Change:
        """Record something that another program did for us, which Kalyx cannot take back."""
        return self._end(self._begin(what), "done")

    def take_back(self, change: Change) -> Change:
        """Restore what was there before a change, one that was cut short too.

        Raises:
            Refused: something was changed since by someone else, or was forgotten.
        """
        if change.state in ("undone", "forgotten"):
            raise Refused(f"Change {change.number} is {change.state} already.", "kalyx changes lists them.")
        if not change.files and not change.moves:
            raise Refused(f"Change {change.number} ({change.what}) was made by another program, and Kalyx "
                          "cannot take it back.", "What it changed stands in its line.")
        for file in change.files:
            self._refuse_changed(file, change.state)
        for move in change.moves:
            if "made" in move:
                if not os.path.lexists(move["path"]):
                    raise Refused(f"{move['path']} is gone already.", "There is nothing to take away.")
                continue
            if os.path.lexists(move["kept"]) and os.path.lexists(move["path"]):
                raise Refused(f"{move['path']} is there again, and would be written over.",
                              f"Move it away; what is kept lies in {move['kept']}.")
            if not os.path.lexists(move["kept"]) and not os.path.lexists(move["path"]):
                raise Refused(f"What was kept in {move['kept']} is gone.", "It cannot be brought back.")
        for file in change.files:
            self._restore(file)
        for move in reversed(change.moves):
            if "made" in move:
                _move(move["path"], _free(move["kept"]))
            elif os.path.lexists(move["kept"]):
                _move(move["kept"], move["path"])
                _remove_if_empty(os.path.dirname(move["kept"]))
        return self._end(change, "undone")

    def forget(self, change: Change) -> Change:
        """Delete for good what a change moved aside."""
        for move in change.moves:
            if RETIRED in move["kept"]:  # only what this journal put there itself
                shutil.rmtree(move["kept"], ignore_errors=True)
                _remove_if_empty(os.path.dirname(move["kept"]))
        return self._end(change, "forgotten")

    def _refuse_changed(self, record: Mapping[str, str | None], state: str) -> None:
        path = str(record["path"])
        now = _text_of(path)
        allowed = [record["after"], record["before"]] if state == "begun" else [record["after"]]
        if now not in allowed:
            how = "was taken away" if now is None else "was changed"
            raise Refused(f"{path} {how} since, and is left as it is.", "Take it back by hand.")

    def _restore(self, record: Mapping[str, str | None]) -> None:
        path = str(record["path"])
        if record["before"] is not None:
            write_file(path, str(record["before"]).encode("utf-8"))
        elif os.path.lexists(path):
            os.unlink(path)
            _remove_if_empty(os.path.dirname(path))

    def _begin(self, what: str, files: tuple[Mapping[str, str | None], ...] = (),
               moves: tuple[Mapping[str, str], ...] = ()) -> Change:
        when = datetime.now(timezone.utc).isoformat(timespec="seconds")
        change = Change(self._next_number(), masked(what), when, files, "begun", moves)
        self._save(change)
        return change

    def _end(self, change: Change, state: str) -> Change:
        ended = replace(change, state=state)
        self._save(ended)
        return ended

    def _file(self, number: int) -> str:
        return os.path.join(self.folder, f"{number:06d}.json")

    def _next_number(self) -> int:
        try:
            names = os.listdir(self.folder)
        except OSError:
            names = []
        return 1 + max((int(n[:6]) for n in names if n[:6].isascii() and n[:6].isdecimal()), default=0)

    def _save(self, change: Change) -> None:
        text = json.dumps(change.to_json(), indent=1, ensure_ascii=False)
        write_file(self._file(change.number), text.encode("utf-8"))


def _change_of(content: object) -> Change:
    """Return the change that an entry describes.

    Raises:
        ValueError: it is no entry: a key is lacking, or of another type.
    """
    if not isinstance(content, dict):
        raise ValueError("it is no object")
    number, files, moves = content.get("number"), content.get("files"), content.get("moves", [])
    if type(number) is not int or not 0 <= number < 10**9 or not isinstance(files, list) or not isinstance(moves, list):
        raise ValueError("it lacks its number or its files")
    for file in files:
        if not isinstance(file, dict) or not isinstance(file.get("path"), str) or not all(
                isinstance(file.get(k), (str, type(None))) for k in ("before", "after")):
            raise ValueError("one of its files is described wrongly")
    if not all(isinstance(m, (list, dict)) for m in moves):
        raise ValueError("one of its moves is described wrongly")
    return Change(number, str(content.get("what", "")), str(content.get("when", "")), tuple(files),
                  str(content.get("state", "")), tuple(moves))


def _text_of(path: str) -> str | None:
    """Return a file's text; None when it is not there, an impossible text when it is no text."""
    try:
        return read_regular(path).decode("utf-8")
    except FileNotFoundError:
        return None
    except (OSError, UnicodeDecodeError) as error:
        return None if getattr(error, "errno", 0) == errno.ENOENT else "\0unreadable"


def _move(source: str, target: str) -> None:
    try:
        os.makedirs(os.path.dirname(target), exist_ok=True)
        os.rename(source, target)
    except OSError as error:
        raise Refused(f"{source} cannot be moved to {target}: {error.strerror}.",
                      f"It lies in {source}.") from None


def _free(path: str) -> str:
    number, place = 2, path
    while os.path.lexists(place):
        place, number = f"{path}-{number}", number + 1
    return place


def _remove_if_empty(folder: str) -> None:
    try:
        os.rmdir(folder)
    except OSError:  # something else lies in it
        pass
