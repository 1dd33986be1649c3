"""What a command name starts: PATH, symlinks, shebang lines, shell wrappers."""

from __future__ import annotations

import re
from functools import cache

from kalyx.core.errors import Unreadable
from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.facts.files import Files

__all__ = ["Found", "Shebang", "find_on_path", "follow_links", "hands_over", "parse_shebang",
           "parse_wrapper", "read_head", "split_path", "version_in_name"]

HEAD = 8192  # bytes; a wrapper or the top of a script
_PYTHON = re.compile(r"^(python|pypy)[\d.]*[dmtu]*w?(\.exe)?$", re.IGNORECASE)


@record
class Found:
    """A file found for a command name: PATH entry by number (from 1), folder and path."""

    entry: int
    folder: str
    path: str


@record
class Shebang:
    """A script's first line taken apart.

    ``program`` runs the script; ``form`` is direct, env (looked up on PATH) or
    sh (a ``/bin/sh`` line that hands over to a long path); ``line`` is where it stands.
    """

    program: str
    args: tuple[str, ...]
    form: str
    line: int = 1


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


def parse_shebang(head: bytes) -> Shebang | None:
    """Take a script's first line apart; None when it is no script.

    Besides the direct form this knows ``/usr/bin/env [-S] NAME`` and the
    two-line form that installers write where the path is too long for a
    shebang or holds a space::

        #!/bin/sh
        '''exec' "/a long/path/bin/python" "$0" "$@"
    """
    if not head.startswith(b"#!"):
        return None
    lines = head.decode("utf-8", "replace").splitlines()
    words = lines[0][2:].strip().split(None, 1)
    if not words:
        return None
    program, rest = words[0], words[1] if len(words) > 1 else ""
    if program.endswith("/sh") and len(lines) > 1:
        hop = re.match(r"""'''exec' (?:"([^"]+)"|'([^']+)'|(\S+))(.*)"\$0" "\$@\"""", lines[1])
        if hop:
            target = hop.group(1) or hop.group(2) or hop.group(3)
            return Shebang(target, tuple(hop.group(4).split()), "sh", 2)
    if program.rsplit("/", 1)[-1] == "env":
        args = rest.split()
        while args and (args[0] in ("-S", "-i", "-") or "=" in args[0]):
            args.pop(0)
        if args and args[0].startswith("-S"):
            args[0] = args[0][2:]
        if args:
            return Shebang(args[0], tuple(args[1:]), "env")
        return None
    return Shebang(program, tuple(rest.split()), "direct")


def is_python_name(program: str) -> bool:
    """Whether a program's file name is one that Python interpreters carry."""
    return bool(_PYTHON.match(program.replace("\\", "/").rsplit("/", 1)[-1]))


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


SHELLS = ("sh", "bash", "dash", "zsh", "ksh", "ash", "busybox")
_CONDITIONS = ("if", "case", "for", "while", "until", "function", "[", "[[", "test")


def parse_wrapper(text: str, path: str = "", home: str = "") -> str | None:
    """Return the program that a shell wrapper at `path` hands over to, when its text says so outright.

    Only one ``exec`` of an absolute path that passes ``"$@"`` on counts. What
    the text sets before may stand in it, and the wrapper's own name and folder;
    anything that depends on conditions or on other commands is for the wrapper
    to answer.
    """
    known = {"HOME": home} if home else {}
    hops = []
    for line in text.split("\n"):  # by words, not by an expression: to compile one takes as long as all of this
        word, _, rest = line.strip().replace("\t", " ").partition(" ")
        if word == "exec":
            hops.append(rest.lstrip())
        elif word.rstrip("[(;") in _CONDITIONS:
            return None
        elif "=" in (set_here := rest.strip() if word == "export" else line.strip()):
            name, _, value = set_here.partition("=")
            if name.isidentifier():
                known[name] = _filled(value, known, path) or "$"
    if len(hops) != 1 or not hops[0]:
        return None
    raw, rest = _first_word(hops[0])
    program = _filled(raw, known, path)
    if not program or not program.startswith("/") or '"$@"' not in rest or not is_python_name(program):
        return None
    return program


def hands_over(text: str) -> bool:
    """Whether a script's text shows that it starts a Python: a shell script that passes its words on to one."""
    shebang = parse_shebang(text.encode("utf-8", "replace"))
    if shebang is None or shebang.program.rsplit("/", 1)[-1] not in SHELLS:
        return False
    passing = [ln for ln in text.split("\n") if "$@" in ln and not ln.lstrip().startswith("#")]
    return any(re.search(r"python|pypy|\$\{?0|\$\{?program\b|BASH_SOURCE", line) for line in passing)


def _first_word(command: str) -> tuple[str, str]:
    """Return the first word of a shell command as written, and what follows."""
    word, quote, depth = "", "", 0
    for place, char in enumerate(command):
        if char.isspace() and not quote and not depth:
            return word, command[place:]
        if char in "\"'" and not depth:
            quote = "" if char == quote else quote or char
        depth += (char == "(") - (char == ")")
        word += char
    return word, ""


def _filled(raw: str, known: Mapping[str, str], path: str) -> str:
    """Return a shell word with its quotes taken off and what is known filled in; empty where more is in it."""
    if raw[:1] == "'" == raw[-1:] and "'" not in raw[1:-1]:
        return raw[1:-1]
    text = raw
    folder, _, name = path.rpartition("/")
    for form in ("${0##*/}", '$(basename "$0")', "$(basename $0)", '"$(basename "$0")"'):
        text = text.replace(form, name)
    for form in ('$(dirname "$0")', "$(dirname $0)", "${0%/*}"):
        text = text.replace(form, folder)
    text = text.replace('"', "")
    for variable in sorted(known, key=len, reverse=True):
        text = text.replace("${" + variable + "}", known[variable])
        text = re.sub(r"\$" + variable + r"(?!\w)", known[variable].replace("\\", r"\\"), text)
    return "" if set(text) & set("'$`\\*?[") else text
