"""A module's source, and what the statements at its top bind."""

from __future__ import annotations

import ast
from functools import cached_property

from kalyx.core.facts.late_imports.pieces import Pieces
from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.facts.source_code.control_flow import ends
from kalyx.core.facts.source_code.syntax import catches_import_error, is_type_checking
from kalyx.core.lean.record import record

__all__ = ["Binding", "SourceModule"]


@record
class Binding:
    """What a name of a module is: a module, a name of one, a definition, or an expression.

    `guard` is the module without which it is `absent` instead; `is_typing`: for annotations alone.
    """

    module: str = ""
    name: str = ""
    code: ast.stmt | None = None
    expression: ast.expr | None = None
    guard: str = ""
    absent: Binding | None = None
    line: int = 0
    is_typing: bool = False


class SourceModule:
    """A module's source, and what its names are."""

    def __init__(self, name: str, file: str, text: str, *, is_package: bool, is_own: bool) -> None:
        self.name = name
        self.file = file
        self.is_package = is_package
        self.is_own = is_own  # the person's own code: it may lead into any library
        self.pieces = Pieces(text)
        self.stars: list[str] = []

    @cached_property
    def bindings(self) -> dict[str, Binding]:
        """What the plain statements at its top bind; definitions apart."""
        found: dict[str, Binding] = {}
        self._bind(self.pieces.plain(), found)
        return found

    def asked_for(self, node: ast.ImportFrom) -> str:
        """Return the full name of the module that a ``from`` names (PEP 328); empty where it leads out of all."""
        if not node.level:
            return node.module or ""
        parts = self.name.split(".")
        parts = parts[: len(parts) - node.level + int(self.is_package)]
        return ".".join([*parts, *([node.module] if node.module else [])]) if parts else ""

    def _bind(self, statements: list[ast.stmt], found: dict[str, Binding]) -> None:
        for node in statements:
            if isinstance(node, (ast.Import, ast.ImportFrom)):
                found.update(self.imported(node))
            elif isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)):
                found[node.name] = Binding(code=node, line=node.lineno)
            elif isinstance(node, (ast.Assign, ast.AnnAssign)) and node.value is not None:
                targets = node.targets if isinstance(node, ast.Assign) else [node.target]
                found.update({t.id: Binding(expression=node.value, line=node.lineno)
                              for t in targets if isinstance(t, ast.Name)})
            elif isinstance(node, ast.If):
                self._bind_branches(node, found)
            elif isinstance(node, ast.Try):
                self._bind_tried(node, found)
            elif isinstance(node, ast.With):
                self._bind(node.body, found)

    def _bind_branches(self, node: ast.If, found: dict[str, Binding]) -> None:
        if not is_type_checking(node.test):
            self._bind([*node.orelse, *node.body], found)
            return
        self._bind(node.orelse, found)
        typing: dict[str, Binding] = {}
        self._bind(node.body, typing)
        for name, one in typing.items():
            found.setdefault(name, Binding(one.module, one.name, one.code, one.expression, line=one.line,
                                           is_typing=True))

    def imported(self, node: ast.Import | ast.ImportFrom) -> dict[str, Binding]:
        """Return what an import statement binds."""
        if isinstance(node, ast.Import):
            return {(a.asname or top_level(a.name)): Binding(a.name if a.asname else top_level(a.name),
                                                             line=node.lineno) for a in node.names}
        module = self.asked_for(node)
        self.stars += [module for a in node.names if a.name == "*"]
        return {(a.asname or a.name): Binding(module, a.name, line=node.lineno) for a in node.names if a.name != "*"}

    def _bind_tried(self, node: ast.Try, found: dict[str, Binding]) -> None:
        tried: dict[str, Binding] = {}
        self._bind([*node.body, *node.orelse], tried)
        handlers = [h for h in node.handlers if catches_import_error(h) and not ends(h.body)]
        first = next((n for s in node.body for n in ast.walk(s) if isinstance(n, (ast.Import, ast.ImportFrom))), None)
        if not handlers or first is None:
            found.update(tried)
            return
        wanted = first.names[0].name if isinstance(first, ast.Import) else self.asked_for(first)
        without = dict(found)
        self._bind(handlers[0].body, without)
        for name in (*tried, *without):
            there, absent = tried.get(name, found.get(name)), without.get(name)
            if there is not absent:
                one = there or absent or Binding()
                found[name] = Binding(one.module, one.name, one.code, one.expression, wanted,
                                      absent or Binding(), one.line)
