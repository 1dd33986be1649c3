"""What names stand for in code, where each is given something once, and plainly."""

from __future__ import annotations

import ast

from kalyx.core.facts.source_code.syntax import walk

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable

__all__ = ["values_of_names"]


def values_of_names(trees: Iterable[ast.AST]) -> dict[str, list[ast.expr]]:
    """Return by name the expressions that it stands for, one after the other; more than one of what a loop counts up.

    Nothing of names that are given something in two places, or in a way that only running tells.
    """
    found: dict[str, list[ast.expr]] = {}
    given: list[str] = []  # once for each place
    for tree in trees:
        for node in walk(tree):
            if isinstance(node, ast.Assign):
                found.update({t.id: [node.value] for t in node.targets if isinstance(t, ast.Name)})
            elif isinstance(node, (ast.AnnAssign, ast.NamedExpr)) and node.value is not None:
                found.update({node.target.id: [node.value]} if isinstance(node.target, ast.Name) else {})
            elif isinstance(node, ast.For):
                found.update({node.target.id: list(node.iter.elts)} if isinstance(node.target, ast.Name) and isinstance(
                    node.iter, (ast.List, ast.Tuple)) else {})
            elif isinstance(node, ast.arg):
                given.append(node.arg)
            elif isinstance(node, ast.alias):
                given.append((node.asname or node.name).split(".")[0])
            elif isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)):
                given.append(node.name)
            elif isinstance(node, ast.Name) and not isinstance(node.ctx, ast.Load):
                given.append(node.id)
    return {name: values for name, values in found.items() if given.count(name) == 1}
