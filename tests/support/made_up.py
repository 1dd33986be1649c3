"""A made-up machine: a dictionary of files on a platform of choice."""

from __future__ import annotations

import ntpath
import posixpath
from collections.abc import Mapping, Sequence

from kalyx.core.errors import Unreadable
from kalyx.core.machine.interface import Machine
from kalyx.core.machine.results import FileInfo, RunResult


class MadeUpMachine(Machine):
    """Files are text or bytes by path; a value that starts with ``->`` is a symlink.

    `answers` maps the path of a program to what it prints; anything else
    cannot be started. `ran` keeps what was asked to run. The folders `closed` may not be listed.
    """

    def __init__(self, platform: str, files: Mapping[str, str | bytes], *,
                 env: Mapping[str, str] | None = None, cwd: str = "", home: str = "",
                 answers: Mapping[str, str] | None = None, closed: Sequence[str] = ()) -> None:
        self.platform = platform
        self.env = dict(env or {})
        self.home = home or (r"C:\Users\ada" if platform == "win32" else "/home/ada")
        self.cwd = cwd or self.home
        self.user_id = 1000
        self.own_command = ("kalyx",)
        self.answers = dict(answers or {})
        self.ran: list[list[str]] = []
        self.registry: list[str] = []
        self.closed = closed
        self._paths = ntpath if platform == "win32" else posixpath
        self._files = {self._norm(k): v for k, v in files.items()}
        self._spelt = {self._norm(k): self._paths.normpath(k) for k in files}  # listed as they were made

    def _norm(self, path: str) -> str:
        return self._paths.normcase(self._paths.normpath(path))

    def _resolve(self, path: str) -> str:
        for _ in range(20):
            target = self._files.get(self._norm(path))
            if not isinstance(target, str) or not target.startswith("->"):
                return path
            path = self._paths.join(self._paths.dirname(path), target[2:])
        return path

    def stat(self, path: str) -> FileInfo | None:
        real = self._norm(self._resolve(path))
        if real in self._files:
            return FileInfo("file", 0o100755, 1000, len(self._files[real]))
        inside = real.rstrip(self._paths.sep) + self._paths.sep
        if any(name.startswith(inside) for name in self._files):
            return FileInfo("folder", 0o40755, 1000, 0)
        return None

    def read_link(self, path: str) -> str | None:
        value = self._files.get(self._norm(path))
        return value[2:] if isinstance(value, str) and value.startswith("->") else None

    def real_path(self, path: str) -> str:
        return self._paths.normpath(self._resolve(path))

    def read_bytes(self, path: str, limit: int = 1 << 25) -> bytes:
        value = self._files.get(self._norm(self._resolve(path)))
        if value is None:
            raise Unreadable(path, "it does not exist")
        return (value if isinstance(value, bytes) else value.encode())[:limit]

    def registered_pythons(self) -> list[str]:
        return self.registry

    def list_folder(self, path: str) -> list[str]:
        if path in self.closed:
            raise Unreadable(path, "permission denied")
        inside = self._norm(path).rstrip(self._paths.sep) + self._paths.sep
        names = {self._spelt[f][len(inside):].split(self._paths.sep)[0] for f in self._files
                 if f.startswith(inside)}
        if not names:
            raise Unreadable(path, "it does not exist")
        return sorted(names)

    def run(self, argv: Sequence[str], *, env: Mapping[str, str] | None = None,
            cwd: str | None = None, limit: float = 10.0, judged: FileInfo | None = None) -> RunResult:
        self.ran.append(list(argv))
        if argv[0] in self.answers:
            return RunResult(0, self.answers[argv[0]].encode(), b"", False, 0.0)
        return RunResult(None, b"", b"", False, 0.0, "it cannot be run here")
