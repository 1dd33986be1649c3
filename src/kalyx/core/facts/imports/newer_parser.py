"""Which newer Python parses a file that a seat's own could not."""

from __future__ import annotations

import sys

from kalyx.core.errors import Unreadable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.machine.results import RunResult
    from kalyx.core.model import Environment, Interpreter

__all__ = ["newer_parser"]

_PARSE = "import sys; compile(open(sys.argv[1], 'rb').read(), sys.argv[1], 'exec', 1024)"  # to a tree only


def newer_parser(case: Case, environments: Callable[[], Sequence[Environment]],
                 run_isolated: Callable[[Interpreter, Sequence[str], float], RunResult | None],
                 limit: float) -> str:
    """Return the version of a newer Python that parses the file at which an import ended; empty for none.

    Kalyx's own is tried first, then the newest of `environments`, for `limit` seconds; the file is not run.
    """
    error = case.obs.error
    if error is None or not error.is_syntax or not error.frames:
        return ""
    file: str | None = error.frames[-1].file
    if file == "<fstring>":
        file = case.modules.file_of(case.obs.module)
    if file is None or not file.endswith(".py"):
        return ""
    return _own(case, file) or _newest(case.python.version_pair, file, environments(), run_isolated, limit)


def _own(case: Case, file: str) -> str:
    if sys.version_info[:2] <= case.python.version_pair:
        return ""
    import ast

    try:
        ast.parse(case.files.read_bytes(file))
    except (Unreadable, SyntaxError, ValueError, RecursionError, MemoryError):
        return ""
    return f"{sys.version_info[0]}.{sys.version_info[1]}"


def _newest(newest: tuple[int, int], file: str, environments: Sequence[Environment],
            run_isolated: Callable[[Interpreter, Sequence[str], float], RunResult | None], limit: float) -> str:
    reader = None
    for environment in environments:
        interpreter = environment.interpreter
        version = interpreter.version_pair if interpreter is not None and interpreter.works else None
        if version is not None and version > newest:
            newest, reader = version, interpreter
    if reader is None:
        return ""
    ran = run_isolated(reader, ("-c", _PARSE, file), limit)
    return f"{newest[0]}.{newest[1]}" if ran is not None and ran.status == 0 else ""
