"""Which modules and names the standard library has had, and when."""

from __future__ import annotations

from kalyx.core.tables.load import load

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

__all__ = ["SYSTEM_ONLY", "library_names", "stdlib_history"]

# Modules that the standard library has on one kind of system alone
SYSTEM_ONLY = {
    "Windows": frozenset({"winreg", "_winreg", "winsound", "msvcrt", "nt", "_winapi", "msilib", "_msi",
                          "_overlapped"}),
    "Unix": frozenset({"posix", "pwd", "grp", "spwd", "fcntl", "termios", "tty", "pty", "resource",
                       "syslog", "nis", "crypt", "readline", "_posixsubprocess", "_posixshmem"}),
}


def stdlib_history() -> dict[str, Any]:
    """Return the table of standard library modules that came or went, and its companions."""
    return load("stdlib_history.json")


def library_names() -> dict[str, Any]:
    """Return the table of what came to the standard library and went, by version."""
    return load("library_names.json")
