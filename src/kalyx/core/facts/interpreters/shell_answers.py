"""What a command within a word of a shell's text answers, where files and known words tell it."""

from __future__ import annotations

from posixpath import basename, dirname

from kalyx.core.facts.interpreters.path_lookup import find_on_path
from kalyx.core.facts.interpreters.shell_words import MARKED, UNSET

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.files import Files

__all__ = ["answer_of"]


def answer_of(files: Files, commands: Sequence[Sequence[str]], path: str, folder: str) -> str:
    """Return what commands print that are run one after the other in a folder; a mark where that is not known.

    Known are those by which a script finds its own place, and programs.
    """
    m = files
    first = [w for w in commands[0] if w != "--"] if commands else []
    if not first or any({MARKED, UNSET} & set(w) for words in commands for w in words):
        return MARKED
    name, last = first[0], first[-1]
    if len(commands) == 2 and name == "cd" and commands[1][0] == "pwd":
        there = m.located(last, folder)
        return m.real_path(there) if "-P" in (*first, *commands[1]) else m.path.normpath(there)
    if len(commands) > 1:
        return MARKED
    if name == "pwd":
        return folder
    if name in ("dirname", "basename") and len(first) == 2:
        return (dirname(last.rstrip("/")) or ".") if name == "dirname" else basename(last.rstrip("/"))
    if name == "realpath" or (name == "readlink" and {"f", "e"} & set(first[1])):
        return m.real_path(m.located(last, folder))
    if name in ("which", "command") and len(first) > 1:
        found = find_on_path(m, last, path, first_only=True)
        return found[0].path if found else MARKED
    if name == "uname" and first[1:] in ([], ["-s"]):
        return {"linux": "Linux", "darwin": "Darwin"}.get(m.platform, MARKED)
    if list(first[-2:]) == ["info", "--base"]:
        on_path = find_on_path(m, name, path, first_only=True) if "/" not in name else []
        program = on_path[0].path if on_path else m.located(name, folder)
        return dirname(dirname(program)) if m.is_there(program) else MARKED
    return " ".join(first[1:]) if name == "echo" else MARKED
