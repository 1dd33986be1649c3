"""Goes through code as it would run, as far as constants decide, and notes what it must import on the way.

Nothing is run. Where a condition is not decided by constants, what only one branch needs is left out: what is
noted is needed whenever the code comes there.
"""

from __future__ import annotations

import ast

from kalyx.core.facts.late_imports.calls import Calls
from kalyx.core.facts.late_imports.frame import Frame, one_of
from kalyx.core.facts.late_imports.values import (
    UNKNOWN,
    Choice,
    Code,
    Const,
    Guarded,
    Later,
    Need,
    Several,
    Table,
    Unknown,
    join,
    truth,
)
from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.facts.source_code.syntax import catches_import_error, dotted

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from kalyx.core.facts.late_imports.values import Value

__all__ = ["Reader"]

MOST_TURNS = 6  # of a loop over what stands in the source


class Reader(Calls):
    """Reads statements one after the other."""

    def run(self, body: Sequence[ast.stmt], frame: Frame) -> str:
        """Go through statements; return how they end: "raises", "returns", "leaves" or "goes on" (a loop), or ""."""
        for node in body:
            self.step()
            handle: Callable[[ast.stmt, Frame], str] | None = getattr(self, f"_do_{type(node).__name__.lower()}", None)
            end = handle(node, frame) if handle else ""
            if end or frame.ended:
                return end or frame.ended
        return ""

    # -- plain statements -----------------------------------------------------------------------
    def _do_expr(self, node: ast.Expr, frame: Frame) -> str:
        self.value(node.value, frame)
        return ""

    def _do_import(self, node: ast.Import | ast.ImportFrom, frame: Frame) -> str:
        for alias in node.names:
            target = alias.name if isinstance(node, ast.Import) else frame.module.asked_for(node)
            self.need(target, node.lineno, frame)
            if isinstance(node, ast.ImportFrom) and top_level(target) == top_level(frame.module.name):
                self.need(f"{target}.{alias.name}", node.lineno, frame)  # it may be a part
        for name, binding in frame.module.imported(node).items():
            frame.names[name] = Later(binding.module, binding.name)
        return ""

    _do_importfrom = _do_import

    def _do_functiondef(self, node: ast.FunctionDef, frame: Frame) -> str:
        frame.names[node.name] = Code(frame.module, node)
        return ""

    _do_asyncfunctiondef = _do_functiondef
    _do_classdef = _do_functiondef

    def _do_return(self, node: ast.Return, frame: Frame) -> str:
        frame.returns.append(self.value(node.value, frame) if node.value else Const(None))
        return "returns"

    def _do_raise(self, node: ast.Raise, frame: Frame) -> str:
        return "raises"

    def _do_break(self, node: ast.stmt, frame: Frame) -> str:
        return "leaves"

    def _do_continue(self, node: ast.stmt, frame: Frame) -> str:
        return "goes on"

    def _do_assign(self, node: ast.Assign, frame: Frame) -> str:
        value = self.value(node.value, frame)
        for target in node.targets:
            self.assign(target, value, frame)
        return ""

    def _do_annassign(self, node: ast.AnnAssign, frame: Frame) -> str:
        if node.value is not None:
            self.assign(node.target, self.value(node.value, frame), frame)
        return ""

    def _do_augassign(self, node: ast.AugAssign, frame: Frame) -> str:
        self.value(node.value, frame)
        self.assign(node.target, UNKNOWN, frame)
        return ""

    # -- what branches --------------------------------------------------------------------------
    def _do_if(self, node: ast.If, frame: Frame) -> str:
        test = self.value(node.test, frame)
        if isinstance(test, Guarded):
            self._without(test.module, node.body if truth(test.absent) else node.orelse, frame, node.lineno)
            frame.there |= {test.module}
            test = test.present
        taken = truth(test)
        if taken is not None:
            return self.run(node.body if taken else node.orelse, frame)
        return self.either([lambda f: self.run(node.body, f), lambda f: self.run(node.orelse, f)], frame)

    def _without(self, module: str, body: Sequence[ast.stmt], frame: Frame, line: int) -> None:
        """Go through what is done where a module is absent: it is needed where that raises."""
        fork = frame.fork()
        if self.run(body, fork) == "raises":
            self.need(module, line, frame)
        elif fork.needs:
            first = fork.needs[0]
            frame.add(Need((module, *first.modules), first.file, first.line))

    def either(self, ways: Sequence[Callable[[Frame], str]], frame: Frame) -> str:
        """Go several ways of which one is taken, and keep what holds whichever it is."""
        forks = [frame.fork() for _ in ways]
        ends = [fork.settle(way(fork)) for way, fork in zip(ways, forks, strict=True)]
        for fork in forks:
            frame.returns += fork.returns
        going = [f for f, end in zip(forks, ends, strict=True) if end != "raises"]
        if len(going) > 1 and all(f.needs for f in going):
            frame.add(one_of([f.needs[0] for f in going]))
        left = [f for f, end in zip(forks, ends, strict=True) if not end]
        if not left:
            return "returns" if going else "raises"
        gone = [f for f in going if f not in left]
        if gone and all(f.needs for f in gone):
            frame.instead.append((one_of([f.needs[0] for f in gone]), len(frame.needs)))
        elif gone:
            frame.is_sure = False  # what follows is come to sometimes only
        frame.merge(left)
        return ""

    def _do_try(self, node: ast.Try, frame: Frame) -> str:
        body = frame.fork()
        end = self.run(node.body, body)
        handler = next((h for h in node.handlers if catches_import_error(h)), None)
        if not end:
            end = self.run(node.orelse, body)
        if not body.needs or handler is None:
            frame.take(body)
            return self.run(node.finalbody, frame) or end
        caught = frame.fork()
        if handler.name:
            caught.names[handler.name] = UNKNOWN
        instead = self.run(handler.body, caught)
        first = body.needs[0]
        if instead == "raises":
            frame.take(body)
            return self.run(node.finalbody, frame) or end
        if caught.needs:
            body.needs = [one_of([first, caught.needs[0]])]
        else:
            body.needs = []
            frame.remember(first, body, caught)
        if instead == "returns" and caught.returns:
            body.without.append((first.modules[0], caught.returns[0]))
        frame.take(body)
        if end and not instead:  # what follows is come to only without the module
            frame.instead.append((first, len(frame.needs)))
            return ""
        return self.run(node.finalbody, frame) or end

    def _do_for(self, node: ast.For, frame: Frame) -> str:
        over = self.value(node.iter, frame)
        values = over.values if isinstance(over, Several) else over.keys if isinstance(over, Table) else ()
        if not 0 < len(values) <= MOST_TURNS:
            self.assign(node.target, join(list(values)), frame)
            self._perhaps(node.body, frame)
        for value in values if len(values) <= MOST_TURNS else ():
            self.assign(node.target, value, frame)
            end = self.run(node.body, frame)
            if end == "leaves":
                return ""
            if end != "goes on" and end:
                return end
        return self.run(node.orelse, frame)

    _do_asyncfor = _do_for

    def _do_while(self, node: ast.While, frame: Frame) -> str:
        if truth(self.value(node.test, frame)):
            end = self.run(node.body, frame)
            return "" if end in ("leaves", "goes on") else end
        self._perhaps(node.body, frame)
        return ""

    def _do_match(self, node: ast.Match, frame: Frame) -> str:
        self.value(node.subject, frame)
        for case in node.cases:
            self._perhaps(case.body, frame)
        return ""

    def _perhaps(self, body: Sequence[ast.stmt], frame: Frame) -> None:
        """Go through what may be left out: nothing that it needs is sure."""
        fork = frame.fork()
        self.run(body, fork)
        frame.returns += fork.returns
        frame.merge([frame.fork(), fork])

    def _do_with(self, node: ast.With, frame: Frame) -> str:
        known = len(frame.needs)
        for item in node.items:
            value = self.value(item.context_expr, frame)
            if item.optional_vars is not None:
                self.assign(item.optional_vars, value, frame)
        if any(dotted(getattr(i.context_expr, "func", None)).rpartition(".")[2] == "suppress" for i in node.items):
            known = len(frame.needs)
            end = self.run(node.body, frame)
            del frame.needs[known:]
            return "" if end == "raises" else end
        return self.run(node.body, frame)

    _do_asyncwith = _do_with

    # -- calls ----------------------------------------------------------------------------------
    def body_of(self, code: Code, frame: Frame) -> Value:
        """Go through a function's body in a frame that has its arguments; return what it gives back."""
        body = code.node.body if isinstance(code.node, (ast.FunctionDef, ast.AsyncFunctionDef)) else []
        end = self.run(body, frame)
        end = frame.settle(end)
        frame.ended = end
        value = join(frame.returns) if frame.returns else UNKNOWN if end == "raises" else Const(None)
        for module, instead in frame.without:
            value = Guarded(module, instead, value)
        if isinstance(value, (Unknown, Choice)) or value == Const(None):
            says = self.annotated(code)
            return value if says is UNKNOWN else says
        return value

