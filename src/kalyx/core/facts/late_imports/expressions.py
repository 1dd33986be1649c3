"""What expressions are, and what the calls in them need."""

from __future__ import annotations

import ast

from kalyx.core.facts.late_imports.comparing import compared, negated
from kalyx.core.facts.late_imports.frame import Frame
from kalyx.core.facts.late_imports.values import (
    NONE,
    UNKNOWN,
    Choice,
    Code,
    Const,
    Guarded,
    Instance,
    Later,
    ModuleOf,
    Opaque,
    Several,
    Super,
    Table,
    TooFar,
    join,
    truth,
)

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable

    from kalyx.core.facts.late_imports.library import Library
    from kalyx.core.facts.late_imports.source_module import SourceModule
    from kalyx.core.facts.late_imports.values import Value

__all__ = ["Expressions"]

MOST_STEPS = 5_000  # statements and expressions of one call
MOST_NESTED = 80    # expressions within expressions, those of calls among them
MOST_DEPTH = 12     # bases above a class
_CONSTANTS = {"True": Const(True), "False": Const(False), "None": NONE, "TYPE_CHECKING": Const(False)}


class Expressions:
    """Evaluates expressions as far as reading tells; statements are its heir's."""

    need: Callable[[str, int, Frame], None]
    invoke: Callable[[Code, list[Value], dict[str, Value], Frame], Value]

    def __init__(self, library: Library) -> None:
        self.library = library
        self.steps = 0
        self.limit = MOST_STEPS
        self.all_steps = 0
        self._depth = 0

    def start(self) -> None:
        """Begin anew: another call is looked at."""
        self.all_steps += self.steps
        self.steps = 0

    def step(self) -> None:
        """Count how much was read.

        Raises:
            TooFar: it was too much.
        """
        self.steps += 1
        if self.steps > self.limit:
            raise TooFar

    def at_top(self, module: SourceModule, node: ast.expr) -> Value:
        """Return what an expression at the top of a module is."""
        return self.value(node, Frame(module))

    def value(self, node: ast.expr, frame: Frame) -> Value:
        """Return what an expression is, having noted what it needs."""
        if not isinstance(node, ast.Constant):
            self.step()
        if self._depth > MOST_NESTED:
            raise TooFar
        self._depth += 1
        try:
            return self._of(node, frame)
        finally:
            self._depth -= 1

    def _of(self, node: ast.expr, frame: Frame) -> Value:
        handle: Callable[[ast.expr, Frame], Value] | None = getattr(
            self, f"_of_{type(node).__name__.lower()}", None)
        if handle is not None:
            return handle(node, frame)
        if not isinstance(node, (ast.ListComp, ast.SetComp, ast.DictComp, ast.GeneratorExp, ast.Lambda)):
            for child in ast.iter_child_nodes(node):
                if isinstance(child, ast.expr):
                    self.value(child, frame)
        return UNKNOWN

    def assign(self, target: ast.expr, value: Value, frame: Frame) -> None:
        """Give a name, or an attribute of an object that is known, a value."""
        if isinstance(target, ast.Name):
            frame.names[target.id] = value
        elif isinstance(target, ast.Attribute):
            owner = self.value(target.value, frame)
            if isinstance(owner, Instance):
                owner.attributes[target.attr] = value
        elif isinstance(target, (ast.Tuple, ast.List)):
            parts = value.values if isinstance(value, Several) else ()
            for n, part in enumerate(target.elts):
                self.assign(part, parts[n] if len(parts) == len(target.elts) else UNKNOWN, frame)

    # -- constants and displays -----------------------------------------------------------------
    def _of_constant(self, node: ast.Constant, frame: Frame) -> Value:
        return Const(node.value)

    def _of_joinedstr(self, node: ast.JoinedStr, frame: Frame) -> Value:
        parts = [self.value(p.value if isinstance(p, ast.FormattedValue) else p, frame) for p in node.values]
        if all(isinstance(p, Const) for p in parts):
            return Const("".join(str(p.value) for p in parts if isinstance(p, Const)))
        return UNKNOWN

    def _of_list(self, node: ast.List | ast.Tuple | ast.Set, frame: Frame) -> Value:
        return Several(tuple(self.value(e, frame) for e in node.elts))

    _of_tuple = _of_set = _of_list

    def _of_dict(self, node: ast.Dict, frame: Frame) -> Value:
        if any(k is None for k in node.keys):
            return UNKNOWN
        return Table(tuple(self.value(k, frame) for k in node.keys if k), tuple(
            self.value(v, frame) for v in node.values))

    # -- names ----------------------------------------------------------------------------------
    def _of_name(self, node: ast.Name, frame: Frame) -> Value:
        if node.id in frame.names:
            value = frame.names[node.id]
            if isinstance(value, Later):
                value = frame.names[node.id] = self.library.imported(frame.module, value.module, value.name,
                                                                     self.at_top)
            return value
        if node.id in _CONSTANTS:
            return _CONSTANTS[node.id]
        return self.library.attribute(frame.module.name, node.id, self.at_top) if frame.module.name else UNKNOWN

    def _of_attribute(self, node: ast.Attribute, frame: Frame) -> Value:
        return self.attribute(self.value(node.value, frame), node.attr, frame, node.lineno)

    def attribute(self, owner: Value, name: str, frame: Frame, line: int) -> Value:
        """Return what an attribute of a value is; reading a property goes through its code."""
        if isinstance(owner, ModuleOf):
            allowed = self.library.may_enter(frame.module, owner.name)
            found = self.library.attribute(owner.name, name, self.at_top) if allowed else UNKNOWN
            compiled = found is UNKNOWN and allowed and self.library.module(owner.name) is None
            return Opaque(f"{owner.name}.{name}") if compiled else found
        if isinstance(owner, Guarded):
            if owner.absent == NONE and owner.module not in frame.there:
                self.need(owner.module, line, frame)
            return self.attribute(owner.present, name, frame, line)
        if isinstance(owner, Instance):
            if name in owner.attributes:
                return owner.attributes[name]
            return self.member(owner.cls, name, owner, frame)
        if isinstance(owner, Super):
            bases = self._bases(owner.cls)
            return next((v for v in (self.member(b, name, owner.bound, frame) for b in bases)
                         if v is not UNKNOWN), UNKNOWN)
        if isinstance(owner, Code) and isinstance(owner.node, ast.ClassDef):
            return self.member(owner, name, owner, frame)
        if isinstance(owner, Choice):
            return join([self.attribute(v, name, frame, line) for v in owner.values])
        return UNKNOWN

    def _bases(self, cls: Code) -> list[Code]:
        bases = cls.node.bases if isinstance(cls.node, ast.ClassDef) else []
        found = [self.at_top(cls.module, b) for b in bases]
        return [b for b in found if isinstance(b, Code) and b != cls]

    def member(self, cls: Code, name: str, bound: Value, frame: Frame, depth: int = 0) -> Value:
        """Return what a class or its bases have under a name."""
        if depth > MOST_DEPTH or not isinstance(cls.node, ast.ClassDef):
            return UNKNOWN
        node = cls.module.pieces.method(cls.node, name)
        if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)):
            code = Code(cls.module, node, cls, bound)
            if code.decorators & {"property", "cached_property"} and isinstance(bound, Instance):
                return self.invoke(code, [], {}, frame)
            return code
        for item in reversed(cls.node.body):
            targets = item.targets if isinstance(item, ast.Assign) else [getattr(item, "target", None)]
            if any(isinstance(t, ast.Name) and t.id == name for t in targets) and getattr(item, "value", None):
                return self.at_top(cls.module, item.value)  # type: ignore[attr-defined]
        for base in self._bases(cls):
            found = self.member(base, name, bound, frame, depth + 1)
            if found is not UNKNOWN:
                return found
        return UNKNOWN

    # -- what decides ---------------------------------------------------------------------------
    def _of_subscript(self, node: ast.Subscript, frame: Frame) -> Value:
        return self.entry(self.value(node.value, frame), self.value(node.slice, frame))

    def entry(self, owner: Value, key: Value) -> Value:
        """Return what a dictionary has under a key, any of its values where the key is not known."""
        if not isinstance(owner, Table):
            return UNKNOWN
        if isinstance(key, Const):
            return next((v for k, v in zip(owner.keys, owner.values, strict=True) if k == key), UNKNOWN)
        return join(list(owner.values))

    def _of_ifexp(self, node: ast.IfExp, frame: Frame) -> Value:
        test = self.value(node.test, frame)
        if isinstance(test, Guarded):
            there = frame.there
            frame.there |= {test.module}
            value = self.value(node.body if truth(test.present) else node.orelse, frame)
            frame.there = there
            return value
        taken = truth(test)
        if taken is not None:
            return self.value(node.body if taken else node.orelse, frame)
        forks = [frame.fork(), frame.fork()]
        return join([self.value(node.body, forks[0]), self.value(node.orelse, forks[1])])

    def _of_boolop(self, node: ast.BoolOp, frame: Frame) -> Value:
        is_or, guarded = isinstance(node.op, ast.Or), None
        value: Value = UNKNOWN
        for n, part in enumerate(node.values):
            value = self.value(part, frame if not n else frame.fork())
            if isinstance(value, Guarded):
                guarded, value = value, value.present
            known = truth(value)
            if known is None:
                return UNKNOWN
            if known == is_or:
                break
        if guarded is None:
            return value
        return Guarded(guarded.module, guarded.absent if truth(guarded.absent) == is_or else value, value)

    def _of_unaryop(self, node: ast.UnaryOp, frame: Frame) -> Value:
        value = self.value(node.operand, frame)
        if not isinstance(node.op, ast.Not):
            return UNKNOWN
        if isinstance(value, Guarded):
            return Guarded(value.module, negated(value.absent), negated(value.present))
        return negated(value)

    def _of_compare(self, node: ast.Compare, frame: Frame) -> Value:
        left, right = self.value(node.left, frame), self.value(node.comparators[0], frame)
        if len(node.ops) != 1:
            return UNKNOWN
        if isinstance(left, Guarded):
            return Guarded(left.module, compared(left.absent, node.ops[0], right),
                           compared(left.present, node.ops[0], right))
        return compared(left, node.ops[0], right)

    def _of_namedexpr(self, node: ast.NamedExpr, frame: Frame) -> Value:
        value = self.value(node.value, frame)
        self.assign(node.target, value, frame)
        return value

    def _of_await(self, node: ast.Await, frame: Frame) -> Value:
        return self.value(node.value, frame)

