"""The machine that Kalyx runs on: files, variables and programs as they are."""

from __future__ import annotations

import os
import stat
import sys

from kalyx.core.errors import Unreadable
from kalyx.core.machine import scratch
from kalyx.core.machine.children import Run, reason_of
from kalyx.core.machine.groups import is_private
from kalyx.core.machine.interface import LIST_LIMIT, READ_LIMIT, SCAN_LIMIT, Machine
from kalyx.core.machine.results import FileInfo, around

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
    from typing import Any, TypeVar

    from kalyx.core.machine.results import RunResult
    from kalyx.core.model.process import RawProcess
    from kalyx.core.model.weight import DiskFolder

    T = TypeVar("T")
    R = TypeVar("R")

DEEP = 60  # parts of a path: a deeper one is resolved by the system's own way, not part by part
FED_AT_ONCE = 64  # commands
FED_LIMIT = 64 * 1024 * 1024  # bytes of what each prints
WHOLE_LISTING = 4 * 1024 * 1024  # bytes of a folder itself

__all__ = ["RealMachine", "own_command"]


class RealMachine(Machine):
    """The machine that Kalyx runs on."""

    path: Any = os.path

    def __init__(
        self, env: Mapping[str, str] | None = None, cwd: str | None = None
    ) -> None:
        self.platform = sys.platform
        self.env = dict(os.environ if env is None else env)
        try:
            self.cwd = cwd or os.getcwd()
        except OSError:  # the working folder was removed under us
            self.cwd = self.env.get("PWD") or os.path.abspath(os.sep)
        self._own_folder = self.cwd if cwd is None else None
        self.home = os.path.expanduser("~")
        self.user_id = os.getuid() if hasattr(os, "getuid") else 0
        self.own_command = own_command()
        self._keys: dict[str, str] = {}
        self._private_groups: dict[int, bool] = {}
        self._scanned: dict[tuple[str, int], tuple[list[str], list[str], bool]] = {}

    def key(self, path: str) -> str:
        found = self._keys.get(path)
        if found is None:  # asked again and again for the same few folders
            found = self._keys[path] = os.path.normcase(self._real(path))
        return found

    def _real(self, path: str, depth: int = 0) -> str:
        """Resolve a path by its folder, which is mostly known already, and its last part."""
        folder, name = os.path.split(path)
        if os.name != "posix" or not name or name in (".", "..") or folder in ("", "/") or path[:2] == "//" \
                or depth > 20:
            return _resolved(path)
        key = self._keys.get(folder)
        if key is None:
            key = self._keys[folder] = _resolved(folder) if folder.count("/") > DEEP else self._real(folder, depth)
        here = f"{key.rstrip('/')}/{name}"
        link = self.read_link(here)
        return here if link is None else self._real(os.path.join(key, link), depth + 1)

    def stat(self, path: str) -> FileInfo | None:
        try:
            found = os.stat(path)
        except (OSError, ValueError):
            return None
        return _described(found)

    def lstat(self, path: str) -> FileInfo | None:
        try:
            return _described(os.lstat(path))
        except (OSError, ValueError):
            return None

    def is_private_group(self, group: int) -> bool:
        if group not in self._private_groups:
            self._private_groups[group] = is_private(group, self.user_id)
        return self._private_groups[group]

    if os.name == "posix":  # sooner than a stat, and asked of hundreds of paths
        def exists(self, path: str) -> bool:
            try:
                return os.access(path, os.F_OK)
            except ValueError:  # no path can be like that
                return False
    else:
        def exists(self, path: str) -> bool:
            return os.path.exists(path)

    def is_there(self, path: str) -> bool:
        return os.path.lexists(path)

    def is_file(self, path: str) -> bool:
        return self._is(path, stat.S_IFREG)

    def is_folder(self, path: str) -> bool:
        return self._is(path, stat.S_IFDIR)

    def is_executable(self, path: str) -> bool:
        try:
            mode = os.stat(path).st_mode
        except (OSError, ValueError):
            return False
        return stat.S_ISREG(mode) and (self.platform == "win32" or mode & 0o111 != 0)

    def _is(self, path: str, kind: int) -> bool:
        if not self.exists(path):  # most of what is asked about is not there, and raising takes time
            return False
        try:
            return stat.S_IFMT(os.stat(path).st_mode) == kind
        except (OSError, ValueError):
            return False

    def may_be_there(self, path: str) -> bool:
        try:
            os.stat(path)
        except PermissionError:
            return True
        except (OSError, ValueError):
            pass
        return False

    def trouble_at(self, path: str) -> str:
        try:
            os.stat(path)
        except PermissionError as error:
            return f"cannot be reached: {reason_of(error)}"
        except (OSError, ValueError):
            pass
        return "does not exist"

    def may_write(self, path: str) -> bool:
        return os.access(path, os.W_OK)

    def read_link(self, path: str) -> str | None:
        try:
            return os.readlink(path)
        except (OSError, ValueError):
            return None

    def real_path(self, path: str) -> str:
        return self._real(path) if path.startswith("/") else _resolved(path)

    def read_bytes(self, path: str, limit: int = READ_LIMIT) -> bytes:
        try:
            # O_NONBLOCK: opening a FIFO must not wait for a writer
            handle = os.open(path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0)
                             | getattr(os, "O_BINARY", 0))
        except (OSError, ValueError) as error:
            raise self._unreadable(path, error) from None
        try:
            info = os.fstat(handle)
            if stat.S_ISCHR(info.st_mode) and info.st_rdev == os.stat(os.devnull).st_rdev:
                return b""  # a link to it is how people empty a file: there is nothing in it
            if not stat.S_ISREG(info.st_mode):
                self.report(path, "it is not a regular file")
                raise Unreadable(path, "it is not a regular file")
            parts, left = [], info.st_size  # 0 of what has no size, as in /proc
            while limit > 0 and (part := os.read(handle, min(limit, left if left > 0 else 1 << 16))):
                parts.append(part)
                limit, left = limit - len(part), left - len(part)
                if left == 0:  # all of it, as it was when it was opened
                    break
            return parts[0] if len(parts) == 1 else b"".join(parts)
        except OSError as error:
            raise self._unreadable(path, error) from None
        finally:
            os.close(handle)

    def around(self, path: str, mark: bytes, most: int = 1000) -> list[tuple[bytes, bytes]]:
        import mmap

        try:
            with open(path, "rb") as file, mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as data:
                return around(data, mark, most)
        except (OSError, ValueError):
            return []

    def list_folder(self, path: str) -> list[str]:
        try:
            return sorted(self._listed(path))
        except (OSError, ValueError) as error:
            raise self._unreadable(path, error) from None

    def _listed(self, path: str) -> list[str]:
        """Return the names in a folder, as many as are looked at: a folder may hold millions.

        Raises:
            OSError, ValueError: it cannot be listed.
        """
        names: list[str] = []
        if os.stat(path).st_size < WHOLE_LISTING:  # the folder itself is small: so is what it holds
            return os.listdir(path)
        with os.scandir(path) as entries:
            for entry in entries:
                if len(names) >= LIST_LIMIT:
                    self.report(path, f"it holds more than {LIST_LIMIT} names; the rest was not looked at")
                    break
                names.append(entry.name)
        return names

    def _unreadable(self, path: str, error: Exception) -> Unreadable:
        """Write down what is there and cannot be read; return the exception for it."""
        reason = reason_of(error)
        if not isinstance(error, (FileNotFoundError, NotADirectoryError)) or self.lstat(path) is not None:
            self.report(path, reason)
        return Unreadable(path, reason)

    def entries(self, path: str) -> list[str]:
        try:
            return self._listed(path)
        except (OSError, ValueError) as error:
            self._unreadable(path, error)
            return []

    def rights_in(self, path: str) -> list[tuple[FileInfo, list[str]]]:
        found: dict[tuple[int, int, int], list[str]] = {}
        try:
            with os.scandir(path) as entries:
                for entry in entries:
                    info = entry.stat(follow_symlinks=False)
                    found.setdefault((info.st_mode, info.st_uid, info.st_gid), []).append(entry.name)
        except (OSError, ValueError) as error:
            self._unreadable(path, error)
        return [(FileInfo(_kind(mode), mode, owner, 0, group=group), names)
                for (mode, owner, group), names in found.items()]

    def has_one_folder(self, path: str) -> bool:
        try:
            return os.stat(path).st_nlink == 3  # its name above, its own ".", and the ".." of the one in it
        except (OSError, ValueError):
            return False

    def why_not_listed(self, path: str) -> str:
        try:
            os.scandir(path).close()
        except (OSError, ValueError) as error:
            return reason_of(error)
        return ""

    def scan(self, path: str, most: int = SCAN_LIMIT) -> tuple[list[str], list[str], bool]:
        if (path, most) not in self._scanned:  # several look into the same folder, for other things
            found = self._scanned[path, most] = self._scan(path, most)
            if os.name == "posix" and found[1]:  # no links: their real paths are known with the folder's
                start, real = path.rstrip("/") + "/", self.key(path).rstrip("/") + "/"
                self._keys.update((start + n, real + n) for n in found[1])
        return self._scanned[path, most]

    def _scan(self, path: str, most: int) -> tuple[list[str], list[str], bool]:
        names: list[str] = []
        folders: list[str] = []
        try:
            with os.scandir(path) as entries:
                for entry in entries:
                    if len(names) >= most:
                        return sorted(names), sorted(folders), True
                    names.append(entry.name)
                    if entry.is_dir(follow_symlinks=False):
                        folders.append(entry.name)
        except (OSError, ValueError):
            pass
        return sorted(names), sorted(folders), False

    def run(
        self,
        argv: Sequence[str],
        *,
        env: Mapping[str, str] | None = None,
        cwd: str | None = None,
        limit: float = 10.0,
        judged: FileInfo | None = None,
    ) -> RunResult:
        return self.begin(argv, env=env, cwd=cwd, limit=limit, judged=judged).result()

    def begin(self, argv: Sequence[str], *, env: Mapping[str, str] | None = None, cwd: str | None = None,
              limit: float = 10.0, judged: FileInfo | None = None) -> Run:
        folder: str | None = cwd or self.cwd
        if folder == self._own_folder:
            folder = None  # inherited: it may have been removed or closed under us
        return Run(argv, dict(self.env if env is None else env), folder, limit, judged.key if judged else None)

    def feed(self, commands: Sequence[Sequence[str]], data: bytes, limit: float) -> list[RunResult]:
        from kalyx.core.machine.threads import ask_all

        folder = self.make_folder()
        try:
            given = os.path.join(folder, "input")
            with open(given, "wb") as file:
                file.write(data)
            return ask_all(lambda argv: Run(argv, self.env, None, limit, given=given, most=FED_LIMIT).result(),
                           commands, FED_AT_ONCE)
        finally:
            self.remove_folder(folder)

    def in_processes(self, function: Callable[..., Any], parts: Sequence[Sequence[Any]],
                     meanwhile: Callable[[], object] = bool) -> Iterator[Any]:
        """Share the parts out among processes."""
        from kalyx.core.machine.workers import share_out

        return share_out(self, function, parts, meanwhile)

    def read_disk(self, folders: Sequence[str], work: Callable[[list[DiskFolder]], Any]) -> list[Any]:
        """Go through them in several processes, where that is sooner."""
        from kalyx.core.machine.disk import read_in_shares

        return read_in_shares(folders, work, self.report)

    def remember(self, path: str, data: bytes) -> None:
        """Write it at once, so that nobody reads a half of it."""
        temporary = f"{path}.{os.getpid()}"
        try:
            os.makedirs(os.path.dirname(path), mode=0o700, exist_ok=True)
            with open(temporary, "wb") as file:
                file.write(data)
            os.replace(temporary, path)
        except OSError:  # it is found out anew the next time
            pass

    def processor(self) -> str:
        import platform

        return platform.machine()

    def processes(self) -> list[RawProcess]:
        from kalyx.core.machine.process_table import read_processes

        return read_processes()

    def process(self, pid: int) -> RawProcess | None:
        from kalyx.core.machine.process_table import read_process

        return read_process(pid)

    def registered_pythons(self) -> list[str]:
        if sys.platform != "win32":
            return []
        from kalyx.core.machine.registry import read_registry

        return read_registry()

    def make_folder(self) -> str:
        return scratch.make_folder([*scratch.usual_places(self.env), self.cwd])

    def remove_folder(self, folder: str) -> None:
        scratch.remove_folder(folder)

    def in_parallel(self, ask: Callable[[T], R], items: Iterable[T]) -> list[R]:
        from kalyx.core.machine.threads import ask_all

        return ask_all(ask, items)

    def in_background(self, job: Callable[[], object]) -> None:
        from kalyx.core.machine.threads import begin

        begin(job)


def _resolved(path: str) -> str:
    """Resolve a path by the system's own way."""
    try:
        return os.path.realpath(path)
    except (OSError, ValueError):
        return path


def _described(found: os.stat_result) -> FileInfo:
    return FileInfo(_kind(found.st_mode), found.st_mode, found.st_uid, found.st_size, found.st_mtime,
                    (found.st_dev, found.st_ino), found.st_gid)


def _kind(mode: int) -> str:
    return {stat.S_IFREG: "file", stat.S_IFDIR: "folder", stat.S_IFLNK: "link"}.get(stat.S_IFMT(mode), "other")


def own_command() -> tuple[str, ...]:
    """Return how Kalyx was started, as a command that works from anywhere."""
    script = os.path.abspath(sys.argv[0]) if sys.argv and sys.argv[0] else ""
    if os.path.basename(script).startswith("kalyx") and os.access(script, os.X_OK):
        return (script,)
    return (sys.executable, "-m", "kalyx")
