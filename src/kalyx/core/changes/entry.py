"""An entry of the journal: what was done, action by action; each is written down before it is done."""

from __future__ import annotations

import os
import shutil
from stat import S_IMODE

from kalyx.core.changes.actions import identity, kept_bytes, move, remove_if_empty, take_back, text_of
from kalyx.core.changes.files import (
    make_folder_with,
    missing_folders,
    temporary_beside,
    temporary_near,
    write_file,
)
from kalyx.core.changes.modes import changed_modes
from kalyx.core.changes.watched import Watched
from kalyx.core.errors import Refused
from kalyx.core.lean.record import record, replace

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Sequence

    from kalyx.core.changes.actions import Action

__all__ = ["Change", "Entry"]


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

    def __init__(self, change: Change, folder: str, save: Callable[[Change], Change]) -> None:
        """Begin with a change that stands in the journal's `folder`; `save` writes it down as it is."""
        self._folder = folder
        self._save = save
        self.change = change

    def _begin(self, action: Action) -> None:
        self.change = self._save(replace(self.change, actions=(*self.change.actions, action)))

    def _replace_last(self, *actions: Action) -> None:
        self.change = self._save(replace(self.change, actions=(*self.change.actions[:-1], *actions)))

    def write_text(self, path: str, text: str | None) -> None:
        """Create, replace or take away one text file, its folder with it.

        Raises:
            Refused: it cannot be read as text, or written.
        """
        path = os.path.realpath(path) if os.path.islink(path) else path
        if os.path.islink(path):
            raise Refused(f"{path} cannot be written: it is a link that leads to itself.", "Take it away first.")
        before, mode, folder = None, None, os.path.dirname(path)
        if os.path.lexists(path):
            before, mode = text_of(path), S_IMODE(os.stat(path).st_mode)
            if before is None or before.startswith("\0"):
                raise Refused(f"{path} cannot be kept for undo: it is no text, or cannot be read.",
                              "Move it away by hand first.")
        is_new = not os.path.isdir(folder)
        temporary = temporary_near(folder) if is_new else temporary_beside(path)
        self._begin({"do": "file", "path": path, "before": before, "after": text, "mode": mode,
                     "temporary": temporary, "folders_made": missing_folders(folder)})
        try:
            if text is None:
                os.unlink(path)
            elif is_new:
                make_folder_with(folder, {os.path.basename(path): text.encode("utf-8")}, temporary)
            else:
                write_file(path, text.encode("utf-8"), temporary=temporary)
        except (Refused, OSError) as error:
            self._replace_last()
            raise error if isinstance(error, Refused) else Refused(f"{path} cannot be taken away: {error}.",
                                                                   "See to it that it is yours.") from None

    def rename(self, path: str, to: str) -> None:
        """Give a file or folder another name.

        Raises:
            Refused: it is not there, something has that name, or it cannot be moved.
        """
        if not os.path.lexists(path) or os.path.lexists(to) or to.startswith(path + os.sep):
            raise Refused(f"{path} is not there." if not os.path.lexists(path) else f"{to} is there already."
                          if os.path.lexists(to) else f"{to} lies in {path} itself.", "Nothing was moved.")
        made = missing_folders(os.path.dirname(to))
        self._begin({"do": "rename", "path": path, "to": to, "ident": identity(path), "folders_made": made})
        try:
            move(path, to)
        except Refused:
            for folder in reversed(made):
                remove_if_empty(folder)
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

    def let(self, words: str, path: str, *, recursive: bool) -> None:
        """Add permissions to a file, or to all of a folder, as ``chmod`` does.

        Raises:
            Refused: they cannot be changed; then all are as they were.
        """
        before: dict[str, int] = {}
        after: dict[str, int] = {}
        self._begin({"do": "modes", "path": path, "before": before, "after": after})
        for level in changed_modes(words, path, recursive=recursive):
            before.update({p: modes[0] for p, modes in level.items()})
            after.update({p: modes[1] for p, modes in level.items()})
            self._replace_last({"do": "modes", "path": path, "before": dict(before), "after": dict(after)})
            for place, (_, mode) in level.items():
                try:
                    os.chmod(place, mode)
                except OSError as error:
                    self.take_back_last()
                    raise Refused(f"The permissions of {place} cannot be changed: {error.strerror}.",
                                  "Have its owner do it.") from None

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

    def installing(self, prefix: str, folders: Sequence[str], replaced: Iterable[str] | None,
                   alone: Sequence[str] = (), *, links: bool = True) -> Watched:
        """Keep aside what another program is about to replace in some folders (None: anything); note what is there.

        `alone` are files and links outside of them. Without `links` the other program may write into files.

        Raises:
            Refused: it cannot be kept.
        """
        store = os.path.join(self._folder, f"{self.change.number:06d}.kept", str(len(self.change.actions)))
        watched = Watched(folders, store, alone)
        watched.keep(replaced, links=links)
        self._begin({"do": "installed", "prefix": prefix, "folders": watched.folders, "alone": watched.alone,
                     "store": store})
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
