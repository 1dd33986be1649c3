"""A machine of which only a text is known: it has the files that the text speaks of, and no others."""

from __future__ import annotations

import ntpath
import posixpath

from kalyx.core.errors import Unreadable
from kalyx.core.machine.interface import Machine
from kalyx.core.machine.results import FileInfo

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping
    from types import ModuleType

__all__ = ["TextMachine"]


class TextMachine(Machine):
    """Answers from a dictionary of files; nothing can be run on it, and nothing is a link."""

    def __init__(self, files: Mapping[str, str], *, windows: bool) -> None:
        self.platform = "win32" if windows else "linux"
        self.env: dict[str, str] = {}
        self.home = ""
        self.user_id = 0
        self.own_command = ("kalyx",)
        self._module: ModuleType = ntpath if windows else posixpath
        self.cwd = "C:\\" if windows else "/"
        self._files: dict[str, str] = {}
        self._folders: dict[str, set[str]] = {}
        for path, text in files.items():
            self._add(path, text)

    def _add(self, path: str, text: str) -> None:
        self._files[self._norm(path)] = text
        child = self._module.normpath(path)
        while (parent := self._module.dirname(child)) != child:
            self._folders.setdefault(self._norm(parent), set()).add(self._module.basename(child))
            child = parent

    def _norm(self, path: str) -> str:
        return str(self._module.normcase(self._module.normpath(path)))

    def stat(self, path: str) -> FileInfo | None:
        name = self._norm(path)
        if name in self._files:
            return FileInfo("file", 0o100644, 0, len(self._files[name]))
        return FileInfo("folder", 0o40755, 0, 0) if name in self._folders else None

    def read_link(self, path: str) -> str | None:
        return None

    def real_path(self, path: str) -> str:
        return str(self._module.normpath(path))

    def read_bytes(self, path: str, limit: int = 1 << 25) -> bytes:
        found = self._files.get(self._norm(path))
        if found is None:
            raise Unreadable(path, "the text does not show it")
        return found.encode("utf-8", "replace")[:limit]

    def list_folder(self, path: str) -> list[str]:
        found = self._folders.get(self._norm(path))
        if found is None:
            raise Unreadable(path, "the text does not show it")
        return sorted(found)
