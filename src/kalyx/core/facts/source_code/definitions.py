"""The names that a source file defines, read from its syntax tree; nothing of it is run."""

from __future__ import annotations

import ast
import re

from kalyx.core.errors import NotRecorded, Unreadable
from kalyx.core.facts.source_code.syntax import parse

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator

    from kalyx.core.facts.files import Files

__all__ = ["binds", "declares_namespace", "defined_names", "names_in_text"]

SOURCE_LIMIT = 8 * 1024 * 1024  # bytes of a file
_DEFINES = re.compile(r"(?<!\w)(?:(?:async\s+)?(?:def|class)\s+(\w+)|(\w+)\s*(?::[^=]{1,200})?=[^=])")


def defined_names(files: Files, source: str, *, perhaps: bool = False) -> dict[str, int]:
    """Return the names that a source file plainly defines at its top level, with their lines.

    With `perhaps`, also those that it defines under a condition.
    """
    try:
        return names_in_text(files.read_text(source, SOURCE_LIMIT), perhaps=perhaps)
    except (Unreadable, NotRecorded):
        return {}


def names_in_text(text: str, *, perhaps: bool = False) -> dict[str, int]:
    """Return the names that a source text plainly defines at its top level, with their lines."""
    found: dict[str, int] = {}
    try:
        tree = parse(text)
    except (SyntaxError, ValueError, RecursionError, MemoryError):  # of a newer Python, it may be
        lines = enumerate(text.splitlines(), 1)
        plain = ((n, _DEFINES.match(line)) for n, line in lines)
        return {m.group(1) or m.group(2): n for n, m in plain if m}
    for node in _statements(tree.body) if perhaps else tree.body:
        if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)):
            found.setdefault(node.name, node.lineno)
        elif isinstance(node, (ast.Assign, ast.AnnAssign)) and (
                isinstance(node, ast.Assign) or node.value is not None):
            targets = node.targets if isinstance(node, ast.Assign) else [node.target]
            for name in (t for target in targets for t in ast.walk(target) if isinstance(t, ast.Name)):
                found.setdefault(name.id, node.lineno)
        elif isinstance(node, (ast.Import, ast.ImportFrom)):
            for alias in node.names:
                found.setdefault((alias.asname or alias.name).split(".")[0], node.lineno)
        elif isinstance(node, ast.Delete):
            for target in node.targets:
                found.pop(getattr(target, "id", ""), None)
    return found


def _statements(body: list[ast.stmt]) -> Iterator[ast.stmt]:
    """Yield the statements of a body, those under its conditions among them."""
    for node in body:
        yield node
        if isinstance(node, (ast.If, ast.Try, ast.With)):
            for part in ("body", "handlers", "orelse", "finalbody"):
                inner = getattr(node, part, [])
                yield from _statements([s for h in inner for s in h.body] if part == "handlers" else inner)


def declares_namespace(text: str) -> bool:
    """Whether a package's own file does nothing but make the package a namespace, as was done before PEP 420."""
    if "declare_namespace" not in text and "extend_path" not in text:
        return False
    try:
        return all(map(_is_for_namespace, parse(text).body))
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return False


def _is_for_namespace(node: ast.stmt) -> bool:
    if isinstance(node, ast.Try):
        return all(map(_is_for_namespace, [*node.body, *(s for h in node.handlers for s in h.body)]))
    if isinstance(node, (ast.Import, ast.ImportFrom)):
        names = [node.module or ""] if isinstance(node, ast.ImportFrom) else [a.name for a in node.names]
        return {"pkgutil", "pkg_resources", "__future__"}.issuperset(names)
    if isinstance(node, ast.Assign):
        return all(isinstance(t, ast.Name) and t.id == "__path__" for t in node.targets)
    if isinstance(node, ast.Expr) and isinstance(node.value, ast.Call):
        called = node.value.func
        return (called.attr if isinstance(called, ast.Attribute) else getattr(called, "id", "")) == "declare_namespace"
    return isinstance(node, ast.Pass) or (isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant))


def binds(text: str, name: str) -> bool:
    """Whether anything in a source text, however deep, gives a name a value; true where it cannot be parsed."""
    try:
        tree = parse(text)
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return True
    for node in ast.walk(tree):
        if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)) and node.name == name:
            return True
        if isinstance(node, ast.Name) and node.id == name and isinstance(node.ctx, ast.Store):
            return True
        if isinstance(node, (ast.Import, ast.ImportFrom)) and not _asks_own_package(node) and any(
                (alias.asname or alias.name.split(".")[0]) == name for alias in node.names):
            return True
    return False


def _asks_own_package(node: ast.Import | ast.ImportFrom) -> bool:
    """Whether it is ``from . import``, which in a package's own file gives what is there already."""
    return isinstance(node, ast.ImportFrom) and node.level > 0 and node.module is None
