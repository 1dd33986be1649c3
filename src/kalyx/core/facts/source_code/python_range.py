"""Which versions of Python can run some code, by its syntax and by the names of the standard library that it uses.

Only what is there for certain counts: a form of syntax that the tree or the text shows, and a name that no condition,
``try`` or ``hasattr`` keeps from being asked for where it is not.
"""

from __future__ import annotations

import ast
import re
from bisect import bisect_left
from functools import cache

from kalyx.core.facts.source_code.syntax import dotted
from kalyx.core.lean.record import record
from kalyx.core.tables.standard_library import SYSTEM_ONLY, library_names, stdlib_history

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from typing import Any

    from kalyx.core.facts.source_code.imports import ImportedName

__all__ = ["Bound", "statements", "versions_of_code"]

_F_STRING_EQUALS = re.compile(r"[fF][rR]?(['\"]).*\{[^{}'\"=!<>]+=(?:![rsa])?(?::[^{}]*)?\}")
# What a newer form of syntax has in its text: a word that is looked for first, as most code has it not, and its form.
# Each begins with plain letters where it can: so it is found quickly; what is no such form costs a look at the tree.
_MAY_BE_NEWER = tuple((words, re.compile(form)) for words, form in (
    ((":=",), r":="), (("match ",), r"match [^\n]{1,200}:"), (("type ",), r"type \w+[^\n=]{0,200} = "),
    (("except*", "except *"), r"except"), (("with (", "with("), r"with ?\("), (("/,", "/)"), r"[(,] ?/[,)]"),
    (("|",), r"\| ?(?:None|int|str|float|bytes|bool|object|list|dict|set|tuple)"), (("None |", "None|"), r"None ?\|"),
    (("list[", "dict[", "set[", "tuple[", "type["), r"[:>] ?(?:list|dict|set|tuple|type|frozenset)\["),
    (("int |", "str |", "] |", "bool |", "float |", "bytes |"), r"\|"), (("=}", "=!", "=:"), r"=(?:![rsa])?[:}]"),
    (("class ",), r"class \w{1,99}\["), (("def ",), r"def \w{1,99}\["),
    (("@",), r"@(?:[^\w\s]|[\w.]{1,99}[^\w.(\r\n# ])"),
))
_LAZY = re.compile(r"^from __future__ import .*\bannotations\b", re.MULTILINE)
_BUILTIN_TYPES = frozenset({"int", "str", "float", "bytes", "bool", "list", "dict", "set", "tuple", "type", "frozenset",
                            "complex", "object"})
_BUILTIN_GENERICS = frozenset({"list", "dict", "set", "tuple", "type", "frozenset"})
_HOLDING = (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef, ast.If, ast.For, ast.AsyncFor, ast.While, ast.With,
            ast.AsyncWith, ast.Try, *(getattr(ast, n) for n in ("TryStar", "Match", "TypeAlias") if hasattr(ast, n)))
_KEEPS_OFF = frozenset({"AttributeError", "ImportError", "ModuleNotFoundError", "NameError", "Exception"})


@record
class Bound:
    """A version of Python that code needs at least, or that is the first which cannot run it."""

    version: str
    is_oldest: bool  # False: the first version that lacks what is used
    what: str
    line: int
    cell: int | None = None


def versions_of_code(tree: ast.Module, text: str, cell: int | None, imports: Sequence[ImportedName]) -> list[Bound]:
    """Return what bounds the versions of Python that can run a piece of code, which has these imports.

    The tree is gone through only where the text has something that may be newer.
    """
    reader = _Reader(text, cell)
    reader.imported(imports)
    if reader.has_lazy_annotations:
        reader.lazy()
    speaks_of = reader.spoken_of(imports)
    if speaks_of or _may_be_newer(text):
        for node, is_guarded in statements(tree, with_guards=speaks_of, heads_alone=not speaks_of and not (
                reader.has_walrus or reader.has_equals)):
            reader.syntax(node)
            if speaks_of and not is_guarded:
                reader.names(node)
    if speaks_of:
        reader.attributes(tree)
    return reader.found


def _may_be_newer(text: str) -> bool:
    return any(form.search(text) for words, form in _MAY_BE_NEWER if any(w in text for w in words))


def statements(tree: ast.AST, *, with_guards: bool = True, heads_alone: bool = False) -> Iterator[tuple[Any, bool]]:
    """Yield every statement of a tree, with whether something keeps it from failing where a name is lacking.

    Without `with_guards` that is not looked for; with `heads_alone` only those come that hold others.
    """
    queue: list[tuple[Any, bool]] = [(n, False) for n in reversed(getattr(tree, "body", ()))]
    while queue:
        node, is_guarded = queue.pop()
        yield node, is_guarded
        kind = type(node).__name__
        if kind in ("Try", "TryStar"):
            held = is_guarded or any(_keeps_off(h) for h in node.handlers)
            parts = [(node.body, held), *((h.body, held) for h in node.handlers), (node.orelse, held),
                     (node.finalbody, is_guarded)]
        elif kind == "If":
            held = is_guarded or (with_guards and _asks(node.test))
            parts = [(node.body, held), (node.orelse, held)]
        elif kind == "Match":
            parts = [(case.body, is_guarded) for case in node.cases]
        else:
            parts = [(getattr(node, field, None) or (), is_guarded) for field in ("body", "orelse")]
        queue += [(child, held) for body, held in reversed(parts) for child in reversed(body)
                  if not heads_alone or isinstance(child, _HOLDING)]


def _keeps_off(handler: ast.ExceptHandler) -> bool:
    kinds = handler.type.elts if isinstance(handler.type, ast.Tuple) else [handler.type]
    return handler.type is None or any(dotted(k).rpartition(".")[2] in _KEEPS_OFF for k in kinds)


def _asks(test: ast.expr) -> bool:
    """Whether a condition asks which Python runs, or whether a name is there."""
    for node in ast.walk(test):
        if isinstance(node, ast.Call) and dotted(node.func) in ("hasattr", "getattr"):
            return True
        if dotted(node).startswith(("sys.", "os.name", "platform.")) or (
                isinstance(node, ast.Name) and re.match(r"(?i)_?(is_)?(py|python|win|mac|posix|linux)", node.id)):
            return True
    return False


class _Reader:
    """Collects the bounds of one piece of code."""

    def __init__(self, text: str, cell: int | None) -> None:
        self.text = text
        self.lines = text.split("\n")
        self.cell = cell
        self.found: list[Bound] = []
        self.has_walrus = ":=" in text
        self.walrus_lines = self._lines_with(":=") if self.has_walrus else []
        self.has_equals = any(w in text for w in ("=}", "=!", "=:"))
        self.has_lazy_annotations = "annotations" in text and _LAZY.search(text) is not None
        self.modules: dict[str, str] = {}  # names that stand for modules of the standard library
        self.others: set[str] = set()  # names that are given to anything else

    def _add(self, version: str, what: str, line: int, *, is_oldest: bool = True) -> None:
        self.found.append(Bound(version, is_oldest, what, line, self.cell))

    def lazy(self) -> None:
        """Note the line that has annotations not be evaluated."""
        line = next(n for n, row in enumerate(self.lines, 1) if _LAZY.match(row))
        self._add("3.7", "from __future__ import annotations", line)

    # -- syntax ----------------------------------------------------------------------------
    def syntax(self, node: Any) -> None:
        """Read what form a statement has."""
        kind, line = type(node).__name__, node.lineno
        simple = {"Match": ("3.10", "the match statement"), "TryStar": ("3.11", "except*"),
                  "TypeAlias": ("3.12", "the type statement")}.get(kind)
        if simple:
            self._add(*simple, line)
        if getattr(node, "type_params", None):
            newer = any(getattr(p, "default_value", None) is not None for p in node.type_params)
            self._add("3.13" if newer else "3.12", "defaults of type parameters" if newer else "type parameters", line)
        if kind in ("FunctionDef", "AsyncFunctionDef"):
            if node.args.posonlyargs:
                self._add("3.8", "parameters by position only", line)
            self._annotations(node)
        elif kind in ("With", "AsyncWith") and self._is_bracketed(node):
            self._add("3.9", "with in brackets", line)
        if kind in ("FunctionDef", "AsyncFunctionDef", "ClassDef") and any(
                not _is_plain_decorator(d) for d in node.decorator_list):
            self._add("3.9", "a decorator that is any expression", node.decorator_list[0].lineno)
        self._expressions(node)

    def _expressions(self, node: Any) -> None:
        line = node.lineno
        last = getattr(node, "end_lineno", line) or line
        if isinstance(getattr(node, "body", None), list):  # its head alone: what is inside comes by itself
            last = max(line, node.body[0].lineno - 1) if node.body else line
        for number in range(line, min(last, len(self.lines)) + 1) if self.has_equals else ():
            if _F_STRING_EQUALS.search(self.lines[number - 1]) and any(
                    isinstance(n, ast.JoinedStr) for part in _own_parts(node) for n in ast.walk(part)):
                self._add("3.8", "= in an f-string", number)
        if self.has_walrus and self._stands_in(node, self.walrus_lines):
            for head in _own_parts(node):
                walrus = next((n for n in ast.walk(head) if isinstance(n, ast.NamedExpr)), None)
                if walrus is not None:
                    self._add("3.8", "the operator :=", walrus.lineno)

    def _stands_in(self, node: Any, lines: Sequence[int]) -> bool:
        """Whether one of some lines (in order) is a statement's own: not that of a statement inside it."""
        inside = getattr(node, "body", None)
        last = node.end_lineno or node.lineno
        if isinstance(inside, list) and inside and not getattr(node, "orelse", None):
            last = max(node.lineno, inside[0].end_lineno or inside[0].lineno)  # it may stand in the same line
        first = min([node.lineno, *(d.lineno for d in getattr(node, "decorator_list", ()))])
        at = bisect_left(lines, first)
        return at < len(lines) and lines[at] <= last

    def _lines_with(self, *signs: str) -> list[int]:
        return [n for n, row in enumerate(self.lines, 1) if any(sign in row for sign in signs)]

    def _is_bracketed(self, node: Any) -> bool:
        """Whether all items of a with statement stand in one pair of brackets."""
        if len(node.items) < 2 and node.items[0].optional_vars is None:
            return False
        head = "\n".join(self.lines[node.lineno - 1:node.body[0].lineno])[node.col_offset:]
        match = re.match(r"(?:async\s+)?with\s*\(", head)
        if match is None:
            return False
        depth, at = 1, match.end()
        while at < len(head) and depth:
            depth += {"(": 1, ")": -1}.get(head[at], 0)
            at += 1
        return head[at:].lstrip().startswith(":")

    def _annotations(self, node: Any) -> None:
        """Read annotations of parameters, which are evaluated when a function is defined (until 3.14)."""
        if self.has_lazy_annotations:
            return
        args = node.args
        all_args = [*args.posonlyargs, *args.args, *args.kwonlyargs, args.vararg, args.kwarg]
        for written in [a.annotation for a in all_args if a is not None and a.annotation] + [node.returns]:
            if written is None or isinstance(written, (ast.Name, ast.Constant, ast.Attribute)):
                continue
            self._annotation(written)

    def _annotation(self, written: ast.expr) -> None:
        for part in ast.walk(written):
            if isinstance(part, ast.BinOp) and isinstance(part.op, ast.BitOr) and any(_is_type(x) for x in (
                    part.left, part.right)) and not any(isinstance(x, ast.Constant) and isinstance(x.value, str)
                                                        for x in (part.left, part.right)):
                self._add("3.10", "a union of types written with |", part.lineno)
            elif isinstance(part, ast.Subscript) and isinstance(part.value, ast.Name) \
                    and part.value.id in _BUILTIN_GENERICS:
                self._add("3.9", f"{part.value.id}[...] as a type", part.lineno)

    # -- names of the standard library -----------------------------------------------------
    def imported(self, imports: Sequence[ImportedName]) -> None:
        """Read what is imported from the standard library, where nothing keeps it from failing."""
        for one in imports:
            if one.guard in ("try", "typing") or one.instead_of is not None or any(
                    one.module in names for names in SYSTEM_ONLY.values()):
                continue
            first = stdlib_history()["modules"].get(one.module, [None])[0]
            if first:
                self._add(first, f"the standard library's {one.module}", one.line)
            if one.name:
                self._name(one.module, one.name, one.line)

    def spoken_of(self, imports: Sequence[ImportedName]) -> bool:
        """Whether the text has a name behind a dot that came to, or went from, a module that is imported."""
        for module in {i.module for i in imports if i.name is None}:
            names = _table_names(module)
            if names and (any(f"{module}.{name}" in self.text for name in names) or (
                    f"{module} as " in self.text and any(f".{name}" in self.text for name in names))):
                return True
        return False

    def _name(self, module: str, name: str, line: int) -> None:
        since = library_names()["names"].get(module, {}).get(name)
        gone = stdlib_history()["names"].get(f"{module}.{name}")
        if gone:
            self._add(gone[0], f"{module}.{name}", line, is_oldest=False)
        elif since and since.startswith("-"):
            self._add(since[1:], f"{module}.{name}", line, is_oldest=False)
        elif since:
            self._add(since, f"{module}.{name}", line)

    def names(self, node: Any) -> None:
        """Note which names stand for modules, and which are given to something else."""
        if isinstance(node, ast.Import):
            self.modules.update({a.asname or a.name: a.name for a in node.names if a.asname or "." not in a.name})
        elif isinstance(node, (ast.Assign, ast.AnnAssign, ast.For)):
            targets = node.targets if isinstance(node, ast.Assign) else [node.target]
            self.others |= {n.id for t in targets for n in ast.walk(t) if isinstance(n, ast.Name)}

    def attributes(self, tree: ast.AST) -> None:
        """Read what is asked of modules by a dot, where the table has such a name and the text speaks of it."""
        wanted = {(alias, name): module for alias, module in self.modules.items() if alias not in self.others
                  for name in _table_names(module) if f"{alias}.{name}" in self.text}
        if not wanted:
            return
        lines = self._lines_with(*{f".{name}" for _, name in wanted})
        for node, is_guarded in statements(tree):
            for part in _own_expressions(node) if not is_guarded and self._stands_in(node, lines) else ():
                if isinstance(part, ast.Attribute) and isinstance(part.value, ast.Name):
                    module = wanted.get((part.value.id, part.attr))
                    if module:
                        self._name(module, part.attr, part.lineno)


@cache
def _table_names(module: str) -> set[str]:
    history = {n.rpartition(".")[2] for n in stdlib_history()["names"] if n.rpartition(".")[0] == module}
    return history | set(library_names()["names"].get(module, ()))


def _own_expressions(node: Any) -> Iterator[ast.AST]:
    """Yield all expressions of a statement, those of statements inside it left out; and of what is tried, nothing."""
    queue = _own_parts(node)
    while queue:
        part = queue.pop()
        yield part
        queue += list(ast.iter_child_nodes(part))


def _own_parts(node: ast.AST) -> list[ast.AST]:
    kinds = (ast.expr, ast.withitem, ast.arguments, ast.keyword)
    return [child for child in ast.iter_child_nodes(node) if isinstance(child, kinds)]


def _is_plain_decorator(node: ast.expr) -> bool:
    """Whether a decorator is a dotted name, or a call of one: all that Python before 3.9 takes (PEP 614)."""
    return bool(dotted(node.func if isinstance(node, ast.Call) else node))


def _is_type(node: ast.expr) -> bool:
    return (isinstance(node, ast.Constant) and node.value is None) or (
        isinstance(node, ast.Name) and node.id in _BUILTIN_TYPES) or (
        isinstance(node, ast.Subscript) and isinstance(node.value, ast.Name) and node.value.id in _BUILTIN_GENERICS)
