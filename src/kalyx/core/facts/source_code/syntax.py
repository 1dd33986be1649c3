"""Python source as a syntax tree, however deep it is nested."""

from __future__ import annotations

import ast
import sys
from bisect import bisect_left

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator, Sequence
    from typing import Any

__all__ = ["catches_import_error", "children", "dotted", "is_type_checking", "lines_of", "parse", "places_begun",
           "places_ended", "places_of", "walk", "within"]

_DECORATED = frozenset({ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef})
USUAL_STACK = 8 * 1024 * 1024  # bytes


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

    if len(text) < 20_000 or _has_large_stack():  # too little to nest deeply
        return work()
    return _with_large_stack(work)


def _has_large_stack() -> bool:
    """Whether Python's own bounds on nesting hold here: from 3.11 on they do in a main thread as systems make it."""
    import _thread

    if sys.version_info < (3, 11) or sys.platform not in ("linux", "darwin") or _thread._count() > 0:
        return False
    import resource

    size = resource.getrlimit(resource.RLIMIT_STACK)[0]
    return size == resource.RLIM_INFINITY or size >= USUAL_STACK


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


def children(node: ast.AST) -> list[Any]:
    """Return the nodes that a node holds, as `ast.iter_child_nodes` does, sooner; not whether a name is read or set."""
    found: list[Any] = []
    for field in node._fields:
        value = getattr(node, field, None) if field != "ctx" else None
        if type(value) is list:
            found += [part for part in value if isinstance(part, ast.AST)]
        elif isinstance(value, ast.AST):
            found.append(value)
    return found


def walk(node: ast.AST) -> list[Any]:
    """Return a node and all that it holds, what is less deep first."""
    found: list[Any] = [node]
    for one in found:  # it grows meanwhile
        found += children(one)
    return found


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
    """Whether a condition holds for type checkers alone, or for nobody."""
    return dotted(test).split(".")[-1] == "TYPE_CHECKING" or (isinstance(test, ast.Constant) and not test.value)


# -- only what stands in some lines ------------------------------------------------------------
def places_of(text: str, words: Iterable[str]) -> Iterator[int]:
    """Yield the places of a text where one of some words begins: of each word the first one in each line."""
    for word in words:
        at = text.find(word)
        while at >= 0:
            yield at
            end = text.find("\n", at)
            at = text.find(word, end) if end >= 0 else -1


def places_begun(text: str, start: str, forms: tuple[str, ...]) -> Iterator[int]:
    """Yield the places of a text where one of some forms stands, all of which begin alike.

    To look for what they have in common takes a part of the time that looking for each of them does.
    """
    at = text.find(start)
    while at >= 0:
        if text.startswith(forms, at):
            yield at
        at = text.find(start, at + 1)


def places_ended(text: str, end: str, forms: tuple[str, ...]) -> Iterator[int]:
    """Yield the places of a text where one of some forms has its end, with which all of them end."""
    at = text.find(end)
    while at >= 0:
        if text.endswith(forms, 0, at + len(end)):
            yield at
        at = text.find(end, at + 1)


def lines_of(text: str, places: Iterable[int]) -> list[int]:
    """Return the lines, counted from 1, in which some places of a text are: each once, in order."""
    found: list[int] = []
    line, known = 1, 0
    for place in sorted(places):
        line += text.count("\n", known, place)
        known = place
        if not found or found[-1] != line:
            found.append(line)
    return found


def within(nodes: Sequence[Any], lines: Sequence[int]) -> list[Any]:
    """Return those of some nodes that one of some lines (in order) is a part of; decorators belong to what they adorn.

    What is of no line of its own may have any of them in it.
    """
    found, count = [], len(lines)
    for node in nodes:
        try:
            first, last = node.lineno, node.end_lineno
        except AttributeError:
            found.append(node)
            continue
        if type(node) in _DECORATED and node.decorator_list:
            first = min(first, node.decorator_list[0].lineno)
        at = bisect_left(lines, first)
        if at < count and (last is None or lines[at] <= last):
            found.append(node)
    return found
