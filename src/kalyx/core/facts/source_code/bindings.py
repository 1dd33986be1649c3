"""What a name stands for in code, where it is given something once, and plainly."""

from __future__ import annotations

import ast
import re

from kalyx.core.facts.source_code.syntax import children, lines_of, walk, within

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator
    from typing import Any

__all__ = ["values_of_name"]

_NAMED = (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef, ast.ExceptHandler)


def values_of_name(name: str, pieces: Iterable[tuple[ast.AST, str]], *, has_file: bool) -> list[ast.expr]:
    """Return what a name stands for in pieces of code, trees with their texts; more than one of what a loop counts up.

    Nothing where it is given something in two places, or in a way that only running tells. `has_file`: there is a
    ``__file__``, as in a script and not in a notebook, so that what an ``except NameError`` does for want of it is not
    done.
    """
    found: list[ast.expr] = []
    given = 0
    for tree, text in pieces:
        for node in _spoken_of(name, tree, text, has_file=has_file):
            if isinstance(node, ast.Assign):
                found += [node.value for target in node.targets if _is(name, target)]
            elif isinstance(node, (ast.AnnAssign, ast.NamedExpr)):
                found += [node.value] if node.value is not None and _is(name, node.target) else []
            elif isinstance(node, ast.For) and isinstance(node.iter, (ast.List, ast.Tuple)) and _is(name, node.target):
                found += node.iter.elts
            given += _gives(node, name)
    return found if given == 1 else []


def _spoken_of(name: str, tree: ast.AST, text: str, *, has_file: bool) -> Iterator[Any]:
    """Yield the nodes in whose lines a name stands: of a large file a few."""
    lines = lines_of(text, [match.start() for match in re.finditer(rf"\b{re.escape(name)}\b", text)])
    queue = [tree]
    for node in queue:  # it grows meanwhile
        yield node
        inside = children(node)
        if isinstance(node, ast.Try) and any(_is("NameError", handler.type) for handler in node.handlers) and any(
                _is("__file__", part) for statement in node.body for part in walk(statement)):
            inside = [*node.body, *node.orelse, *node.finalbody] if has_file else [*node.handlers, *node.finalbody]
        queue += within(inside, lines)


def _is(name: str, node: ast.AST | None) -> bool:
    return isinstance(node, ast.Name) and node.id == name


def _gives(node: ast.AST, name: str) -> bool:
    """Whether a node gives a name something, itself."""
    if isinstance(node, ast.Name):
        return node.id == name and not isinstance(node.ctx, ast.Load)
    if isinstance(node, ast.alias):
        return (node.asname or node.name).split(".")[0] == name
    if isinstance(node, ast.arg):
        return node.arg == name
    return isinstance(node, _NAMED) and node.name == name
