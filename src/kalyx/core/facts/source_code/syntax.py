"""Python source as a syntax tree, however deep it is nested."""

from __future__ import annotations

import ast

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable

__all__ = ["catches_import_error", "dotted", "is_type_checking", "parse"]


def parse(text: str) -> ast.Module:
    """Parse source in a thread of a large stack: deeply nested code must not end the process.

    Raises:
        SyntaxError: it is not Python, as this version of it goes.
        RecursionError, MemoryError: it is nested beyond measure.
    """
    import warnings

    def work() -> ast.Module:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            return ast.parse(text)

    if len(text) < 20_000:  # too little to nest deeply
        return work()
    return _with_large_stack(work)


def _with_large_stack(work: Callable[[], ast.Module]) -> ast.Module:
    import threading

    answers: list[ast.Module] = []
    errors: list[BaseException] = []

    def run() -> None:
        try:
            answers.append(work())
        except BaseException as error:
            errors.append(error)

    before = threading.stack_size(512 * 1024 * 1024)
    try:
        thread = threading.Thread(target=run)
        thread.start()
    finally:
        threading.stack_size(before)
    thread.join()
    if errors:
        raise errors[0]
    return answers[0]


def dotted(node: ast.AST | None) -> str:
    """Return ``a.b.c`` of an attribute expression; empty for anything else."""
    parts: list[str] = []
    while isinstance(node, ast.Attribute):
        parts.insert(0, node.attr)
        node = node.value
    if not isinstance(node, ast.Name):
        return ""
    return ".".join([node.id, *parts])


def catches_import_error(handler: ast.ExceptHandler) -> bool:
    """Whether an ``except`` catches what a failing import raises."""
    if handler.type is None:
        return True
    types = handler.type.elts if isinstance(handler.type, ast.Tuple) else [handler.type]
    return any(dotted(t) in ("ImportError", "ModuleNotFoundError", "Exception", "BaseException") for t in types)


def is_type_checking(test: ast.expr) -> bool:
    """Whether a condition holds for type checkers alone."""
    return dotted(test).split(".")[-1] == "TYPE_CHECKING"
