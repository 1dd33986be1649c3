"""What a command name means: PATH and symlinks."""

from __future__ import annotations

import re
from functools import cache

from kalyx.core.errors import Unreadable
from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files

__all__ = ["Found", "find_on_path", "follow_links", "is_like_python_name", "is_python_name", "read_head", "split_path",
           "version_in_name"]

HEAD = 8192  # bytes; a wrapper or the top of a script
_PYTHON = re.compile(r"^(python|pypy)[\d.]*[dmtu]*w?(\.exe)?$", re.IGNORECASE)
# As wrappers name the program that they were put in front of: python.real, .python3-wrapped
_LIKE_PYTHON = re.compile(r"^\.?(?:python|pypy)[\w.+-]{0,60}(?<!config)(?<!\.py)$", re.IGNORECASE)


@record
class Found:
    """A file found for a command name: PATH entry by number (from 1), folder and path."""

    entry: int
    folder: str
    path: str


def split_path(files: Files, value: str) -> list[str]:
    """Split PATH into folders; an empty or relative entry starts at the working folder."""
    folders = []
    for entry in value.split(files.path_separator):
        entry = entry.strip('"') if files.platform == "win32" else entry
        folders.append(files.absolute(entry) if entry else files.cwd)
    return folders


def find_on_path(
    files: Files, name: str, value: str | None = None, *, first_only: bool = False
) -> list[Found]:
    """Return every executable called `name` on PATH, in order of search."""
    value = files.env.get("PATH", "") if value is None else value
    endings = [""]
    if files.platform == "win32":
        given = files.env.get("PATHEXT", ".COM;.EXE;.BAT;.CMD").split(";")
        endings = [e.lower() for e in given if e]
        if files.path.splitext(name)[1].lower() in endings:
            endings = [""]
    found: list[Found] = []
    seen: set[str] = set()
    for number, folder in enumerate(split_path(files, value), 1):
        if not value or folder in seen:
            continue
        seen.add(folder)
        for ending in endings:
            path = files.path.join(folder, name + ending)
            if files.is_executable(path):
                found.append(Found(number, folder, path))
                if first_only:
                    return found
                break
    return found


def follow_links(files: Files, path: str) -> list[tuple[str, str]]:
    """Return the symlinks from `path` on as (link, target), targets absolute.

    Only links of the last part of the path count; a loop ends the list.
    """
    steps: list[tuple[str, str]] = []
    seen = {path}
    while (target := files.read_link(path)) is not None and len(steps) < 40:
        target = files.absolute(target, files.path.dirname(path))
        steps.append((path, target))
        if target in seen:
            break
        seen.add(target)
        path = target
    return steps


def read_head(files: Files, path: str) -> bytes:
    """Return the first bytes of a file, or nothing when it cannot be read."""
    try:
        return files.read_bytes(path, HEAD)
    except Unreadable:
        return b""


def is_python_name(program: str) -> bool:
    """Whether a program's file name is one that Python interpreters carry."""
    return bool(_PYTHON.match(program.replace("\\", "/").rsplit("/", 1)[-1]))


def is_like_python_name(program: str) -> bool:
    """Whether a program's file name may be that of a Python: its file tells whether it is one."""
    return bool(_LIKE_PYTHON.match(program.replace("\\", "/").rsplit("/", 1)[-1]))


@cache
def version_in_name(name: str) -> str | None:
    """Return the version in the name of a program or library folder: ``3.11`` of ``python3.11t``.

    Empty where it carries none (``python``); None when it is no name of Python's.
    """
    if name[:8] == "python3." and name[8:].isdigit():  # nearly all are
        return name[6:]
    start = next((s for s in ("python", "pypy") if name.startswith(s)), None)
    if start is None or name == start:
        return start and ""
    version = name[len(start):].removesuffix("t")
    major, dot, minor = version.partition(".")
    known = len(major) == 1 and major.isdigit() and (minor.isdigit() if dot else True)
    return version if known else None
