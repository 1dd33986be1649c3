"""Which modules an interpreter has compiled in, read from its program: nothing of it is run."""

from __future__ import annotations

import sys

from kalyx.core.errors import Unreadable
from kalyx.core.facts.native.binaries import read_binary
from kalyx.core.facts.native.loader import Loader

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
        self._data: list[bytes] | None = None
        self._known: dict[str, bool] = {}

    def __contains__(self, name: object) -> bool:
        """Whether a module is compiled in."""
        if not isinstance(name, str) or not name.isidentifier():
            return False
        if name in (ALWAYS_IN_2 if self._major == 2 else ALWAYS):
            return True
        if name not in self._known:
            form = f"init{name}\0" if self._major == 2 else f"PyInit_{name}"
            if self._is_pypy:
                form = f"module_{name}.c\0"
            self._known[name] = (self._is_pypy and (name[0] == "_" or name in sys.stdlib_module_names)) or any(
                form.encode() in data for data in self._read())
        return self._known[name]

    def __iter__(self) -> Iterator[str]:
        """Yield those that every interpreter of the kind has; which others, only a name can be asked for."""
        return iter(ALWAYS_IN_2 if self._major == 2 else ALWAYS)

    def __len__(self) -> int:
        """Return how many those are."""
        return len(ALWAYS_IN_2 if self._major == 2 else ALWAYS)

    def _read(self) -> list[bytes]:
        """Read the program and the library that is all of Python, where the program is only its beginning."""
        if self._data is None:
            self._data = self._read_file(self._program)
            if any(name in data for data in self._data for name in (b"libpython", b"libpypy")):
                program = read_binary(self._files, self._program)
                loader = Loader(self._files, self._env, program)
                for name in program.needed:
                    if name.startswith(("libpython", "libpypy")):
                        self._data += self._read_file(loader.find(name, program)[0] or "")
        return self._data

    def _read_file(self, path: str) -> list[bytes]:
        try:
            return [self._files.read_bytes(path, PROGRAM_LIMIT)]
        except Unreadable:
            return []


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
