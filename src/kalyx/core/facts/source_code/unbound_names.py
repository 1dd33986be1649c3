"""Imports that a ``try`` lets fail without giving their names to anything else, and whose names the code then uses.

Such code says that it does without a module, and ends in a NameError where it lacks it.
"""

from __future__ import annotations

import ast
import builtins

from kalyx.core.facts.source_code.control_flow import goes_on_in
from kalyx.core.facts.source_code.syntax import children, walk

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Sequence
    from typing import Any

    _Key = tuple[int | None, int, str, str | None]
    _Place = tuple[int, int]  # the number of a piece, and a line in it

__all__ = ["used_unbound"]

_IMPORTS = (ast.Import, ast.ImportFrom)
_DEFINITIONS = (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)
_COMPREHENSIONS = (ast.ListComp, ast.SetComp, ast.DictComp, ast.GeneratorExp)


def used_unbound(pieces: Sequence[tuple[int | None, ast.Module]]) -> set[_Key]:
    """Return those imports of some pieces of code, which run in this order: cell, line, module, and name or None.

    Only what runs in any case counts: statements of the module itself, outside of any condition.
    """
    candidates: list[tuple[int, int | None, Any]] = [
        (number, cell, node) for number, (cell, tree) in enumerate(pieces) for node in tree.body
        if type(node).__name__ in ("Try", "TryStar")]
    found: dict[str, list[tuple[_Place, _Key]]] = {}
    for number, cell, tried in candidates:
        handler = goes_on_in(tried)
        bound = _bound_in([*handler, *tried.finalbody]) if handler is not None else set()
        for name, key in _imported_in(tried.body, cell) if handler is not None else ():
            if name not in bound and not hasattr(builtins, name):
                found.setdefault(name, []).append(((number, tried.end_lineno or tried.lineno), key))
    used = _last_uses(pieces) if found else {}
    left = {name: rows for name, rows in found.items() if name in used}
    if not left:
        return set()
    others = _bound_elsewhere(pieces, {id(s) for _, _, tried in candidates for s in tried.body})
    return {key for name, rows in left.items() if name not in others and "*" not in others
            for place, key in rows if place < used[name]}


def _imported_in(body: Iterable[ast.stmt], cell: int | None) -> Iterator[tuple[str, _Key]]:
    """Yield the names that the import statements of a body bind, with what each of them imports."""
    for node in body:
        if isinstance(node, ast.Import):
            for one in node.names:
                yield one.asname or one.name.split(".")[0], (cell, node.lineno, one.name, None)
        elif isinstance(node, ast.ImportFrom) and not node.level and node.module:
            for one in node.names:
                if one.name != "*":
                    yield one.asname or one.name, (cell, node.lineno, node.module, one.name)


def _bound_in(body: Iterable[ast.stmt]) -> set[str]:
    """Return the names that statements bind, in whatever is inside them; a star among them where that is not known."""
    return {name for statement in body for node in walk(statement) for name in _bound_by(node)}


def _bound_by(node: Any) -> Iterator[str]:
    if isinstance(node, ast.Name):
        if not isinstance(node.ctx, ast.Load):
            yield node.id
    elif isinstance(node, _DEFINITIONS):
        yield node.name
    elif isinstance(node, _IMPORTS):
        yield from (a.asname or (a.name if isinstance(node, ast.ImportFrom) else a.name.split(".")[0])
                    for a in node.names)
    elif type(node).__name__ in ("MatchAs", "MatchStar") and node.name:
        yield node.name
    elif isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in (
            "exec", "globals", "setattr", "locals", "vars"):
        yield "*"


def _bound_elsewhere(pieces: Sequence[tuple[int | None, ast.Module]], left_out: set[int]) -> set[str]:
    """Return the names that code binds anywhere but in some imports, by their numbers."""
    found: set[str] = set()
    queue: list[Any] = [tree for _, tree in pieces]
    while queue:
        node = queue.pop()
        if id(node) in left_out and isinstance(node, _IMPORTS):
            continue
        found.update(_bound_by(node))
        queue += children(node)
    return found


def _last_uses(pieces: Sequence[tuple[int | None, ast.Module]]) -> dict[str, _Place]:
    """Return the names that are read in any case, with the last place of each."""
    return {name: (number, line) for number, (_, tree) in enumerate(pieces) for name, line in sorted(
        _read_in(tree.body), key=lambda row: row[1])}


def _read_in(body: Sequence[ast.stmt]) -> Iterator[tuple[str, int]]:
    """Yield the names that statements read, whatever else is so, with their lines."""
    queue: list[Any] = list(body)
    while queue:
        node = queue.pop()
        if isinstance(node, ast.Name):
            if isinstance(node.ctx, ast.Load):
                yield node.id, node.lineno
        elif type(node).__name__ in ("Try", "TryStar", "Lambda"):
            continue
        elif isinstance(node, (ast.If, ast.While, ast.IfExp)):
            queue.append(node.test)
        elif isinstance(node, (ast.For, ast.AsyncFor)):
            queue.append(node.iter)
        elif isinstance(node, ast.BoolOp):
            queue.append(node.values[0])
        elif isinstance(node, _COMPREHENSIONS):
            queue.append(node.generators[0].iter)
        elif isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)):
            queue += [*node.decorator_list, *node.args.defaults, *filter(None, node.args.kw_defaults)]
        elif type(node).__name__ == "Match":
            queue.append(node.subject)
        else:
            queue += children(node)
