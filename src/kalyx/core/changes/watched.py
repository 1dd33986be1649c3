"""What another program changes in some folders: kept aside before, compared after, and put back byte for byte.

A program such as pip replaces files by new ones; so a hard link to a file before is a copy of it afterwards, and
costs nothing. Compiled bytecode (``__pycache__``) is left out: Python writes it anew.
"""

from __future__ import annotations

import json
import os
import shutil
from hashlib import sha256
from stat import S_IMODE, S_ISDIR, S_ISLNK

from kalyx.core.changes.files import forget_bytecode, read_regular, write_file
from kalyx.core.errors import Refused

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

    # path -> (kind, size, time of change in ns, mode, target of a link)
    Listing = dict[str, list[object]]

__all__ = ["Watched"]

MOST_FILES = 400_000
MOST_COPIED = 4096  # bytes of a file that is copied in any case: lists of paths and the like are written into
_SKIPPED = ("__pycache__",)


class Watched:
    """Folders that another program changes; `store` is where what it replaces is kept, and both listings.

    `alone` are files and links outside of those folders, that it may change too.
    """

    def __init__(self, folders: Iterable[str], store: str, alone: Iterable[str] = ()) -> None:
        self.folders = [os.path.realpath(f) for f in folders]
        self.alone = [os.path.join(os.path.realpath(os.path.dirname(f)), os.path.basename(f)) for f in alone]
        self.store = store

    # -- before and after -----------------------------------------------------------------------
    def keep(self, files: Iterable[str] | None, *, links: bool = True) -> None:
        """Note what is there, and keep aside the files that are to be replaced; all of them without `files`.

        A hard link does where the other program puts a new file in the place of an old one, as pip does with all that
        is not small; without `links` it may write into a file, so that only a copy is one.

        Raises:
            Refused: they cannot be kept.
        """
        try:
            os.makedirs(os.path.join(self.store, "files"), mode=0o700, exist_ok=True)
            before = self._list()
            kept: dict[str, str] = {}
            for path in before if files is None else files:
                place = os.path.realpath(os.path.dirname(path)) + os.sep + os.path.basename(path)
                if place in before and place not in kept and before[place][0] == "file":
                    kept[place] = str(len(kept))
                    small = int(str(before[place][1])) <= MOST_COPIED and not place.endswith((".py", ".pyc"))
                    _copy(place, os.path.join(self.store, "files", kept[place]), by_link=links and not small)
        except OSError as error:
            raise Refused(f"What would be replaced cannot be kept in {self.store}: {error.strerror or error}.",
                          "Make room there; without it, it could not be taken back.") from None
        self._write("before", before)
        self._write("kept", kept)

    def done(self) -> tuple[list[str], list[str]]:
        """Note what is there now; return what was added, and what was replaced or taken away."""
        before, after = self._read("before"), self._list()
        self._write("after", after)
        kept = self._read("kept")
        for place, name in list(kept.items()):
            if after.get(place) == before.get(place):  # it was left as it is
                os.unlink(os.path.join(self.store, "files", str(name)))
                del kept[place]
        self._write("kept", kept)
        return [p for p in after if p not in before], [p for p in before if after.get(p) != before[p]]

    # -- taking back ----------------------------------------------------------------------------
    def why_not(self, *, undoing: bool) -> str:
        """Return why it cannot be taken back to the letter; empty where it can, or where that has begun already."""
        before, kept, now = self._read("before"), self._read("kept"), self._list()
        if not before and not os.path.exists(os.path.join(self.store, "before.json")):
            return f"what was there before was not noted in {self.store}"
        after = self._read("after") or now  # it was cut short: what is there now is what it left
        touched = [p for p in {*after, *before} if after.get(p) != before.get(p)]
        changed = [p for p in touched if now.get(p) not in (after.get(p), before.get(p))
                   and not (undoing and p not in now)]
        if changed:
            return f"{changed[0]} was changed since" + (f", and {len(changed) - 1} more" if len(changed) > 1 else "")
        lost = [p for p in touched if p in before and now.get(p) != before[p] and before[p][0] == "file"
                and not os.path.exists(os.path.join(self.store, "files", str(kept.get(p, "?"))))]
        return f"{lost[0]} was not kept" + (f", nor were {len(lost) - 1} more" if len(lost) > 1 else "") if lost else ""

    def take_back(self) -> None:
        """Take out what was added, put back what was replaced; what is so already is left.

        Raises:
            Refused: a file cannot be written.
        """
        before, kept, now = self._read("before"), self._read("kept"), self._list()
        after, aside = self._read("after"), os.path.join(self.store, "taken-out")
        was_ended, after = bool(after), after or now
        temporary = f".kalyx-undo-{sha256(self.store.encode('utf-8', 'surrogateescape')).hexdigest()[:16]}"
        try:
            for path in [p for p in now if os.path.basename(p) == temporary]:  # a kill left it
                os.unlink(path)
                del now[path]
            for path in sorted((p for p in after if p not in before and p in now), key=len, reverse=True):
                if now[path][0] == "folder":
                    shutil.rmtree(os.path.join(path, "__pycache__"), ignore_errors=True)
                    _remove_folder(path)
                elif was_ended:
                    os.unlink(path)
                else:  # who put it there since is not known: nothing of it is lost
                    os.makedirs(aside, exist_ok=True)
                    shutil.move(path, os.path.join(aside, f"{len(os.listdir(aside))}-{os.path.basename(path)}"))
            for path in sorted((p for p in before if now.get(p) != before[p]), key=len):
                _put_back(path, before[path], os.path.join(self.store, "files", str(kept.get(path, "?"))), temporary)
            for path in (p for p in before if before[p][0] == "folder" and p in now and now[p] != before[p]):
                os.chmod(path, int(str(before[path][3])))
        except OSError as error:
            raise Refused(f"{error.filename} cannot be put back: {error.strerror}.",
                          "What is left of it is done by another undo, once that is mended.") from None

    # -- listings -------------------------------------------------------------------------------
    def _list(self) -> Listing:
        found: Listing = {}
        queue = [f for f in self.folders if os.path.isdir(f)]
        found.update({p: _as_it_is(p, os.lstat(p)) for p in self.alone if os.path.lexists(p)})
        found.update({f: ["folder", 0, 0, os.stat(f).st_mode & 0o7777, ""] for f in queue})
        while queue and len(found) < MOST_FILES:
            folder = queue.pop()
            try:
                entries = list(os.scandir(folder))
            except OSError:
                continue
            for entry in entries:
                if entry.name in _SKIPPED:
                    continue
                found[entry.path] = _as_it_is(entry.path, entry.stat(follow_symlinks=False))
                if found[entry.path][0] == "folder":
                    queue.append(entry.path)
        return found

    def _write(self, name: str, content: Mapping[str, object]) -> None:
        data = json.dumps(content, ensure_ascii=True).encode("ascii")
        write_file(os.path.join(self.store, f"{name}.json"), data)

    def _read(self, name: str) -> dict[str, list[object]]:
        try:
            content = json.loads(read_regular(os.path.join(self.store, f"{name}.json")))
        except (OSError, ValueError, RecursionError):
            return {}
        return content if isinstance(content, dict) else {}


def _as_it_is(path: str, info: os.stat_result) -> list[object]:
    """Return what a listing holds of a file, folder or link."""
    if S_ISLNK(info.st_mode):
        return ["link", 0, 0, 0, os.readlink(path)]
    if S_ISDIR(info.st_mode):
        return ["folder", 0, 0, S_IMODE(info.st_mode), ""]
    return ["file", info.st_size, info.st_mtime_ns, S_IMODE(info.st_mode), ""]


def _copy(path: str, place: str, *, by_link: bool = True) -> None:
    """Keep a file at another place: by a hard link where the file system allows it, else by a copy."""
    if by_link:
        try:
            os.link(path, place, follow_symlinks=False)
            return
        except (OSError, NotImplementedError):  # the file system has no such links
            pass
    shutil.copy2(path, place, follow_symlinks=False)


def _put_back(path: str, was: list[object], kept: str, temporary: str) -> None:
    """Have at a path what was there: a folder, a link, or the file that was kept; at once, by a rename."""
    kind, mode, place = str(was[0]), int(str(was[3])), os.path.join(os.path.dirname(path), temporary)
    if kind != "folder" and os.path.isdir(path) and not os.path.islink(path):  # a folder took its place
        shutil.rmtree(os.path.join(path, "__pycache__"), ignore_errors=True)
        os.rmdir(path)
    if kind == "folder":
        if os.path.islink(path) or os.path.isfile(path):
            os.unlink(path)
        os.makedirs(path, exist_ok=True)
        os.chmod(path, mode)
        return
    if kind == "file" and not os.path.exists(kept):
        return
    os.makedirs(os.path.dirname(path), exist_ok=True)
    if kind == "link":
        os.symlink(str(was[4]), place)
    else:
        _copy(kept, place)
        os.chmod(place, mode)
    os.replace(place, path)
    forget_bytecode(path)
    if os.path.lexists(place):  # both were names of one file already, and then a rename does nothing (POSIX)
        os.unlink(place)


def _remove_folder(path: str) -> None:
    try:
        os.rmdir(path)
    except OSError:  # something that was put there since lies in it
        pass
