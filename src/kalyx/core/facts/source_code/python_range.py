"""Which versions of Python can run some code, by its syntax and by the names of the standard library that it uses.

Only what is there for certain counts: a form of syntax that the tree or the text shows, and a name that no condition,
``try`` or ``hasattr`` keeps from being asked for where it is not.
"""

from __future__ import annotations

import ast
import re
import sys
from bisect import bisect_left
from functools import cache, cached_property

from kalyx.core.facts.source_code.guards import Guards, places_of_questions, statements
from kalyx.core.facts.source_code.syntax import children, dotted, lines_of, places_begun, places_ended, places_of, walk
from kalyx.core.facts.source_code.syntax_forms import newest_form
from kalyx.core.lean.record import record
from kalyx.core.model import version_pair
from kalyx.core.tables.standard_library import SYSTEM_ONLY, library_names, stdlib_history

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from typing import Any

    from kalyx.core.facts.source_code.imports import ImportedName

__all__ = ["F_STRING_EQUALS", "LAZY", "Bound", "bound_of_name", "spoken_names", "versions_of_code"]

F_STRING_EQUALS = re.compile(r"[fF][rR]?(['\"]).*\{[^{}'\"=!<>]+=(?:![rsa])?(?::[^{}]*)?\}")
# What a newer form of syntax has in its text, by what such texts begin with and by what they end with; what has it
# and is none costs a look at the tree of that statement
_BEGINNING = (("/", ("/,", "/)", "/\n")), ("except", ("except*", "except *")), ("with", ("with(", "with (")))
_ENDING = (("t[", ("list[", "dict[", "set[")), ("e[", ("tuple[", "type[")))
_EQUALS = (("}", ("=}",)), ("!", ("=!",)), ("=:", ("=:",)))  # in an f-string
# And what takes more to see: signs of which one is there then, the form, and since when Python takes it: an older one
# has made no tree of what has it. Each begins with plain letters, and looks back only then: so it is found quickly.
_NEWER_FORMS = tuple((signs, re.compile(form)) for since, signs, form in (
    ((3, 10), ("match",), r"match(?<!\Smatch)(?=[ \t(\[{])"),
    ((3, 12), ("type ",), r"type(?<![^\s;:]type) "),
    ((3, 12), ("](",), r"def[ \t]+\w+[ \t]*\["), ((3, 12), ("class ",), r"class[ \t]+\w+[ \t]*\["),
    ((3, 9), ("@",), r"(?m)@(?<!\S@)(?![ \t]*[\w.]+[ \t]*(?:\([^()\n]*\))?[ \t]*(?:#[^\n]*)?$)"),
) if sys.version_info >= since)
_DOTTED = re.compile(r"\.(\w+)")
LAZY = re.compile(r"^from __future__ import .*\bannotations\b", re.MULTILINE)
_BUILTIN_TYPES = frozenset({"int", "str", "float", "bytes", "bool", "list", "dict", "set", "tuple", "type", "frozenset",
                            "complex", "object"})
_BUILTIN_GENERICS = frozenset({"list", "dict", "set", "tuple", "type", "frozenset"})


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

    Of the tree only those statements are looked at in whose lines something may be newer.
    """
    equals = [at for end, forms in _EQUALS for at in places_ended(text, end, forms)]
    walrus = list(places_of(text, (":=",)))
    reader = _Reader(text, cell, walrus, has_equals=bool(equals))
    reader.imported(imports)
    if reader.has_lazy_annotations:
        reader.lazy()
    spoken, at = _spoken_of(text, imports)
    guards = Guards({alias for alias, _ in spoken}) if spoken else None
    at += [*equals, *walrus, *places_of(text, ("|",))]
    at += [place for start, forms in _BEGINNING for place in places_begun(text, start, forms)]
    at += [place for end, forms in _ENDING for place in places_ended(text, end, forms)]
    at += places_of_questions(text) if guards else ()
    at += [found.start() for signs, form in _NEWER_FORMS if any(s in text for s in signs)
           for found in form.finditer(text)]
    lines = lines_of(text, at)
    asked = []
    for node, is_guarded in statements(tree, lines, guards) if lines else ():
        reader.syntax(node)
        if guards and not is_guarded:
            reader.names(node)
            asked.append(node)
    if guards:
        reader.attributes(asked, spoken, guards)
    oldest = max((b.version for b in reader.found if b.is_oldest), key=version_pair, default="2.7")
    newer = newest_form(lambda: tree, text, oldest)
    return [*reader.found, *([Bound(newer[0], True, newer[1], newer[2], cell)] if newer else [])]


def _spoken_of(text: str, imports: Sequence[ImportedName]) -> tuple[dict[tuple[str, str], str], list[int]]:
    """Return which names of a text, behind a dot, came to or went from a module that is imported, and the places.

    The names are those that stand for the module, and its own; the places are also all where the module's name stands
    alone, and might be given to something else.
    """
    found: dict[tuple[str, str], str] = {}
    places: list[int] = []
    dotted_names = set(_DOTTED.findall(text))
    for module, alias in {(i.module, i.alias or i.module) for i in imports if i.name is None}:
        names = _table_names(module) & dotted_names if "." not in alias else ()
        spoken = names and names.intersection(re.findall(rf"{alias}(?<![\w.]{alias})\.(\w+)", text))
        if spoken:
            found.update({(alias, name): module for name in spoken})
            places += places_of(text, {f"{alias}.{name}" for name in spoken})
            places += [m.start() for m in re.finditer(rf"{alias}(?<![\w.]{alias})\b(?!\.)", text)]
    return found, places


class _Reader:
    """Collects the bounds of one piece of code."""

    def __init__(self, text: str, cell: int | None, walrus: Sequence[int], *, has_equals: bool) -> None:
        """Take up a piece of code, with the places of ``:=`` in it, and whether its f-strings may have ``=``."""
        self.text = text
        self.cell = cell
        self.found: list[Bound] = []
        self.walrus_lines = lines_of(text, walrus)
        self.has_equals = has_equals
        self.has_lazy_annotations = "__future__" in text and LAZY.search(text) is not None
        self.modules: dict[str, str] = {}  # names that stand for modules of the standard library
        self.others: set[str] = set()  # names that are given to anything else

    @cached_property
    def lines(self) -> list[str]:
        """The lines of the text; most pieces of code need none of them."""
        return self.text.split("\n")

    def _add(self, version: str, what: str, line: int, *, is_oldest: bool = True) -> None:
        self.found.append(Bound(version, is_oldest, what, line, self.cell))

    def lazy(self) -> None:
        """Note the line that has annotations not be evaluated."""
        line = next(n for n, row in enumerate(self.lines, 1) if LAZY.match(row))
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
            if F_STRING_EQUALS.search(self.lines[number - 1]) and any(
                    isinstance(n, ast.JoinedStr) for part in _own_parts(node) for n in walk(part)):
                self._add("3.8", "= in an f-string", number)
        if self.walrus_lines and self._stands_in(node, self.walrus_lines):
            for head in _own_parts(node):
                walrus = next((n for n in walk(head) if isinstance(n, ast.NamedExpr)), None)
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
        for part in walk(written):
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
            if one.guard in ("try", "typing") or one.only_where or one.marker or any(
                    one.module in names for names in SYSTEM_ONLY.values()):
                continue
            first = stdlib_history()["modules"].get(one.module, [None])[0]
            if first:
                self._add(first, f"the standard library's {one.module}", one.line)
            if one.name:
                self._name(one.module, one.name, one.line)

    def _name(self, module: str, name: str, line: int) -> None:
        bound = bound_of_name(module, name)
        if bound is not None:
            self._add(bound[0], f"{module}.{name}", line, is_oldest=bound[1])

    def names(self, node: Any) -> None:
        """Note which names stand for modules, and which are given to something else."""
        if isinstance(node, ast.Import):
            self.modules.update({a.asname or a.name: a.name for a in node.names if a.asname or "." not in a.name})
        elif isinstance(node, (ast.Assign, ast.AnnAssign, ast.For)):
            targets = node.targets if isinstance(node, ast.Assign) else [node.target]
            self.others |= {n.id for t in targets for n in walk(t)
                            if isinstance(n, ast.Name) and isinstance(n.ctx, ast.Store)}

    def attributes(self, nodes: Sequence[Any], spoken: dict[tuple[str, str], str], guards: Guards) -> None:
        """Read what is asked of modules by a dot in some statements, where the table has such a name."""
        wanted = {(alias, name): module for (alias, name), module in spoken.items()
                  if self.modules.get(alias) == module and alias not in self.others}
        lines = lines_of(self.text, places_of(self.text, {f".{name}" for _, name in wanted}))
        for node in nodes:
            for part in _own_expressions(node, guards) if self._stands_in(node, lines) else ():
                if isinstance(part, ast.Attribute) and isinstance(part.value, ast.Name):
                    module = wanted.get((part.value.id, part.attr))
                    if module:
                        self._name(module, part.attr, part.lineno)


def bound_of_name(module: str, name: str) -> tuple[str, bool] | None:
    """Return the version that a name of the standard library came with, or went with; None where all have it, or none.

    The second is whether it came.
    """
    since = library_names()["names"].get(module, {}).get(name)
    gone = stdlib_history()["names"].get(f"{module}.{name}")
    if gone:
        return gone[0], False
    return None if not since else (since[1:], False) if since.startswith("-") else (since, True)


def spoken_names(text: str, imports: Sequence[ImportedName]) -> list[tuple[str, str]]:
    """Return the modules with the names behind a dot by which a text may ask for what not every Python has."""
    return [(module, name) for (_, name), module in _spoken_of(text, imports)[0].items()]


@cache
def _table_names(module: str) -> set[str]:
    history = {n.rpartition(".")[2] for n in stdlib_history()["names"] if n.rpartition(".")[0] == module}
    return history | set(library_names()["names"].get(module, ()))


def _own_expressions(node: Any, guards: Guards) -> Iterator[ast.AST]:
    """Yield all expressions of a statement but of those inside it, and what no question beside it holds off."""
    queue = _own_parts(node)
    while queue:
        part = queue.pop()
        yield part
        if isinstance(part, ast.IfExp) and guards.asks(part.test):
            queue.append(part.test)
        elif isinstance(part, ast.BoolOp):
            first = next((n for n, value in enumerate(part.values, 1) if guards.asks(value)), len(part.values))
            queue += part.values[:first]
        else:
            queue += children(part)


def _own_parts(node: ast.AST) -> list[ast.AST]:
    kinds = (ast.expr, ast.withitem, ast.arguments, ast.keyword)
    return [child for child in children(node) if isinstance(child, kinds)]


def _is_plain_decorator(node: ast.expr) -> bool:
    """Whether a decorator is a dotted name, or a call of one: all that Python before 3.9 takes (PEP 614)."""
    return bool(dotted(node.func if isinstance(node, ast.Call) else node))


def _is_type(node: ast.expr) -> bool:
    return (isinstance(node, ast.Constant) and node.value is None) or (
        isinstance(node, ast.Name) and node.id in _BUILTIN_TYPES) or (
        isinstance(node, ast.Subscript) and isinstance(node.value, ast.Name) and node.value.id in _BUILTIN_GENERICS)
