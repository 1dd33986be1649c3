"""What a beacon told, as a machine that answers from it: its Python, what is installed there, what it imported.

A block may come from anybody: each piece is checked here, so that no later code stumbles over it.
"""

from __future__ import annotations

import json
import ntpath
import posixpath
import re

from kalyx.core.facts.imports.kept_observation import observation_of, running_python_of
from kalyx.core.facts.native.builtin_modules import read_suffixes
from kalyx.core.lean.record import record, replace
from kalyx.core.machine.recorded import NO_FOLDER, RecordedMachine
from kalyx.core.masks import masked_document
from kalyx.core.model import Interpreter, Observation, RunningPython, python_version, version_pair

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping
    from types import ModuleType
    from typing import Any

__all__ = ["LEFT", "Told", "block_of", "told_by"]

_FLAG = re.compile(r"(\w{1,40})=(\d{1,9}|True|False)")
_PLATFORMS = {"linux2": "linux", "linux3": "linux", "cygwin": "linux"}
# What is said of a distribution that the block had no room for, by the word of `left`
CUT = 9999  # characters of a file that a beacon tells
LEFT = {"rows": "which files belong to them", "heads": "what distributions are and require",
        "tops": "which modules they bring", "files": "what files say", "folders": "what folders hold"}


@record
class Told:
    """What one beacon told: its host, its machine and Python, and what was seen of each import by its request.

    ``left`` names what the block had no room for.
    """

    host: str
    machine: RecordedMachine
    interpreter: Interpreter
    python: RunningPython
    observations: Mapping[str, Observation]
    left: tuple[str, ...] = ()


def told_by(facts: Any, own_folder: str) -> Told:
    """Return what a block's facts say.

    Raises:
        ValueError: they are not what a beacon tells; the message says where.
    """
    said = _Facts(masked_document(facts))
    machine = said.machine(own_folder)
    python = said.python()
    if python.version_pair == (0, 0) or not python.executable:
        raise ValueError("it names no Python")
    real = machine.real_path(python.executable)
    interpreter = Interpreter(python.executable, real, python.version, python.implementation, python.prefix,
                              python.base_prefix, "asked")
    return Told(said.text("host") or "an unnamed host", machine, interpreter, python, said.observations(python),
                tuple(said.text("left").split()))


class _Facts:
    """The facts of a block, asked for one by one."""

    def __init__(self, facts: Any) -> None:
        if not isinstance(facts, dict):
            raise ValueError("it holds no facts")
        self._facts = facts
        self.platform = _PLATFORMS.get(self.text("platform"), self.text("platform"))
        if self.platform not in ("linux", "darwin", "win32"):
            self.platform = "linux" if self.text("prefix").startswith("/") else "win32"
        self._path: ModuleType = ntpath if self.platform == "win32" else posixpath

    def text(self, name: str) -> str:
        """Return a text; empty where it is not there."""
        value = self._facts.get(name)
        if value is not None and not isinstance(value, str):
            raise ValueError(f"{name} is {type(value).__name__}")
        return value or ""

    def _object(self, name: str) -> dict[str, Any]:
        value = self._facts.get(name, {})
        if not isinstance(value, dict):
            raise ValueError(f"{name} is {type(value).__name__}")
        return value

    def _objects(self, name: str) -> list[dict[str, Any]]:
        value = self._facts.get(name, [])
        if not isinstance(value, list) or not all(isinstance(item, dict) for item in value):
            raise ValueError(f"{name} is no list of objects")
        return value

    # -- its Python ---------------------------------------------------------------------------
    def python(self) -> RunningPython:
        """Return what the interpreter said of itself."""
        names = ("executable", "prefix", "base_prefix", "path", "cwd", "user_site", "builtin", "stdlib")
        python = running_python_of({
            **{n: self._facts[n] for n in names if self._facts.get(n) is not None},
            "version": python_version(self.text("version")) or "", "platform": self.platform,
            "implementation": self.text("implementation") or ("pypy" if "PyPy" in self.text("version") else "cpython"),
            "flags": {n: int(v in ("True", "1") or (v.isdigit() and v != "0"))
                      for n, v in _FLAG.findall(self.text("flags"))}})
        library = [n for folder, names in self._folders().items() if re.search(r"lib-dynload$|DLLs$", folder)
                   for n in (names if isinstance(names, list) else ())]
        return replace(python, suffixes=tuple(read_suffixes(library, python.implementation,
                                                            version_pair(python.version))))

    def observations(self, python: RunningPython) -> dict[str, Observation]:
        """Return what was seen of each import, by its request."""
        found = {}
        for one in self._objects("imports"):
            module, chain = one.get("module"), one.get("chain")
            loaded = one.get("loaded")
            if not isinstance(module, str) or not isinstance(chain, list) or not isinstance(loaded, dict):
                raise ValueError("an import is not told as one")
            seen = observation_of({
                "module": module, "name": one.get("name"), "outcome": "fails" if chain else "imports", "loaded": loaded,
                "chain": [{**e, "frames": _frames(e.get("frames")), "name": e.get("name") or None,
                           "path": e.get("path") or None} for e in chain if isinstance(e, dict)]})
            file, search = seen.loaded.get(module, (None, ()))
            request = f"{module}:{seen.name}" if seen.name else module
            found[request] = replace(seen, python=python, origin=file, search=search)
        return found

    # -- its files ----------------------------------------------------------------------------
    def machine(self, own_folder: str) -> RecordedMachine:
        """Return the machine that has what was told, and of which nothing else is known."""
        answers: dict[str, dict[str, Any]] = {"list": {}, "kind": {}, "there": {}, "real": {}, "line": {}, "stat": {}}
        contents: dict[str, tuple[bytes, int | None]] = {}
        answers["real"] = {k: v for k, v in self._object("real").items() if isinstance(v, str)}
        for folder, names in self._folders().items():
            self._add_folder(answers, folder, names)
        for path, text in self._object("files").items():
            if isinstance(text, str):
                contents[path] = (text.encode("utf-8", "replace"), CUT if len(text) >= CUT else None)
        for one in self._objects("installed"):
            self._add_distribution(answers, contents, one)
        answers["kind"][self.text("executable")] = "file"
        answers["line"] = {f"{row[1]}:{row[0]}": row[3] for one in self._objects("imports")
                           for error in one.get("chain") or () for row in error.get("frames") or ()
                           if len(row) == 4 and isinstance(row[3], str)}
        env = {k: v for k, v in self._object("env").items() if isinstance(v, str)}
        self._add_what_follows(answers, env)
        said = {"platform": self.platform, "cwd": self.text("cwd"), "home": self.text("home") or "/", "env": env,
                "user_id": 0, "own_command": ["kalyx"]}
        return RecordedMachine(said, answers, contents, own_folder, links_known=False)

    def _add_what_follows(self, answers: dict[str, dict[str, Any]], env: dict[str, str]) -> None:
        """Add what follows from what the interpreter said of itself.

        One that runs in no environment obeys no pyvenv.cfg (PEP 405); a user's folder tells where all of them lie.
        """
        program, prefix = self.text("executable"), self.text("prefix")
        if prefix == self.text("base_prefix"):
            folder = self._path.dirname(program)
            for place in (folder, self._path.dirname(folder)):
                answers["there"].setdefault(self._path.join(place, "pyvenv.cfg"), False)
        lib, lib64 = self._path.join(prefix, "lib"), self._path.join(prefix, "lib64")
        if not any(self._path.join(folder, "").startswith(lib64) for folder in self._folders()):
            answers["real"].setdefault(lib64, answers["real"].get(lib, lib))  # unused, it is another name of lib
        user = re.fullmatch(r"(.+)\\Python\\Python\d+\\site-packages", self.text("user_site"))
        if user and self.platform == "win32":
            env.setdefault("APPDATA", user[1])

    def _folders(self) -> dict[str, list[str] | bool | None]:
        """Return the names in each folder that was listed; None where it could not be, else whether it is there."""
        return {folder: [n for n in names if isinstance(n, str)] if isinstance(names, list) else names
                for folder, names in self._object("folders").items()}

    def _add_folder(self, answers: dict[str, dict[str, Any]], folder: str,
                    names: list[str] | bool | None) -> None:
        if not isinstance(names, list):
            answers["there"][folder] = names is not False
            if names is not False:
                answers["kind"][folder] = "file" if names else "folder"
            if names is not False:
                answers["list"][folder] = NO_FOLDER if names else "it could not be listed there"
            return
        answers["list"][folder], answers["kind"][folder] = [n.rstrip("/") for n in names], "folder"
        for name in names:  # the cell marks the folders among those without a dot
            path = self._path.join(folder, name.rstrip("/"))
            if name.endswith(("/", ".dist-info", ".egg-info")) or re.fullmatch(r"python\d\.\d{1,2}t?", name):
                answers["kind"].setdefault(path, "folder")
            else:
                answers["kind"].setdefault(path, "file")

    def _add_distribution(self, answers: dict[str, dict[str, Any]], contents: dict[str, tuple[bytes, int | None]],
                          one: Mapping[str, Any]) -> None:
        """Lay out what was told of a distribution as its metadata has it."""
        place = one.get("at")
        if not isinstance(place, str):
            return
        heads = [r for r in one.get("heads") or () if isinstance(r, str)]
        if not heads:  # there was no room for them: the folder's name tells the most of it (PEP 376)
            name, _, version = self._path.basename(place).rpartition(".")[0].partition("-")
            heads = [f"Name: {name}", f"Version: {version.split('-py')[0]}"]
        files = {"METADATA": "\n".join([*heads, "", ""])}
        tops = [t for t in one.get("tops") or () if isinstance(t, str)]
        if tops:
            files["top_level.txt"] = "\n".join(dict.fromkeys(t.split(".")[0] for t in tops)) + "\n"
        for key, name in (("by", "INSTALLER"), ("url", "direct_url.json")):
            if isinstance(one.get(key), str) and one[key]:
                files[name] = one[key]
        inside = [n for n in one.get("in") or () if n in ("METADATA", "INSTALLER", "RECORD", "REQUESTED", "WHEEL")]
        # which modules it brings is told in one place, wherever the distribution itself says it
        answers["list"][place], answers["kind"][place] = [*dict.fromkeys([*(inside or files), *files])], "folder"
        rows = one.get("rows")
        if rows:
            files["RECORD"] = self._record(answers, self._path.dirname(place), rows)
        for name, text in files.items():
            contents[self._path.join(place, name)] = (text.encode("utf-8", "replace"), None)
        for name in inside:
            answers["kind"].setdefault(self._path.join(place, name), "file")

    def _record(self, answers: dict[str, dict[str, Any]], site: str, rows: Any) -> str:
        """Return the RECORD of a distribution (PEP 376), and add what its files are now: each row tells both."""
        lines = []
        for row in rows if isinstance(rows, list) else ():
            if not (isinstance(row, list) and len(row) == 3 and isinstance(row[0], str) and isinstance(row[1], str)):
                raise ValueError("a row of a RECORD is none")
            file = self._path.normpath(self._path.join(site, *row[0].strip('"').split("/")))
            is_there = isinstance(row[2], int) and not isinstance(row[2], bool)
            answers["stat"][file] = ["file", 0o100644, 0, row[2], 0.0, 0, 0, 0] if is_there else None
            lines.append(f"{row[0]},,{row[1]}")
        return "\n".join([*lines, ""])


def _frames(rows: Any) -> list[dict[str, Any]]:
    """Return frames as `observation_of` takes them."""
    if not isinstance(rows, list) or not all(isinstance(r, list) and len(r) == 4 for r in rows):
        raise ValueError("frames are no list of places")
    return [{"file": r[0], "line": r[1], "function": r[2]} for r in rows]


def block_of(facts: Any) -> str:
    """Return facts as a text that is the same for all hosts that tell the same."""
    said = {k: v for k, v in facts.items() if k != "host"} if isinstance(facts, dict) else facts
    return json.dumps(said, sort_keys=True)
