"""Conditions about the Python that runs and its system, as markers (PEP 508) that say where they hold."""

from __future__ import annotations

import ast

from kalyx.core.facts.source_code.syntax import dotted

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

__all__ = ["joined", "marker_of"]

MOST_PARTS = 20  # of one condition
_NEGATED = {"==": "!=", "!=": "==", "<": ">=", ">=": "<", ">": "<=", "<=": ">"}
_TURNED = {"==": "==", "!=": "!=", "<": ">", ">": "<", "<=": ">=", ">=": "<="}
_SIGNS = {ast.Eq: "==", ast.NotEq: "!=", ast.Lt: "<", ast.LtE: "<=", ast.Gt: ">", ast.GtE: ">="}
# What code asks, and the markers that have the same values
_WORDS = {"sys.platform": "sys_platform", "os.name": "os_name", "sys.implementation.name": "implementation_name"}
_CALLED = {"platform.system": "platform_system", "platform.python_implementation": "platform_python_implementation"}
_BEGINNINGS = {"win": "win32", "win32": "win32", "linux": "linux", "darwin": "darwin"}  # of names of systems
_PY3 = {"PY3": 'python_version >= "3"', "PY2": 'python_version < "3"'}  # as six and others call it


def joined(first: str, second: str) -> str:
    """Return the marker that holds where two do; either may be empty, which holds everywhere."""
    return f"({first}) and ({second})" if first and second and first != second else first or second


def marker_of(test: ast.expr, *, negated: bool = False) -> str | None:
    """Return the marker that holds where a condition does, or where it does not; None where no marker says that."""
    budget = [MOST_PARTS]
    return _marker(test, budget, negated=negated)


def _marker(test: ast.expr, budget: list[int], *, negated: bool) -> str | None:
    budget[0] -= 1
    if budget[0] < 0:
        return None
    if isinstance(test, ast.UnaryOp) and isinstance(test.op, ast.Not):
        return _marker(test.operand, budget, negated=not negated)
    if isinstance(test, ast.BoolOp):
        parts = [_marker(value, budget, negated=negated) for value in test.values]
        word = "or" if isinstance(test.op, ast.Or) != negated else "and"
        return None if None in parts else f" {word} ".join(f"({part})" for part in parts)
    if isinstance(test, ast.Compare) and len(test.ops) == 1:
        return _of_comparison(test.left, test.ops[0], test.comparators[0], negated=negated)
    if isinstance(test, ast.Call) and dotted(test.func) == "sys.platform.startswith" and len(test.args) == 1:
        system = _BEGINNINGS.get(_text(test.args[0]) or "")
        return f'sys_platform {"!=" if negated else "=="} "{system}"' if system else None
    plain = _PY3.get(dotted(test).rpartition(".")[2])
    return plain if plain is None or not negated else _PY3["PY2" if plain == _PY3["PY3"] else "PY3"]


def _of_comparison(left: ast.expr, op: ast.cmpop, right: ast.expr, *, negated: bool) -> str | None:
    if isinstance(op, (ast.In, ast.NotIn)):
        return _of_one_of(left, right, negated=negated != isinstance(op, ast.NotIn))
    sign = _SIGNS.get(type(op))
    if sign is None:
        return None
    if _name_of(left) is None and _numbers(left) is not None:
        left, right, sign = right, left, _TURNED[sign]
    word = _word_of(left)
    text = _text(right)
    if word is not None:
        known = text is not None and sign in ("==", "!=") and '"' not in text
        return f'{word} {_NEGATED[sign] if negated else sign} "{text}"' if known else None
    numbers = _numbers(right)
    kind = _name_of(left)
    return _of_version(kind, sign, numbers, negated=negated) if kind is not None and numbers else None


def _of_one_of(left: ast.expr, right: ast.expr, *, negated: bool) -> str | None:
    """Return the marker of ``sys.platform in ("linux", "darwin")``."""
    word = _word_of(left)
    if word is None or not isinstance(right, (ast.Tuple, ast.List, ast.Set)) or not right.elts:
        return None
    texts = [_text(part) for part in right.elts]
    if any(text is None or '"' in text for text in texts):
        return None
    return (" and " if negated else " or ").join(f'{word} {"!=" if negated else "=="} "{text}"' for text in texts)


def _of_version(kind: str, sign: str, numbers: Sequence[int], *, negated: bool) -> str | None:
    """Return the marker of a comparison of `sys.version_info`, whole or the first one or two of its numbers, with some.

    The whole has five: it is greater than its own first ones.
    """
    if kind == "whole":
        if sign in ("==", "!=") or len(numbers) > 3:
            return None
        sign, name = {">": ">=", "<=": "<"}.get(sign, sign), "python_full_version"
        return f'{name} {_NEGATED[sign] if negated else sign} "{".".join(map(str, numbers))}"'
    sign = _NEGATED[sign] if negated else sign
    if len(numbers) != (2 if kind == "two" else 1):
        return None
    *first, last = numbers
    lower, upper = (f'python_version {{}} "{".".join(map(str, (*first, n)))}"' for n in (last, last + 1))
    below, above = lower.format("<"), upper.format(">=")
    return {"<": below, ">=": lower.format(">="), ">": above, "<=": upper.format("<"),
            "==": f'{lower.format(">=")} and {upper.format("<")}', "!=": f"{below} or {above}"}[sign]


def _name_of(node: ast.expr) -> str | None:
    """Return how much of `sys.version_info` an expression is: all, its first two numbers, or the first."""
    if dotted(node) == "sys.version_info":
        return "whole"
    if dotted(node) == "sys.version_info.major":
        return "one"
    if isinstance(node, ast.Subscript) and dotted(node.value) == "sys.version_info":
        at = node.slice
        if isinstance(at, ast.Constant) and at.value == 0:
            return "one"
        if isinstance(at, ast.Slice) and at.lower is None and at.step is None and isinstance(at.upper, ast.Constant):
            return "two" if at.upper.value == 2 else None
    return None


def _word_of(node: ast.expr) -> str | None:
    """Return the marker that has the value of an expression."""
    if isinstance(node, ast.Call) and not node.args and not node.keywords:
        return _CALLED.get(dotted(node.func))
    return _WORDS.get(dotted(node))


def _text(node: ast.expr) -> str | None:
    return node.value if isinstance(node, ast.Constant) and isinstance(node.value, str) else None


def _numbers(node: ast.expr) -> list[int] | None:
    """Return the numbers of a version that is written out; None where it is not."""
    parts = node.elts if isinstance(node, ast.Tuple) else [node]
    values = [part.value for part in parts if isinstance(part, ast.Constant)]
    if len(values) != len(parts) or not all(type(value) is int for value in values):
        return None
    return [int(str(value)) for value in values]
