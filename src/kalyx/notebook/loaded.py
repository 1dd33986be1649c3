"""What a running Python has loaded, and of which files: seen early, so that what changes later is known."""

from __future__ import annotations

import os
import sys
from time import time as now

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

__all__ = ["LoadedModules", "version_of"]

MOST_CHANGED = 400  # modules that are told


class LoadedModules:
    """Remembers of each module the file that it was loaded of: its time, size and number, as they were then."""

    def __init__(self) -> None:
        self._seen: dict[str, tuple[object, str, tuple[int, int, int], float]] = {}
        self._own: list[str] = []  # modules of the person's own: these are edited, and loaded again
        self._latest: tuple[int, str] = (0, "")
        self.look()

    def look(self) -> None:
        """Take up the modules that came in since, or were loaded again; where none did, that takes no time."""
        for name in self._own:
            if self._is_other(name):
                self._take_up(name, sys.modules.get(name))
        latest = len(sys.modules), next(reversed(sys.modules), "")
        if latest == self._latest:
            return
        for name, module in list(sys.modules.items()):
            if name not in self._seen:
                self._take_up(name, module)
        self._latest = latest

    def _take_up(self, name: str, module: Any) -> None:
        file = _own(module, "__file__")
        if isinstance(file, str) and file:
            file = os.path.abspath(file)
            stamp = _stamp(file)
            if stamp is not None:
                if name not in self._seen and not file.startswith((sys.prefix, sys.base_prefix)):
                    self._own.append(name)
                self._seen[name] = _own(module, "__spec__"), file, stamp, now()

    def _is_other(self, name: str) -> bool:
        """Whether a module is gone or was loaded anew since it was seen: that makes a new spec."""
        return _own(sys.modules.get(name), "__spec__") is not self._seen[name][0]

    def changed(self) -> list[dict[str, Any]]:
        """Return the modules that are loaded still, and whose file is another one now, or gone."""
        found: list[dict[str, Any]] = []
        for name, (_, file, stamp, seen) in list(self._seen.items()):
            module = sys.modules.get(name)
            if self._is_other(name):
                self._take_up(name, module)
                continue
            found_now = _stamp(file)
            if found_now != stamp and len(found) < MOST_CHANGED:
                found.append({"name": name, "file": file, "how": "gone" if found_now is None else "changed",
                              "version": version_of(module), "seen": seen})
        return found


def _own(module: Any, name: str) -> Any:
    """Return an attribute of a module itself; None where it has none. Lazy modules are not woken."""
    try:
        return object.__getattribute__(module, "__dict__").get(name)
    except Exception:
        return None


def _stamp(file: str) -> tuple[int, int, int] | None:
    try:
        info = os.stat(file)
    except (OSError, ValueError):
        return None
    return info.st_mtime_ns, info.st_size, info.st_ino


def version_of(module: Any) -> str:
    """Return what a module says of its version; empty where it says none."""
    version = _own(module, "__version__")
    return version[:60] if isinstance(version, str) else ""
