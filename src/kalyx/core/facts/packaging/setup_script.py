"""What a ``setup.py`` hands to ``setup()``, as far as it is written out there: its tree is read, nothing is run."""

from __future__ import annotations

import ast

from kalyx.core.facts.source_code.syntax import dotted, parse, walk

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

__all__ = ["handed_to_setup"]

WANTED = frozenset({"name", "install_requires", "extras_require", "python_requires"})


def handed_to_setup(text: str) -> dict[str, Any]:
    """Return the name, requirements and Pythons that are written out, by the argument's name; others are left out.

    Raises:
        ValueError: it is not Python, or too deep to be read.
    """
    try:
        tree = parse(text)
    except SyntaxError as error:
        raise ValueError(f"line {error.lineno}: {error.msg}") from None
    except (RecursionError, MemoryError):
        raise ValueError("it is nested too deeply to be read") from None
    names = {target.id: node.value for node in tree.body if isinstance(node, ast.Assign)
             for target in node.targets if isinstance(target, ast.Name)}
    found = {}
    for call in (n for n in walk(tree) if isinstance(n, ast.Call)):
        if dotted(call.func).rpartition(".")[2] == "setup":
            for keyword in call.keywords:
                value = _value(keyword.value, names)
                if keyword.arg in WANTED and value is not None:
                    found[keyword.arg] = value
    return found


def _value(node: ast.expr, names: dict[str, ast.expr], depth: int = 0) -> Any:
    """Return what an expression is, where it is made of constants, names of such, and lists put together."""
    if isinstance(node, ast.Name):
        return _value(names[node.id], names, depth + 1) if node.id in names and depth < 9 else None
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add):
        a, b = _value(node.left, names, depth + 1), _value(node.right, names, depth + 1)
        return a + b if isinstance(a, list) and isinstance(b, list) else a if b is None else b if a is None else None
    if isinstance(node, ast.Dict):
        rows = ((_value(k, names, depth + 1), _value(v, names, depth + 1)) for k, v in zip(
            node.keys, node.values, strict=True) if k is not None)
        return {k: v for k, v in rows if isinstance(k, str) and v is not None}
    if isinstance(node, (ast.List, ast.Tuple)):
        return [v for item in node.elts if (v := _value(item, names, depth + 1)) is not None]
    return node.value if isinstance(node, ast.Constant) and isinstance(node.value, str) else None
