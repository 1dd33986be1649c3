"""What comparing values gives, as far as reading tells."""

from __future__ import annotations

import ast

from kalyx.core.facts.late_imports.values import (
    NONE,
    UNKNOWN,
    Choice,
    Const,
    Guarded,
    Instance,
    Kind,
    Opaque,
    Several,
    Table,
    Unknown,
    truth,
)
from kalyx.core.facts.source_code.syntax import dotted

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.late_imports.values import Value

__all__ = ["compared", "is_a", "negated"]

# Types that a text is, and others that it is not
_TEXT = ("str", "Hashable", "Iterable", "Sequence", "Sized", "Container", "Collection", "object")
_NO_TEXT = ("bytes", "bytearray", "int", "float", "bool", "dict", "list", "tuple", "set", "PathLike", "Path",
            "PurePath", "IOBase", "BytesIO", "StringIO", "Mapping", "Number", "Integral", "ndarray", "Exception")


def negated(value: Value) -> Value:
    """Return what ``not`` makes of a value."""
    known = truth(value)
    return UNKNOWN if known is None else Const(not known)


def compared(left: Value, operator: ast.cmpop, right: Value) -> Value:
    """Return the outcome of one comparison; unknown where constants do not decide it."""
    negative = isinstance(operator, (ast.NotEq, ast.IsNot, ast.NotIn))
    if isinstance(operator, (ast.Is, ast.IsNot, ast.Eq, ast.NotEq)):
        same = _same(left, right, identity=isinstance(operator, (ast.Is, ast.IsNot)))
        return UNKNOWN if same is None else Const(same != negative)
    if isinstance(operator, (ast.In, ast.NotIn)) and isinstance(left, Const):
        members = right.values if isinstance(right, Several) else right.keys if isinstance(right, Table) else ()
        if members and all(isinstance(m, Const) for m in members):
            return Const(any(_same(left, m) for m in members) != negative)
    return UNKNOWN


def _same(left: Value, right: Value, *, identity: bool = False) -> bool | None:
    """Whether two values are the same; None where reading does not tell."""
    if isinstance(left, Const) and isinstance(right, Const):
        return left.value == right.value and type(left.value) is type(right.value)
    if isinstance(left, Opaque) or isinstance(right, Opaque):
        if left == right:
            return True
        plain = (Const, Kind, Instance)
        return False if identity and (isinstance(left, plain) or isinstance(right, plain)) else None
    if NONE in (left, right):
        other = left if right == NONE else right
        return None if isinstance(other, (Unknown, Choice, Guarded)) else False
    return None


def is_a(value: Value, types: ast.expr) -> Value:
    """Return what ``isinstance`` says of a text, by the names of the types; unknown of anything else."""
    is_text = (isinstance(value, Const) and isinstance(value.value, str)) or value == Kind("str")
    if not is_text:
        return Const(False) if value == NONE and _names(types) and "NoneType" not in _names(types) else UNKNOWN
    names = _names(types)
    if any(n in _TEXT for n in names):
        return Const(True)
    return Const(False) if names and all(n in _NO_TEXT or n[:1].isupper() for n in names) else UNKNOWN


def _names(types: ast.expr) -> list[str]:
    """Return the last names of the types that are asked for; none where one of them is computed."""
    if isinstance(types, ast.BinOp):
        left, right = _names(types.left), _names(types.right)
        return [*left, *right] if left and right else []
    parts = types.elts if isinstance(types, ast.Tuple) else [types]
    found = [dotted(p).rpartition(".")[2] for p in parts]
    return found if all(found) else []
