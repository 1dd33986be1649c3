"""The one door to the outside: files, environment variables, running a child.

Everything else in the core asks a `Machine`, so that the rules of another
platform can be applied to a made-up one. Paths are strings in the machine's
own form; ``machine.path`` is the path module that understands them.
"""

from __future__ import annotations

import ntpath
import os
import posixpath
import stat
import sys
import time
from _thread import allocate_lock
from collections.abc import Callable, Iterable, Mapping, Sequence

from kalyx.core.errors import Unreadable
from kalyx.core.record import TYPE_CHECKING, dataclass

if TYPE_CHECKING:
    from typing import Any, TypeVar

    T = TypeVar("T")
    R = TypeVar("R")

__all__ = ["FileInfo", "Machine", "RawProcess", "RealMachine", "RunResult"]


READ_LIMIT = 32 * 1024 * 1024  # bytes; a settings file or METADATA is far below
LIST_LIMIT = 100_000           # entries of one folder
SCAN_LIMIT = 5_000             # entries of a folder that is searched for something
OUTPUT_LIMIT = 4 * 1024 * 1024  # bytes kept of what a child prints


@dataclass(frozen=True)
class FileInfo:
    """What `stat` says: ``kind`` is file, folder or other."""

    kind: str
    mode: int
    owner: int
    size: int
    modified: float = 0.0
    key: tuple[int, int] = (0, 0)

    @property
    def others_may_write(self) -> bool:
        """Whether any user of the machine may change it."""
        return bool(self.mode & stat.S_IWOTH) and not self.mode & stat.S_ISVTX


@dataclass(frozen=True)
class RunResult:
    """How a child ended. ``status`` is negative for a signal, None when it could not start."""

    status: int | None
    out: bytes
    err: bytes
    timed_out: bool
    seconds: float
    why_not: str = ""
    folder_closed: bool = False  # it was the working folder that could not be entered

    def text(self) -> str:
        """Return what it printed to standard output, decoded with replacement."""
        return self.out.decode("utf-8", "replace")

    def complaint(self) -> str:
        """Return the line of standard error that says most: a traceback's last, else the first."""
        text = self.err.decode("utf-8", "replace")
        lines = [ln.strip() for ln in text.splitlines() if ln.strip()]
        fatal = [ln for ln in lines if ln.startswith("Fatal Python error")]
        if fatal:
            return fatal[0]
        return next(iter(reversed(lines) if "Traceback" in text else lines), "")


@dataclass(frozen=True)
class RawProcess:
    """What the process table says of one process; None where it may not be read.

    ``program`` is the file that runs, with `` (deleted)`` behind it where the
    system says so.
    """

    pid: int
    parent: int | None
    argv: tuple[str, ...]
    program: str | None
    folder: str | None
    env: Mapping[str, str] | None
    started: float | None
    user: str | None
    closed: bool = False  # its command line may not be read, so nobody can say what it runs


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
    ) -> RunResult:
        """Run a child with no input, and end it and all it started after `limit` seconds."""
        raise TypeError(f"{type(self).__name__} cannot do this")

    def make_folder(self) -> str:
        """Make a private folder for a child's results."""
        raise TypeError(f"{type(self).__name__} cannot do this")

    def remove_folder(self, folder: str) -> None:
        """Remove such a folder."""
        raise TypeError(f"{type(self).__name__} cannot do this")

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
        return ntpath if self.platform == "win32" else posixpath

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

    def read_text(self, path: str, limit: int = READ_LIMIT) -> str:
        """Read a text file as UTF-8 (a byte order mark is dropped, bad bytes replaced)."""
        return self.read_bytes(path, limit).decode("utf-8-sig", "replace")

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

    def absolute(self, path: str, start: str | None = None) -> str:
        """Return `path` absolute and normalised, ``~`` expanded, relative to `start`."""
        if path == "~" or path.startswith(("~/", "~\\")):
            path = self.home + path[1:]
        joined = self.path.join(start or self.cwd, path)
        return str(self.path.normpath(joined))

    def same(self, a: str, b: str) -> bool:
        """Whether two paths lead to the same place."""
        return self.key(a) == self.key(b)

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

    def in_background(self, *jobs: Callable[[], object]) -> None:
        """Begin jobs whose results others will ask for, while something else is waited for."""


class RealMachine(Machine):
    """The machine that Kalyx runs on."""

    def __init__(
        self, env: Mapping[str, str] | None = None, cwd: str | None = None, limit: float = 20.0
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
        self.limit = limit
        self._keys: dict[str, str] = {}
        self._scanned: dict[tuple[str, int], tuple[list[str], list[str], bool]] = {}

    def key(self, path: str) -> str:
        if path not in self._keys:  # asked again and again for the same few folders
            self._keys[path] = super().key(path)
        return self._keys[path]

    def stat(self, path: str) -> FileInfo | None:
        try:
            found = os.stat(path)
        except (OSError, ValueError):
            return None
        kind = "file" if stat.S_ISREG(found.st_mode) else (
            "folder" if stat.S_ISDIR(found.st_mode) else "other")
        return FileInfo(kind, found.st_mode, found.st_uid, found.st_size, found.st_mtime,
                        (found.st_dev, found.st_ino))

    def trouble_at(self, path: str) -> str:
        try:
            os.stat(path)
        except PermissionError as error:
            return f"cannot be reached: {_reason(error)}"
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
        try:
            return os.path.realpath(path)
        except (OSError, ValueError):
            return path

    def read_bytes(self, path: str, limit: int = READ_LIMIT) -> bytes:
        try:
            # O_NONBLOCK: opening a FIFO must not wait for a writer
            handle = os.open(path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0)
                             | getattr(os, "O_BINARY", 0))
        except (OSError, ValueError) as error:
            raise Unreadable(path, _reason(error)) from None
        try:
            if not stat.S_ISREG(os.fstat(handle).st_mode):
                raise Unreadable(path, "it is not a regular file")
            parts = []
            while limit > 0 and (part := os.read(handle, min(limit, 1 << 20))):
                parts.append(part)
                limit -= len(part)
            return parts[0] if len(parts) == 1 else b"".join(parts)
        except OSError as error:
            raise Unreadable(path, _reason(error)) from None
        finally:
            os.close(handle)

    def list_folder(self, path: str) -> list[str]:
        try:
            with os.scandir(path) as entries:
                names = [e.name for _, e in zip(range(LIST_LIMIT), entries, strict=False)]
        except (OSError, ValueError) as error:
            raise Unreadable(path, _reason(error)) from None
        return sorted(names)

    def why_not_listed(self, path: str) -> str:
        try:
            os.scandir(path).close()
        except (OSError, ValueError) as error:
            return _reason(error)
        return ""

    def scan(self, path: str, most: int = SCAN_LIMIT) -> tuple[list[str], list[str], bool]:
        if (path, most) not in self._scanned:  # several look into the same folder, for other things
            self._scanned[path, most] = self._scan(path, most)
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
    ) -> RunResult:
        began = time.monotonic()
        folder: str | None = cwd or self.cwd
        if folder == self._own_folder:
            folder = None  # inherited: it may have been removed or closed under us
        variables = dict(self.env if env is None else env)
        try:
            child = _spawn(argv, variables) if folder is None and _can_spawn(argv) else (
                _start(argv, variables, folder))
        except (OSError, ValueError) as error:
            closed = folder is not None and getattr(error, "filename", None) == folder
            return RunResult(None, b"", b"", False, time.monotonic() - began, _reason(error), closed)
        out, err = _Drain(child.out), _Drain(child.err)
        timed_out = False
        try:
            timed_out = not _wait(child, limit)
        finally:
            end_process(child.pid, with_children=timed_out)
        status = child.wait()
        return RunResult(status, out.finish(), err.finish(), timed_out, time.monotonic() - began)

    def processes(self) -> list[RawProcess]:
        import psutil

        read = (_read_process(p) for p in psutil.process_iter())
        return [p for p in read if p is not None and (p.argv or p.closed)]

    def process(self, pid: int) -> RawProcess | None:
        import psutil

        try:
            return _read_process(psutil.Process(pid))
        except psutil.Error:
            return None

    def registered_pythons(self) -> list[str]:
        if sys.platform != "win32":
            return []
        return _read_registry()

    def make_folder(self) -> str:
        """Make a private folder for a child's results.

        Not by `tempfile`, whose import takes as long as starting an interpreter.

        Raises:
            Unreadable: none can be made anywhere.
        """
        places = [self.env.get(n) for n in ("TMPDIR", "TEMP", "TMP")]
        for place in [*filter(None, places), "/tmp", self.cwd]:
            folder = os.path.join(place, f"kalyx-{os.urandom(8).hex()}")
            try:
                os.mkdir(folder, 0o700)
            except OSError:
                continue
            return folder
        raise Unreadable("/tmp", "no folder for temporary files can be made")

    def remove_folder(self, folder: str) -> None:
        """Remove a folder that `make_folder` made, and the files in it."""
        try:
            for name in os.listdir(folder):
                os.unlink(os.path.join(folder, name))
            os.rmdir(folder)
        except OSError:
            pass

    def in_parallel(self, ask: Callable[[T], R], items: Iterable[T]) -> list[R]:
        wanted = list(items)
        if len(wanted) < 2:
            return [ask(item) for item in wanted]
        return _in_threads(ask, wanted)

    def in_background(self, *jobs: Callable[[], object]) -> None:
        import threading

        threading.Thread(target=lambda: [job() for job in jobs], daemon=True).start()


def _read_registry() -> list[str]:
    r"""Read Software\Python\COMPANY\TAG\InstallPath of both hives and views (PEP 514)."""
    winreg: Any = __import__("winreg")
    found = []
    for hive in (winreg.HKEY_CURRENT_USER, winreg.HKEY_LOCAL_MACHINE):
        for view in (winreg.KEY_WOW64_64KEY, winreg.KEY_WOW64_32KEY):
            try:
                top = winreg.OpenKey(hive, r"Software\Python", 0, winreg.KEY_READ | view)
            except OSError:
                continue
            for company in _subkeys(winreg, top):
                for tag in _subkeys(winreg, winreg.OpenKey(top, company)):
                    try:
                        found.append(str(winreg.QueryValue(top, rf"{company}\{tag}\InstallPath")))
                    except OSError:  # an entry without a folder
                        continue
    return list(dict.fromkeys(found))


def _subkeys(winreg: Any, key: Any) -> list[str]:
    return [winreg.EnumKey(key, n) for n in range(winreg.QueryInfoKey(key)[0])]


def _read_process(process: Any) -> RawProcess | None:
    import psutil

    def get(name: str) -> Any:
        try:
            return getattr(process, name)()
        except (psutil.Error, OSError):
            return None

    try:
        argv = process.cmdline()
    except psutil.AccessDenied:
        return RawProcess(process.pid, None, (), None, None, None, None, get("username"), closed=True)
    except (psutil.Error, OSError):  # it ended meanwhile
        return None
    try:
        program = os.readlink(f"/proc/{process.pid}/exe")  # with its " (deleted)", where it is so
    except OSError:
        program = get("exe")
    return RawProcess(process.pid, get("ppid"), tuple(argv), program or None, get("cwd"),
                      get("environ"), get("create_time"), get("username"))


def _in_threads(ask: Callable[[T], R], items: list[T], most: int = 8) -> list[R]:
    """Ask several at once; the first exception is raised when all have ended."""
    import threading

    answers: dict[int, R] = {}
    errors: list[BaseException] = []
    waiting = iter(range(len(items)))
    turn = threading.Lock()

    def work() -> None:
        while True:
            with turn:
                number = next(waiting, -1)
            if number < 0:
                return
            try:
                answers[number] = ask(items[number])
            except BaseException as error:
                errors.append(error)

    threads = [threading.Thread(target=work, daemon=True) for _ in range(min(most, len(items)))]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    if errors:
        raise errors[0]
    return [answers[number] for number in range(len(items))]


class _Child:
    """A child that was started, with the reading ends of its two outputs."""

    def __init__(self, pid: int, out: int, err: int, wait: Callable[[], int]) -> None:
        self.pid = pid
        self.out = out
        self.err = err
        self._wait = wait
        self._status: int | None = None
        self._turn = allocate_lock()

    def wait(self) -> int:
        """Wait for its end; return its exit status, negative for a signal."""
        with self._turn:  # a child can be waited for once; who comes second gets what the first was told
            if self._status is None:
                self._status = self._wait()
            return self._status


def _can_spawn(argv: Sequence[str]) -> bool:
    return sys.platform == "linux" and "/" in argv[0]


def _spawn(argv: Sequence[str], env: Mapping[str, str]) -> _Child:
    """Start a child in a session of its own by the system's own call: it needs no module loaded.

    Raises:
        OSError: it cannot be started.
    """
    out, out_end = os.pipe()
    err, err_end = os.pipe()
    try:
        pid = os.posix_spawn(argv[0], list(argv), dict(env), setsid=True, setsigdef=(13, 25), file_actions=[
            (os.POSIX_SPAWN_OPEN, 0, os.devnull, os.O_RDONLY, 0),
            (os.POSIX_SPAWN_DUP2, out_end, 1), (os.POSIX_SPAWN_DUP2, err_end, 2)])
    except BaseException:
        os.close(out)
        os.close(err)
        raise
    finally:
        os.close(out_end)
        os.close(err_end)
    return _Child(pid, out, err, lambda: os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]))


def _start(argv: Sequence[str], env: Mapping[str, str], folder: str | None) -> _Child:
    """Start a child in any folder, on any system.

    Raises:
        OSError, ValueError: it cannot be started.
    """
    import subprocess

    child = subprocess.Popen(
        list(argv), env=dict(env), cwd=folder, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
        stderr=subprocess.PIPE, start_new_session=sys.platform != "win32")
    assert child.stdout is not None and child.stderr is not None
    found = _Child(child.pid, os.dup(child.stdout.fileno()), os.dup(child.stderr.fileno()), child.wait)
    child.stdout.close()
    child.stderr.close()
    return found


def _wait(child: _Child, limit: float) -> bool:
    """Wait for a child in a thread: its own wait with a time limit sleeps between looks."""
    import threading

    waiter = threading.Thread(target=child.wait, daemon=True)
    waiter.start()
    waiter.join(limit)
    return not waiter.is_alive()


def end_process(pid: int, *, with_children: bool) -> None:
    """Kill a child and its process group; `with_children` looks for those that left the group."""
    children: list[Any] = []
    if with_children:
        import psutil

        try:
            children = psutil.Process(pid).children(recursive=True)
        except psutil.Error:
            children = []
    if hasattr(os, "killpg"):
        try:
            os.killpg(pid, 9)
        except (ProcessLookupError, PermissionError):
            pass
    else:
        import psutil

        try:
            psutil.Process(pid).kill()
        except psutil.Error:
            pass
    for process in children:
        try:
            process.kill()
        except Exception:  # it ended meanwhile
            pass


def own_command() -> tuple[str, ...]:
    """Return how Kalyx was started, as a command that works from anywhere."""
    script = os.path.abspath(sys.argv[0]) if sys.argv and sys.argv[0] else ""
    if os.path.basename(script).startswith("kalyx") and os.access(script, os.X_OK):
        return (script,)
    return (sys.executable, "-m", "kalyx")


class _Drain:
    """Reads a pipe to its end in a thread and keeps the first bytes of it."""

    def __init__(self, pipe: int) -> None:
        import threading

        self._pipe = pipe
        self._kept = bytearray()
        self._thread = threading.Thread(target=self._read, daemon=True)
        self._thread.start()

    def _read(self) -> None:
        try:
            while chunk := os.read(self._pipe, 65536):
                if len(self._kept) < OUTPUT_LIMIT:
                    self._kept += chunk[: OUTPUT_LIMIT - len(self._kept)]
        except (OSError, ValueError):
            pass

    def finish(self) -> bytes:
        # A grandchild outside the group may keep the pipe open: do not wait for it.
        self._thread.join(0.5)
        if not self._thread.is_alive():
            os.close(self._pipe)
        return bytes(self._kept)


def _reason(error: Exception) -> str:
    if isinstance(error, OSError) and error.strerror:
        return error.strerror[0].lower() + error.strerror[1:]
    return str(error)
