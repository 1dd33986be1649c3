"""Which files are meant to be run, and which to be imported; as what a file of a package is run."""

from __future__ import annotations

import re

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files

__all__ = ["dotted_name", "script_sign"]

HEAD = 1024 * 1024  # bytes of a file that are looked at
# What stands at the outermost level of a file that does something when it is run
_SIGNS = (
    (re.compile(r"\A#!.*"), "its first line names a program"),
    (re.compile(r"^if[ \t(]{1,9}__name__\s{0,9}==", re.MULTILINE), "it asks whether it is __main__"),
    (re.compile(r"^(?:(?:sys|asyncio|app|cli)\.)?(?:print|main|run|exit|quit)\(", re.MULTILINE),
     "it does something at its outermost level"),
)


def script_sign(files: Files, path: str) -> str:
    """Say by what a file shows that it is meant to be run; empty where nothing does."""
    if files.path.basename(path) == "__main__.py":
        return "it is the file that runs for its package"
    from kalyx.core.errors import Unreadable

    try:
        text = files.read_beginning(path, HEAD)
    except Unreadable:
        return ""
    return next((says for sign, says in _SIGNS if sign.search(text)), "")


def dotted_name(files: Files, path: str) -> tuple[str, str]:
    """Return the folder that holds the outermost package around a file, and its dotted name from there.

    The name has no dot where the file lies in no package.
    """
    m = files
    folder, stem = m.path.split(path)
    parts = [m.path.splitext(stem)[0]]
    while m.is_file(m.path.join(folder, "__init__.py")) and m.path.dirname(folder) != folder:
        parts.insert(0, m.path.basename(folder))
        folder = m.path.dirname(folder)
    if parts[-1] in ("__init__", "__main__") and len(parts) > 1:
        parts.pop()
    return str(folder), ".".join(parts)
