"""Which modules an interpreter has compiled in, read from its program: nothing of it is run."""

from __future__ import annotations

import os
import re
import sys

from kalyx.core.errors import Unreadable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Mapping

    from kalyx.core.facts.files import Files
    from kalyx.core.model import Interpreter

__all__ = ["CompiledIn", "read_suffixes"]

PROGRAM_LIMIT = 128 * 1024 * 1024  # bytes of a program or its library
# Those that begin otherwise
ALWAYS = {"sys", "__main__", "builtins", "marshal", "_warnings", "_imp", "_frozen_importlib",
          "_frozen_importlib_external"}
ALWAYS_IN_2 = {"sys", "__main__", "__builtin__", "exceptions", "marshal", "_warnings"}


class CompiledIn:
    """The modules that need no file: each begins by a function of the program or its library, ``PyInit_NAME``.

    Of PyPy all that may be compiled in counts: its program does not show it for certain.
    """

    def __init__(self, files: Files, interpreter: Interpreter, env: Mapping[str, str]) -> None:
        self._files = files
        self._program = files.real_path(interpreter.path)
        self._env = env
        self._is_pypy = interpreter.implementation == "pypy"
        self._major = (interpreter.version_pair or (3, 0))[0]
        self._found: frozenset[str] | None = None
        self._known: dict[str, bool] = {}

    def __contains__(self, name: object) -> bool:
        """Whether a module is compiled in."""
        if not isinstance(name, str) or not name.isidentifier():
            return False
        if name in (ALWAYS_IN_2 if self._major == 2 else ALWAYS):
            return True
        if name not in self._known:
            self._known[name] = name in self._names() or (
                self._is_pypy and (name[0] == "_" or name in sys.stdlib_module_names))
        return self._known[name]

    def __iter__(self) -> Iterator[str]:
        """Yield those that every interpreter of the kind has; which others, only a name can be asked for."""
        return iter(ALWAYS_IN_2 if self._major == 2 else ALWAYS)

    def __len__(self) -> int:
        """Return how many those are."""
        return len(ALWAYS_IN_2 if self._major == 2 else ALWAYS)

    def _names(self) -> frozenset[str]:
        """Return the names that stand in the program, or in the library that is all of Python."""
        if self._found is None:
            form = rb"module_(\w{1,80})\.c\0" if self._is_pypy else (
                rb"init(\w{1,80})\0" if self._major == 2 else rb"PyInit_(\w{1,80})")
            said = self._files.found(f"what is compiled into {self._program}", lambda files: self._read(files, form))
            self._found = frozenset(map(str, said))
        return self._found

    def _read(self, files: Files, form: bytes) -> list[str]:
        """Read the program, and the library where the program is only its beginning."""
        data = _content(files, self._program)
        found = set(re.findall(form, data))
        if b"libpython" in data or b"libpypy" in data:
            for library in self._beside(files, data) or self._libraries(files):
                found |= set(re.findall(form, _content(files, library)))
        return sorted(name.decode() for name in found)

    def _beside(self, files: Files, data: bytes) -> list[str]:
        """Return the library that is all of Python, where the first place that the program has it from is plain.

        That is so of the most, whose list of such places begins with the library folder beside them.
        """
        names = set(re.findall(rb"\0(lib(?:python|pypy)[\w.-]*\.so[\w.]*)\0", data))
        folder = files.path.join(files.path.dirname(files.path.dirname(self._program)), "lib")
        starts = (os.fsencode(folder), b"$ORIGIN/../lib")
        if len(names) != 1 or self._env.get("LD_LIBRARY_PATH") or not any(
                b"\0" + start + end in data for start in starts for end in (b":", b"\0")):
            return []
        place = files.path.join(folder, os.fsdecode(names.pop()))
        return [place] if files.is_file(place) else []

    def _libraries(self, files: Files) -> list[str]:
        """Return it as the system's loader finds it."""
        from kalyx.core.facts.native.binaries import read_binary
        from kalyx.core.facts.native.loader import Loader

        program = read_binary(files, self._program)
        loader = Loader(files, self._env, program)
        return [loader.find(name, program)[0] or "" for name in program.needed
                if name.startswith(("libpython", "libpypy"))]


def _content(files: Files, path: str) -> bytes:
    try:
        return files.read_bytes(path, PROGRAM_LIMIT)
    except Unreadable:
        return b""


def read_suffixes(names: Iterable[str], implementation: str | None, version: tuple[int, int]) -> list[str]:
    """Return the endings of compiled modules that an interpreter loads, by those that its own library has.

    `names` are those in the folders of its standard library.
    """
    tagged = sorted({f".{n.partition('.')[2]}" for n in names
                     if n.endswith((".so", ".pyd")) and n.count(".") == 2})
    if version[0] == 2:
        return [".so", "module.so"]
    if implementation == "pypy":
        return [*tagged, ".so"]
    return [*tagged, ".abi3.so", ".so"]
