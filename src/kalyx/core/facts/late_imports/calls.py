"""Calls: what they import, what they give back."""

from __future__ import annotations

import ast

from kalyx.core.facts.late_imports.comparing import is_a
from kalyx.core.facts.late_imports.expressions import Expressions
from kalyx.core.facts.late_imports.frame import Frame
from kalyx.core.facts.late_imports.values import (
    NONE,
    UNKNOWN,
    Choice,
    Code,
    Const,
    Guarded,
    Instance,
    Kind,
    ModuleOf,
    Need,
    Several,
    Super,
    Table,
    TooFar,
    join,
    truth,
)
from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.facts.source_code.syntax import dotted

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable

    from kalyx.core.facts.late_imports.library import Library
    from kalyx.core.facts.late_imports.values import Value

__all__ = ["Calls"]

LEAST_STEPS = 60    # that a call within a call may take
MOST_DEPTH = 12     # calls within calls
_IMPORTERS = ("import_module", "__import__")
_TO_TEXT = ("str", "fspath", "expanduser", "abspath", "realpath", "basename", "dirname")
_COPIES = ("tuple", "list", "set", "frozenset", "sorted")


class Calls(Expressions):
    """Goes through what is called; the statements of a body are its heir's."""

    body_of: Callable[[Code, Frame], Value]
    run: Callable[[list[ast.stmt], Frame], str]

    def __init__(self, library: Library) -> None:
        super().__init__(library)
        self._gone: dict[object, Frame] = library.gone  # type: ignore[assignment]
        self._calls: list[tuple[str, int]] = []

    def need(self, module: str, line: int, frame: Frame) -> None:
        """Note that code needs a module, unless it is its own library's or the standard library's.

        A part of its own library is imported now, and with it what it asks for at its top.
        """
        if not module or self.library.is_stdlib(module):
            return
        if top_level(module) != top_level(frame.module.name):
            frame.add(Need((module,), frame.module.file, line))
        elif frame.code is not None and (inner := self.library.module(module)) is not None:
            top = Frame(inner)
            top.is_sure = frame.is_sure
            self.run(inner.pieces.plain(), top)
            for need in top.needs:
                frame.add(need)

    def _of_call(self, node: ast.Call, frame: Frame) -> Value:
        name = dotted(node.func).rpartition(".")[2]
        arguments = [self.value(a, frame) for a in node.args]
        keywords = {k.arg: self.value(k.value, frame) for k in node.keywords if k.arg}
        first = arguments[0] if arguments else UNKNOWN
        wanted = first.value if isinstance(first, Const) and isinstance(first.value, str) else ""
        if name in _IMPORTERS and arguments:
            if wanted and not wanted.startswith("."):
                self.need(wanted, node.lineno, frame)
                return ModuleOf(wanted)
            return UNKNOWN
        if name == "find_spec" and wanted and not self.library.is_stdlib(wanted):
            return Guarded(wanted, NONE, ModuleOf(wanted))
        if name == "isinstance" and len(node.args) == 2:
            return is_a(first, node.args[1])
        if name == "hasattr" and len(arguments) == 2 and all(isinstance(a, Const) for a in arguments):
            return Const(hasattr(first.value, str(arguments[1].value)))  # type: ignore[union-attr]
        if name == "bool" and len(arguments) == 1 and truth(first) is not None:
            return Const(truth(first))
        if name in _TO_TEXT:
            return Kind("str")
        if name == "super" and frame.code and frame.code.inside:
            return Super(frame.code.inside, frame.names.get("self", UNKNOWN))
        if name in _COPIES and isinstance(first, (Several, Table)) and len(arguments) == 1:
            return Several(first.values if isinstance(first, Several) else first.keys)
        if isinstance(node.func, ast.Attribute) and name in ("get", "keys", "values", "items"):
            owner = self.value(node.func.value, frame)
            if isinstance(owner, Table):
                return self.entry(owner, first) if name == "get" else _parts_of(owner, name)
        splat = any(isinstance(a, ast.Starred) for a in node.args) or any(k.arg is None for k in node.keywords)
        return self.called(self.value(node.func, frame), arguments, {**keywords, **({"**": UNKNOWN} if splat else {})},
                           frame, node)

    def called(self, callee: Value, arguments: list[Value], keywords: dict[str, Value], frame: Frame,
               node: ast.Call) -> Value:
        """Return what a call gives, having noted what it needs."""
        if isinstance(callee, Code):
            return self.invoke(callee, arguments, keywords, frame, node.lineno)
        if isinstance(callee, Guarded):
            probe = frame.fork()
            if callee.module in frame.there:
                pass
            elif callee.absent == NONE:
                self.need(callee.module, node.lineno, frame)
            elif isinstance(callee.absent, Code):
                self.invoke(callee.absent, arguments, keywords, probe)
                if probe.ended == "raises":
                    self.need(callee.module, node.lineno, frame)
            return self.called(callee.present, arguments, keywords, frame, node)
        if isinstance(callee, Choice):
            forks = [frame.fork() for _ in callee.values]
            found = join([self.called(v, arguments, keywords, f, node)
                          for v, f in zip(callee.values, forks, strict=True)])
            if all(f.needs for f in forks):
                modules = tuple(dict.fromkeys(m for f in forks for m in f.needs[0].modules))
                frame.add(Need(modules, forks[0].needs[0].file, forks[0].needs[0].line))
            return found
        return UNKNOWN

    def invoke(self, code: Code, arguments: list[Value], keywords: dict[str, Value], frame: Frame,
               line: int = 0) -> Value:
        """Go through a function with its arguments, or through what makes an object of a class."""
        if isinstance(code.node, ast.ClassDef):
            made = Instance(code)
            start = self.member(code, "__init__", made, frame)
            if isinstance(start, Code):
                self.invoke(start, arguments, keywords, frame, line)
            return made
        if code.key in self._calls or len(self._calls) > MOST_DEPTH:
            return self.annotated(code)
        inner = self._gone_through(code, arguments, keywords, frame.there)
        named = {a.value for a in (*arguments, *keywords.values()) if isinstance(a, Const)
                 and isinstance(a.value, str)}
        for need in inner.needs:  # where the name of the module stands is what tells
            is_helper = line and not frame.module.is_own and named.intersection(need.modules)
            frame.add(Need(need.modules, frame.module.file, line) if is_helper else need)
        if inner.ended == "raises":
            frame.ended = "raises"
        return inner.returns[-1]

    def _gone_through(self, code: Code, arguments: list[Value], keywords: dict[str, Value],
                      there: frozenset[str]) -> Frame:
        """Return the frame of a function that was gone through, what it gives back as the last of its returns.

        It may take a part of what is left to be read; of what takes more, nothing is said.
        """
        given = (*([code.bound] if code.bound else []), *arguments, *keywords.values())
        is_plain = not any(isinstance(v, (Instance, Super)) for v in given)
        key = (code.key, code.bound, there, tuple(arguments), tuple(sorted(keywords.items(), key=lambda x: x[0])))
        if is_plain and key in self._gone:
            return self._gone[key]
        inner = Frame(code.module, code)
        inner.there = there
        before = self.limit
        self.limit = self.steps + max(LEAST_STEPS, (before - self.steps) // 2)
        self._calls.append(code.key)
        try:
            self._bind(code, arguments, keywords, inner)
            inner.returns.append(self.body_of(code, inner))
        except TooFar:
            if self.steps > before:
                raise
            self.limit = before
            inner = Frame(code.module, code)
            inner.returns.append(self.annotated(code))
            return inner
        finally:
            self._calls.pop()
            self.limit = before
        if is_plain:
            self._gone[key] = inner
        return inner

    def _bind(self, code: Code, arguments: list[Value], keywords: dict[str, Value], inner: Frame) -> None:
        """Give the parameters of a function their arguments, or their defaults."""
        assert isinstance(code.node, (ast.FunctionDef, ast.AsyncFunctionDef))
        args = code.node.args
        plain = [*args.posonlyargs, *args.args]
        if code.bound is not None and "staticmethod" not in code.decorators:
            arguments = [code.bound, *arguments]
        defaults = dict(zip([a.arg for a in plain][::-1], args.defaults[::-1], strict=False))
        defaults.update({a.arg: d for a, d in zip(args.kwonlyargs, args.kw_defaults, strict=True) if d})
        for n, parameter in enumerate([*plain, *args.kwonlyargs]):
            name = parameter.arg
            if n < min(len(arguments), len(plain)):
                inner.names[name] = arguments[n]
            elif name in keywords:
                inner.names[name] = keywords[name]
            elif name in defaults and "**" not in keywords:
                inner.names[name] = self.at_top(code.module, defaults[name])
            else:
                inner.names[name] = self._as_annotated(code, parameter.annotation)
        for extra in (args.vararg, args.kwarg):
            if extra is not None:
                inner.names[extra.arg] = UNKNOWN

    # -- annotations ----------------------------------------------------------------------------
    def annotated(self, code: Code) -> Value:
        """Return what a function says that it gives back; unknown where it does not say."""
        node = code.node
        says = node.returns if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)) else None
        if says is not None and dotted(says).rpartition(".")[2] == "Self":
            return code.bound or UNKNOWN
        return self._as_annotated(code, says)

    def _as_annotated(self, code: Code, says: ast.expr | None) -> Value:
        """Return an object of the first class that an annotation names."""
        if isinstance(says, ast.Constant) and isinstance(says.value, str):
            try:
                says = ast.parse(says.value, mode="eval").body
            except (SyntaxError, ValueError):
                return UNKNOWN
        if isinstance(says, ast.BinOp):  # A | None
            left = self._as_annotated(code, says.left)
            return left if left is not UNKNOWN else self._as_annotated(code, says.right)
        if isinstance(says, (ast.Name, ast.Attribute)):
            found = self.at_top(code.module, says)
            found = found.present if isinstance(found, Guarded) else found
            if isinstance(found, Code):
                return self.object_of(found)
        return UNKNOWN

    def object_of(self, code: Code) -> Value:
        """Return an object of a class that nothing is known of but that; unknown where it is no class."""
        return Instance(code) if isinstance(code.node, ast.ClassDef) else UNKNOWN



def _parts_of(table: Table, method: str) -> Several:
    """Return what a dictionary's ``keys``, ``values`` or ``items`` gives."""
    if method == "items":
        return Several(tuple(Several((k, v)) for k, v in zip(table.keys, table.values, strict=True)))
    return Several(table.keys if method == "keys" else table.values)
