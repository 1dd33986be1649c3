"""The modules that are loaded in a shell of a cluster (``LOADEDMODULES``), and which variable each has set to what.

Their files are read, not run: plain Tcl, and plain Lua (both forms that the environment-modules convention knows).
"""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.lean.record import record
from kalyx.core.model import Evidence

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping

    from kalyx.core.facts.files import Files

__all__ = ["Bringing", "brought_by", "loaded_modules", "read_module_file"]

MOST_MODULES = 200
LARGEST = 262_144  # bytes of a module's file
LONGEST_LINE = 4096
_TCL_WORD = re.compile(r'"([^"]*)"|\{([^{}]*)\}|(\[[^\[\]]*\])|((?:\$\{\w+\}|[^\s"{}\[\];])+)|;.*')
_TCL_NAME = re.compile(r"\$(?:env\((\w+)\)|\{(\w+)\}|(\w+))")
_LUA_PART = re.compile(r'"([^"\n]*)"|\'([^\'\n]*)\'|([A-Za-z_][\w.]*)|(\.\.)|([(),{}=;])')
_SETS = ("prepend-path", "append-path", "setenv", "pushenv", "prepend_path", "append_path")


@record
class Bringing:
    """A loaded module that has a folder or a value in a variable; ``evidence`` says how that is known."""

    module: str
    evidence: Evidence


def loaded_modules(files: Files, env: Mapping[str, str]) -> list[tuple[str, str]]:
    """Return the loaded modules, the last loaded first: name, and file (empty where that is not said)."""
    names = [n for n in env.get("LOADEDMODULES", "").split(files.path_separator) if n]
    places = [f for f in env.get("_LMFILES_", "").split(files.path_separator) if f]
    places = places if len(places) == len(names) else [""] * len(names)
    return list(zip(names, places, strict=True))[::-1][:MOST_MODULES]


def brought_by(files: Files, env: Mapping[str, str], variable: str, value: str) -> Bringing | None:
    """Return which loaded module brought a folder (or a value) into a variable; None where none is known to.

    By its file; where no file that can be read says so, by its name, which is a part of the folder's path.
    """
    modules = loaded_modules(files, env)
    for name, place in modules:
        for set_name, text, line in read_module_file(files, place, env) if place else ():
            if set_name == variable and any(p and _same(files, p, value) for p in text.split(files.path_separator)):
                return Bringing(name, Evidence(f"the loaded module {name} puts {value} into {variable}", place, line))
    named = [(name, place) for name, place in modules if _is_named(name, value) and not _is_readable(files, place)]
    if not named:
        return None
    name, place = max(named, key=lambda one: len(one[0]))
    return Bringing(name, Evidence(f"{value} in {variable} carries the name of the loaded module {name}, whose file "
                                   "cannot be read", place or None))


def _same(files: Files, one: str, other: str) -> bool:
    return one == other or (files.path.isabs(one) and files.path.isabs(other) and files.same(one, other))


def _is_named(module: str, folder: str) -> bool:
    """Whether a module's name and version stand in a folder's path, or its name does where it has no version."""
    parts = [p.lower() for p in re.split(r"[/\\]", folder) if p]
    wanted = [p.lower() for p in module.split("/") if p]
    return any(parts[n:n + len(wanted)] == wanted for n in range(len(parts))) or "-".join(wanted) in parts


def _is_readable(files: Files, place: str) -> bool:
    try:
        files.read_text(place, LARGEST)
    except Unreadable:
        return False
    return bool(place)


def read_module_file(files: Files, place: str, env: Mapping[str, str]) -> list[tuple[str, str, int]]:
    """Return what a module's file sets: variable, value or folder, and line; nothing where it cannot be read."""
    for file in (place, f"{place}.lua"):
        try:
            text = files.read_text(file, LARGEST)
        except Unreadable:
            continue
        return list(_lua(text, env) if file.endswith(".lua") else _tcl(text, env))
    return []


def _tcl(text: str, env: Mapping[str, str]) -> Iterator[tuple[str, str, int]]:
    known: dict[str, str] = {}
    for number, line in enumerate(text.split("\n"), 1):
        words = [_tcl_value(m, known, env) for m in _TCL_WORD.finditer(line.strip()[:LONGEST_LINE]) if m.lastindex]
        if not words or words[0] is None or words[0].startswith("#"):
            continue
        command, rest = words[0], words[1:]
        while command in _SETS and len(rest) > 1 and (rest[0] or "").startswith("-"):
            rest = rest[2 if rest[0] in ("-d", "--delim") else 1:]
        if command == "set" and len(rest) == 2 and rest[0] and rest[1] is not None:
            known[rest[0]] = rest[1]
        elif command in _SETS and len(rest) > 1 and rest[0]:
            yield from ((rest[0], value, number) for value in rest[1:] if value is not None)


def _tcl_value(word: re.Match[str], known: Mapping[str, str], env: Mapping[str, str]) -> str | None:
    """Return what a word of Tcl is; None where it takes more than reading."""
    quoted, braced, command, plain = word.groups()
    if braced is not None:
        return braced
    if command is not None:
        parts = [_tcl_value(m, known, env) for m in _TCL_WORD.finditer(command[1:-1]) if m.lastindex]
        if parts[:2] != ["file", "join"] or None in parts:
            return None
        return "/".join(p.rstrip("/") for p in parts[2:] if p)
    text, unknown = quoted if quoted is not None else plain, []

    def fill(match: re.Match[str]) -> str:
        from_env, *names = match.groups()
        found = env.get(from_env) if from_env else known.get(next(filter(None, names), ""))
        unknown.extend([match[0]] if found is None else [])
        return found or ""

    filled = _TCL_NAME.sub(fill, text)
    return None if unknown or len(filled) > LONGEST_LINE else filled


def _lua(text: str, env: Mapping[str, str]) -> Iterator[tuple[str, str, int]]:
    known: dict[str, str] = {}
    for number, line in enumerate(text.split("\n"), 1):
        parts = [m.groups() for m in _LUA_PART.finditer(line.split("--")[0][:LONGEST_LINE])]
        names = [p[2] for p in parts]
        if names[:1] == ["local"]:
            parts, names = parts[1:], names[1:]
        if len(parts) > 2 and names[0] and parts[1][4] == "=":
            value, end = _lua_value(parts, 2, known, env)
            if value is not None and end >= len(parts):
                known[names[0]] = value
        elif len(parts) > 4 and names[0] in _SETS and parts[1][4] in ("(", "{"):
            variable, at = _lua_value(parts, 2, known, env)
            value, _ = _lua_value(parts, at + 1, known, env)
            if variable and value is not None:
                yield variable, value, number


def _lua_value(parts: list[tuple[str, ...]], at: int, known: Mapping[str, str],
               env: Mapping[str, str]) -> tuple[str | None, int]:
    """Return what an expression of Lua is, and where it ends: texts, names, ``..``, pathJoin and os.getenv."""
    value: str | None = ""
    while at < len(parts):
        double, single, name, joined, sign = parts[at]
        called = at + 1 < len(parts) and parts[at + 1][4] == "("
        if sign:
            break
        if joined:
            at += 1
            continue
        one: str | None = double if double is not None else single
        if one is None and called and name in ("pathJoin", "os.getenv"):
            arguments, at = [], at + 2
            while at < len(parts) and parts[at][4] != ")":
                argument, at = _lua_value(parts, at, known, env)
                arguments.append(argument)
                at += at < len(parts) and parts[at][4] == ","
                if at < len(parts) and parts[at][4] in ("(", "{", "}", "=", ";"):
                    return None, at
            given = [a for a in arguments if a is not None]
            one = None if len(given) < len(arguments) or not given else (
                env.get(given[0]) if name == "os.getenv" else "/".join(a.rstrip("/") for a in given))
        elif one is None:
            one = None if called else known.get(name or "")
        value = None if value is None or one is None else value + one
        at += 1
    return (value if value is None or len(value) <= LONGEST_LINE else None), at
