"""The journal: what Kalyx changed, with what was there before."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from datetime import datetime, timezone

from kalyx.core.changes.files import make_folder_with, write_file
from kalyx.core.errors import Refused
from kalyx.core.facts.places import user_folder
from kalyx.core.machine import Machine
from kalyx.core.record import dataclass

__all__ = ["Change", "Journal", "journal_folder"]


def journal_folder(machine: Machine) -> str:
    """Return the folder of the journal: the platform's place for a user's own data."""
    return str(machine.path.join(user_folder(machine, "data"), "journal"))


@dataclass(frozen=True)
class Change:
    """One entry: what was done, and each file with its content before and after."""

    number: int
    what: str
    when: str
    files: tuple[Mapping[str, str | None], ...]
    state: str

    def to_json(self) -> dict[str, object]:
        """Return the entry as it stands in the journal."""
        return {"number": self.number, "what": self.what, "when": self.when,
                "files": list(self.files), "state": self.state}


class Journal:
    """Applies changes and writes down how to take them back.

    An entry is written as ``begun`` before the file is touched and as ``done``
    after it, so that a kill in between leaves something to go by.
    """

    def __init__(self, machine: Machine) -> None:
        self.folder = journal_folder(machine)

    def write_text(self, what: str, path: str, text: str) -> Change:
        """Create or replace one text file, its folder with it, and record the change.

        Raises:
            Refused: it cannot be written.
        """
        before: str | None = None
        if os.path.lexists(path):
            try:
                with open(path, encoding="utf-8") as file:
                    before = file.read()
            except (OSError, UnicodeDecodeError) as error:
                raise Refused(f"{path} cannot be kept for undo: {error}.",
                              "Move it away by hand first.") from None
        record = {"path": path, "before": before, "after": text}
        change = Change(self._next_number(), what,
                        datetime.now(timezone.utc).isoformat(timespec="seconds"), (record,),
                        "begun")
        self._save(change)
        try:
            if os.path.isdir(os.path.dirname(path)):
                write_file(path, text.encode("utf-8"))
            else:
                make_folder_with(os.path.dirname(path),
                                 {os.path.basename(path): text.encode("utf-8")})
        except Refused:
            os.unlink(self._file(change.number))
            raise
        done = Change(change.number, what, change.when, change.files, "done")
        self._save(done)
        return done

    def take_back(self, change: Change) -> None:
        """Restore what was there before a change.

        Raises:
            Refused: a file was changed since by someone else.
        """
        for record in change.files:
            path = str(record["path"])
            with open(path, encoding="utf-8") as file:
                if file.read() != record["after"]:
                    raise Refused(f"{path} was changed since.", "Take it back by hand.")
            if record["before"] is None:
                os.unlink(path)
                try:
                    os.rmdir(os.path.dirname(path))
                except OSError:  # something else lies in the folder
                    pass
            else:
                write_file(path, str(record["before"]).encode("utf-8"))
        self._save(Change(change.number, change.what, change.when, change.files, "undone"))

    def _file(self, number: int) -> str:
        return os.path.join(self.folder, f"{number:06d}.json")

    def _next_number(self) -> int:
        try:
            names = os.listdir(self.folder)
        except OSError:
            names = []
        return 1 + max((int(n[:6]) for n in names if n[:6].isdigit()), default=0)

    def _save(self, change: Change) -> None:
        text = json.dumps(change.to_json(), indent=1, ensure_ascii=False)
        write_file(self._file(change.number), text.encode("utf-8"))
