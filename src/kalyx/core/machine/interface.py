"""The one door to the outside: files, environment variables, running a child.

Everything else in the core asks a `Machine`, so that the rules of another platform can be applied to a made-up one.
Paths are strings in the machine's own form; ``machine.path`` is the path module that understands them.
"""

from __future__ import annotations

import stat

from kalyx.core.errors import ONLY_IN_PART, Unreadable
from kalyx.core.machine.results import Ended, FileInfo, around

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
    from typing import Any, Protocol, TypeVar

    from kalyx.core.machine.results import Begun, RunResult
    from kalyx.core.model.process import RawProcess
    from kalyx.core.model.weight import DiskFolder

    T = TypeVar("T")
    R = TypeVar("R")
else:
    Protocol = object

__all__ = ["LIST_LIMIT", "READ_LIMIT", "SCAN_LIMIT", "Machine"]


READ_LIMIT = 32 * 1024 * 1024  # bytes; a settings file or METADATA is far below
LIST_LIMIT = 100_000           # entries of one folder
SCAN_LIMIT = 5_000             # entries of a folder that is searched for something


class Machine:
    """What Kalyx may ask of a machine. Subclasses supply the primitives."""

    platform: str
    env: Mapping[str, str]
    cwd: str
    home: str
    user_id: int
    own_command: tuple[str, ...]

    # -- primitives -----------------------------------------------------------------
    def stat(self, path: str) -> FileInfo | None:
        """Describe what `path` leads to, following links; None when nothing is there."""
        raise TypeError(f"{type(self).__name__} cannot do this")

    def lstat(self, path: str) -> FileInfo | None:
        """Describe what lies at `path` itself, a link as such; None when nothing is there."""
        info = self.stat(path)
        link = self.read_link(path)
        return info if link is None else FileInfo("link", stat.S_IFLNK | 0o777, info.owner if info else 0, len(link))

    def is_private_group(self, group: int) -> bool:
        """Whether nobody but the user (or the system's administrator) is in a group of users."""
        return False

    def read_link(self, path: str) -> str | None:
        """Return a symlink's target as written, or None when `path` is no symlink."""
        raise TypeError(f"{type(self).__name__} cannot do this")

    def real_path(self, path: str) -> str:
        """Return `path` with every symlink resolved."""
        raise TypeError(f"{type(self).__name__} cannot do this")

    def read_bytes(self, path: str, limit: int = READ_LIMIT) -> bytes:
        """Read a regular file's first `limit` bytes.

        Raises:
            Unreadable: it is missing, is no regular file, or may not be read.
        """
        raise TypeError(f"{type(self).__name__} cannot do this")

    def list_folder(self, path: str) -> list[str]:
        """Return the names in a folder, sorted.

        Raises:
            Unreadable: it is missing, is no folder, or may not be read.
        """
        raise TypeError(f"{type(self).__name__} cannot do this")

    def run(
        self,
        argv: Sequence[str],
        *,
        env: Mapping[str, str] | None = None,
        cwd: str | None = None,
        limit: float = 10.0,
        judged: FileInfo | None = None,
    ) -> RunResult:
        """Run a child with no input, and end it and all it started after `limit` seconds.

        `judged` is what the program's file was when it was found good: where
        another file is there by now, it does not start.
        """
        raise TypeError(f"{type(self).__name__} cannot do this")

    def begin(self, argv: Sequence[str], *, env: Mapping[str, str] | None = None, cwd: str | None = None,
              limit: float = 10.0) -> Begun:
        """Start a child as `run` does, and do not wait for it."""
        return Ended(self.run(argv, env=env, cwd=cwd, limit=limit))

    def feed(self, commands: Sequence[Sequence[str]], data: bytes, limit: float) -> list[RunResult]:
        """Run commands beside each other, each with `data` as its input; return how each ended.

        Of what a command prints more is kept than by `run`, as it may speak for many machines.
        """
        raise TypeError(f"{type(self).__name__} cannot do this")

    def make_folder(self) -> str:
        """Make a private folder for a child's results.

        Raises:
            Unreadable: none can be made anywhere.
        """
        raise TypeError(f"{type(self).__name__} cannot do this")

    def remove_folder(self, folder: str) -> None:
        """Remove such a folder."""
        raise TypeError(f"{type(self).__name__} cannot do this")

    def in_processes(self, function: Callable[..., Any], parts: Sequence[Sequence[Any]],
                     meanwhile: Callable[[], object] = bool) -> Iterator[Any]:
        """Yield what a module's function makes of each part (both as JSON has it), several at once if that can be.

        `meanwhile` is done while others have begun already; not where nobody else does.
        """
        return (function(self, *part) for part in parts)

    def read_disk(self, folders: Sequence[str], work: Callable[[list[DiskFolder]], Any]) -> list[Any]:
        """Go through some folders and all below them, with what each entry takes on the disk; links are not followed.

        Returns what `work` makes of each share of them, as plain data.
        """
        return []

    def remember(self, path: str, data: bytes) -> None:
        """Write a file of the user's cache folder, its folder with it; nothing where that cannot be."""

    def found(self, question: str, find: Callable[[Any], Any]) -> Any:
        """Return what `find` makes of this machine's files, as JSON has it: for files too large to be recorded.

        Of a machine whose answers were recorded it is what was made of them then.
        """
        return find(self)

    def kept(self, question: str) -> Any:
        """Return what was found out about this machine when its answers were recorded; None where it is the real one.

        Raises:
            NotRecorded: its answers were recorded, and that is not among them.
        """
        return None

    def keep(self, question: str, answer: Any) -> None:
        """Keep what was found out by running something, as JSON has it, where the answers are being recorded."""

    def processor(self) -> str:
        """Return the kind of its processor, such as ``x86_64``; empty where it is not known."""
        return ""

    def processes(self) -> list[RawProcess]:
        """Read every live process that has a command line, and those that are closed to us."""
        return []

    def registered_pythons(self) -> list[str]:
        """Return the install folders in the Windows registry (PEP 514); nothing elsewhere."""
        return []

    def process(self, pid: int) -> RawProcess | None:
        """Read one live process; None when there is none of that number."""
        return next((p for p in self.processes() if p.pid == pid), None)

    # -- made from them -----------------------------------------------------------------
    @property
    def path(self) -> Any:
        """The path module of this machine's platform."""
        if self.platform == "win32":
            import ntpath

            return ntpath
        import posixpath

        return posixpath

    @property
    def path_separator(self) -> str:
        """What stands between the entries of PATH."""
        return ";" if self.platform == "win32" else ":"

    def exists(self, path: str) -> bool:
        """Whether `path` leads to something."""
        return self.stat(path) is not None

    def may_write(self, path: str) -> bool:
        """Whether the user may write into a folder or file that is there."""
        return True

    def may_be_there(self, path: str) -> bool:
        """Whether it cannot be told if something is at `path`, as the user may not look there."""
        return False

    def trouble_at(self, path: str) -> str:
        """Say why nothing is seen at `path`: it does not exist, or may not be looked at."""
        return "does not exist"

    def is_file(self, path: str) -> bool:
        """Whether `path` leads to a regular file."""
        info = self.stat(path)
        return info is not None and info.kind == "file"

    def is_folder(self, path: str) -> bool:
        """Whether `path` leads to a folder."""
        info = self.stat(path)
        return info is not None and info.kind == "folder"

    def is_executable(self, path: str) -> bool:
        """Whether `path` leads to a file that may be run."""
        info = self.stat(path)
        if info is None or info.kind != "file":
            return False
        return self.platform == "win32" or bool(info.mode & 0o111)

    def read_whole(self, path: str, limit: int = READ_LIMIT) -> bytes:
        """Read all of a regular file.

        Raises:
            Unreadable: it is missing, is no regular file, may not be read, or has more than `limit` bytes:
                a part of it would say something else than all of it.
        """
        data = self.read_bytes(path, limit + 1)
        if len(data) > limit:
            reason = f"it has more than {limit // 1024} kB, and was not read"
            self.report(path, reason)
            raise Unreadable(path, reason)
        return data

    def read_text(self, path: str, limit: int = READ_LIMIT) -> str:
        """Read all of a text file as UTF-8 (a byte order mark is dropped, bad bytes replaced).

        Raises:
            Unreadable: as `read_whole` does.
        """
        return self.read_whole(path, limit).decode("utf-8", "replace").removeprefix("\ufeff")

    def read_beginning(self, path: str, limit: int) -> str:
        """Read the first `limit` bytes of a text file, for what stands at its beginning.

        Raises:
            Unreadable: it is missing, is no regular file, or may not be read.
        """
        return self.read_bytes(path, limit).decode("utf-8", "replace").removeprefix("\ufeff")

    def source_line(self, path: str, number: int) -> str:
        """Return a line of a text file, counted from 1; empty where it has fewer, or cannot be read."""
        try:
            lines = self.read_text(path).splitlines()
        except Unreadable:
            return ""
        return lines[number - 1] if 0 < number <= len(lines) else ""

    def report(self, path: str, reason: str) -> None:
        """Write down that something is there and could not be read, or not be understood."""
        known = self.troubles.setdefault(path, reason)
        more = reason.removeprefix(ONLY_IN_PART)
        if known.startswith(ONLY_IN_PART) and reason.startswith(ONLY_IN_PART) and more not in known:
            self.troubles[path] = f"{known}; {more}"

    @property
    def troubles(self) -> dict[str, str]:
        """What is there and could not be read, with the reason: it is said beside any answer."""
        found: dict[str, str] = self.__dict__.setdefault("_troubles", {})
        return found

    def is_there(self, path: str) -> bool:
        """Whether something has this name: also a link to nowhere, a pipe, what may not be read."""
        return self.lstat(path) is not None

    def around(self, path: str, mark: bytes, most: int = 1000) -> list[tuple[bytes, bytes]]:
        """Return the byte before and some bytes after each `mark` in a file; none where it cannot be read."""
        try:
            return around(self.read_bytes(path), mark, most)
        except Unreadable:
            return []

    def digest(self, path: str, kind: str) -> str:
        """Return the hash of a file in the form of RECORD (PEP 376, 427); empty where it cannot be made."""
        import base64
        import hashlib

        try:
            made = hashlib.new(kind, self.read_whole(path))
        except (Unreadable, ValueError, TypeError):
            return ""
        return base64.urlsafe_b64encode(made.digest()).rstrip(b"=").decode()

    def tree_size(self, path: str, most: int = 200_000) -> int:
        """Return the bytes of a file or of all files below a folder, links not followed."""
        total, queue = 0, [path]
        while queue and most > 0:
            here = queue.pop()
            if self.read_link(here) is not None:
                continue
            info = self.stat(here)
            if info is not None and info.kind == "folder":
                names = self.names_in(here)
                most -= len(names)
                queue += [self.path.join(here, n) for n in names]
            elif info is not None:
                total += info.size
        return total

    def scan(self, path: str, most: int = SCAN_LIMIT) -> tuple[list[str], list[str], bool]:
        """Return names and sub-folders (links not followed) of a folder, and whether it was cut.

        Looks at `most` entries and no more, in the order of the file system.
        """
        names = self.names_in(path)
        folders = [n for n in names[:most] if self.read_link(self.path.join(path, n)) is None
                   and self.is_folder(self.path.join(path, n))]
        return names[:most], folders, len(names) > most

    def why_not_listed(self, path: str) -> str:
        """Say why a folder cannot be listed; empty when it can."""
        try:
            self.list_folder(path)
        except Unreadable as error:
            return error.reason
        return ""

    def names_in(self, path: str) -> list[str]:
        """List a folder, or return nothing when it cannot be listed."""
        try:
            return self.list_folder(path)
        except Unreadable:
            return []

    def entries(self, path: str) -> list[str]:
        """Return the names in a folder, in no order; none when it cannot be listed."""
        return self.names_in(path)

    def rights_in(self, path: str) -> list[tuple[FileInfo, list[str]]]:
        """Return what lies in a folder by kind, mode, owner and group: names that have the same stand together.

        Nothing else of each info is filled in. Empty when the folder cannot be listed.
        """
        found: dict[tuple[str, int, int, int], list[str]] = {}
        for name in self.entries(path):
            info = self.lstat(self.path.join(path, name))
            if info is not None:
                found.setdefault((info.kind, info.mode, info.owner, info.group), []).append(name)
        return [(FileInfo(kind, mode, owner, 0, group=group), names)
                for (kind, mode, owner, group), names in found.items()]

    def has_one_folder(self, path: str) -> bool:
        """Whether it is known without listing that a folder has but one in it; links are not counted."""
        return False

    def absolute(self, path: str, start: str | None = None) -> str:
        """Return `path` absolute and normalised, ``~`` expanded, relative to `start`."""
        if path == "~" or path.startswith(("~/", "~\\")):
            path = self.home + path[1:]
        return self.located(path, start)

    def located(self, path: str, start: str | None = None) -> str:
        """Return `path` absolute and normalised, relative to `start`: to the letter, as Python takes a path."""
        joined = self.path.join(start or self.cwd, path)
        return str(self.path.normpath(joined))

    def same(self, a: str, b: str) -> bool:
        """Whether two paths lead to the same place."""
        return a == b or self.key(a) == self.key(b)

    def key(self, path: str) -> str:
        """Return a form of `path` that is equal for all its spellings."""
        return str(self.path.normcase(self.real_path(path)))

    def is_within(self, path: str, folder: str) -> bool:
        """Whether `path` is `folder` or lies below it, compared as written."""
        a, b = self.path.normcase(path), self.path.normcase(folder).rstrip(self.path.sep)
        return bool(a == b or a.startswith(b + self.path.sep))

    def in_parallel(self, ask: Callable[[T], R], items: Iterable[T]) -> list[R]:
        """Return ``[ask(item) for item in items]``, several asked at once."""
        return [ask(item) for item in items]

    def in_background(self, job: Callable[[], object]) -> None:
        """Begin a job whose result others will ask for, where that can be done beside what follows."""
