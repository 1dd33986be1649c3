"""The newest form of syntax in some code, of those that most code does not have: which Pythons cannot read it.

A form is looked for by what its text has, and counts where the tree shows it; the newest come first, and with one the
older ones need not be looked for.
"""

from __future__ import annotations

import ast
import re
import sys
from functools import cached_property

from kalyx.core.facts.source_code.guards import statements
from kalyx.core.facts.source_code.syntax import children, lines_of, places_of, walk
from kalyx.core.model import version_pair

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterator
    from typing import Any

    _Form = tuple[tuple[int, int], str, tuple[str, ...], re.Pattern[str] | None, Callable[[Any, "_Source"], bool]]

__all__ = ["newest_form"]

MOST_TRIED = 40  # lines of a text that may have a form
_FUNCTIONS = (ast.FunctionDef, ast.AsyncFunctionDef)
_STATEMENTS = (ast.stmt, ast.ExceptHandler)
_COMPREHENSIONS = (ast.ListComp, ast.SetComp, ast.DictComp)


class _Source:
    """The text of a tree by lines."""

    def __init__(self, text: str) -> None:
        self.text = text
        self._with: dict[tuple[str, ...], list[int]] = {}

    @cached_property
    def rows(self) -> list[str]:
        """The lines."""
        return self.text.split("\n")

    def lines_with(self, signs: tuple[str, ...]) -> list[int]:
        """Return the lines, counted from 1, that have one of some signs."""
        if signs not in self._with:
            self._with[signs] = lines_of(self.text, places_of(self.text, signs))
        return self._with[signs]

    def segment(self, node: Any) -> str:
        """Return the text of a node, whose places are counted in bytes."""
        rows = [row.encode("utf-8", "surrogatepass") for row in self.rows[node.lineno - 1:node.end_lineno]]
        rows[-1] = rows[-1][:node.end_col_offset]
        rows[0] = rows[0][node.col_offset:]
        return b"\n".join(rows).decode("utf-8", "replace")

    def before(self, node: Any) -> str:
        """Return the character before a node in its line; empty where there is none."""
        line = self.rows[node.lineno - 1].encode("utf-8", "surrogatepass")
        return str(line[:node.col_offset].decode("utf-8", "replace").rstrip()[-1:])


def newest_form(tree: Callable[[], ast.Module], text: str, above: str, *, is_old: bool = False
                ) -> tuple[str, str, int] | None:
    """Return the version that brought the newest form of syntax in some code, its name and its line.

    The `tree` is asked for where the text may have one. None where no form is known that came after the version
    `above`. The forms that came by Python 3.6 are looked for
    by themselves (`is_old`): most code has one, and one file of a project that has it is enough.
    """
    source, known = _Source(text), version_pair(above) or (0, 0)
    for since, name, signs, form, shows in _OLD_FORMS if is_old else _FORMS:
        if since <= known:
            return None
        lines = source.lines_with(signs)
        if form is not None:
            lines = [line for line in lines if form.search(source.rows[line - 1])]
        for line in lines[:MOST_TRIED]:
            if any(shows(node, source) for node in _nodes_at(tree(), line)):
                return f"{since[0]}.{since[1]}", name, line
    return None


def _nodes_at(tree: ast.Module, line: int) -> Iterator[Any]:
    """Yield the statements that a line is a part of, and what of them, but other statements, it is a part of."""
    for node, _ in statements(tree, [line], None):
        yield node
        queue = [node]
        while queue:
            for part in children(queue.pop()):
                first = getattr(part, "lineno", None)
                if not isinstance(part, _STATEMENTS) and (first is None or first <= line <= (part.end_lineno or first)):
                    yield part
                    queue.append(part)


def _is_bare_tuple(node: Any, source: _Source) -> bool:
    """Whether it is a tuple without brackets in which something is unpacked."""
    return isinstance(node, ast.Tuple) and any(isinstance(e, ast.Starred) for e in node.elts) \
        and not source.segment(node).startswith("(")


# -- one form each ---------------------------------------------------------------------------------
def _is_free_f_string(node: Any, source: _Source) -> bool:
    """Whether an f-string has in its braces what only PEP 701 lets stand there."""
    import io
    import tokenize

    if not isinstance(node, ast.JoinedStr):
        return False
    begin, middle, end = (getattr(tokenize, f"FSTRING_{name}") for name in ("START", "MIDDLE", "END"))
    quotes: list[str] = []  # of the f-strings that are open
    try:
        for token in tokenize.generate_tokens(io.StringIO(f"({source.segment(node)}\n)").readline):
            inner = token.type == begin or token.type == tokenize.STRING or (token.type == middle and len(quotes) > 1)
            outer = quotes[:-1] if token.type == middle else quotes
            if inner and any(q in token.string or "\\" in token.string for q in outer):
                return True
            if quotes and (token.type == tokenize.COMMENT or (token.type == tokenize.NL and any(
                    len(q) == 1 for q in quotes))):
                return True
            if token.type == begin:
                quotes.append(token.string.lstrip("fFrRtT"))
            elif token.type == end:
                quotes.pop()
    except (tokenize.TokenError, SyntaxError):
        pass
    return False


def _is_unpacked_index(node: Any, _: _Source) -> bool:
    return isinstance(node, ast.Subscript) and isinstance(node.slice, ast.Tuple) and any(
        isinstance(e, ast.Starred) for e in node.slice.elts)


def _has_unpacked_type(node: Any, _: _Source) -> bool:
    return isinstance(node, _FUNCTIONS) and node.args.vararg is not None and isinstance(
        node.args.vararg.annotation, ast.Starred)


def _holds_asynchronous(node: Any, _: _Source) -> bool:
    return isinstance(node, _COMPREHENSIONS) and not any(g.is_async for g in node.generators) and any(
        isinstance(inner, _COMPREHENSIONS) and any(g.is_async for g in inner.generators)
        for part in children(node) if not isinstance(part, ast.comprehension) for inner in walk(part))


def _holds_bare_walrus(node: Any, source: _Source) -> bool:
    return isinstance(node, ast.Subscript) and isinstance(node.slice, ast.NamedExpr) \
        and source.before(node.slice) != "("


def _is_set_of_bare_walrus(node: Any, source: _Source) -> bool:
    held = node.elts if isinstance(node, ast.Set) else [node.elt] if isinstance(node, ast.SetComp) else []
    return any(isinstance(e, ast.NamedExpr) and source.before(e) != "(" for e in held)


def _loops_over_bare_tuple(node: Any, source: _Source) -> bool:
    return isinstance(node, (ast.For, ast.AsyncFor)) and _is_bare_tuple(node.iter, source)


def _gives_bare_tuple(node: Any, source: _Source) -> bool:
    return isinstance(node, (ast.Return, ast.Yield)) and _is_bare_tuple(node.value, source)


def _is_asynchronous_generator(node: Any, _: _Source) -> bool:
    return isinstance(node, ast.AsyncFunctionDef) and any(isinstance(n, ast.Yield) for n in _own_nodes(node))


def _own_nodes(function: ast.AST) -> Iterator[ast.AST]:
    """Yield what is in a function, without what is in those inside it."""
    queue = children(function)
    while queue:
        node = queue.pop()
        if not isinstance(node, (*_FUNCTIONS, ast.Lambda, ast.ClassDef)):
            yield node
            queue += children(node)


def _unpacks_freely(node: Any, _: _Source) -> bool:
    """Whether something is unpacked where only PEP 448 lets it be."""
    if isinstance(node, (ast.List, ast.Tuple, ast.Set)):
        is_read = not isinstance(getattr(node, "ctx", None), ast.Store)
        return is_read and any(isinstance(e, ast.Starred) for e in node.elts)
    if isinstance(node, ast.Dict):
        return None in node.keys
    if not isinstance(node, ast.Call):
        return False
    starred = [isinstance(a, ast.Starred) for a in node.args]
    named = [k.arg is None for k in node.keywords]
    return sum(starred) > 1 or (True in starred and not starred[-1]) or (True in named and not named[-1]) or \
        sum(named) > 1


def _is_set_by_unpacking(node: Any, _: _Source) -> bool:
    return isinstance(node, (ast.Tuple, ast.List)) and isinstance(node.ctx, ast.Store) and any(
        isinstance(e, ast.Starred) for e in node.elts)


def _has_annotations(node: Any, _: _Source) -> bool:
    if not isinstance(node, _FUNCTIONS):
        return False
    all_args = [*node.args.args, *node.args.kwonlyargs, node.args.vararg, node.args.kwarg]
    return node.returns is not None or any(a is not None and a.annotation is not None for a in all_args)


def _is_new_print(node: Any, source: _Source) -> bool:
    return isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "print" and (
        bool(node.keywords) or any(isinstance(a, ast.Starred) for a in node.args)) and \
        "print_function" not in source.text


def _has_print_as_value(node: Any, source: _Source) -> bool:
    """Whether print stands where Python 2, to which it is a statement, takes none."""
    if not isinstance(node, ast.stmt) or "print_function" in source.text:
        return False
    call = node.value if isinstance(node, ast.Expr) and isinstance(node.value, ast.Call) else None
    return any(isinstance(n, ast.Name) and n.id == "print" and (call is None or n is not call.func)
               for part in children(node) if not isinstance(part, _STATEMENTS) for n in walk(part))


def _is_underscored(node: Any, source: _Source) -> bool:
    return isinstance(node, ast.Constant) and type(node.value) in (int, float, complex) and "_" in source.segment(node)


# The version that brought it, its name, what lines have that may have it, their form, and what is it
_F_STRINGS = ('f"', "f'", 'fr"', "fr'", 'F"', "F'")
_STAR = r"(?<![\w)\]*])\*(?=[\w(\[])"
_STARS = (" *", ",*", "[*")
_FREE_F_STRINGS: tuple[_Form, ...] = (
    ((3, 12), "an f-string with quotes, a backslash, a comment or a new line inside its braces", _F_STRINGS,
     re.compile(r"\{(?:[^{}]{0,200}['\"\\#]|[^{}]{0,200}$)"), _is_free_f_string),
)
_FORMS: tuple[_Form, ...] = (
    *(_FREE_F_STRINGS if sys.version_info >= (3, 12) else ()),  # an older one makes no tree of what has it
    ((3, 11), "unpacking in an index", _STARS, re.compile(r"\w\[.*\*"), _is_unpacked_index),
    ((3, 11), "a type that is unpacked", _STARS, re.compile(r"\*\w+\s*:\s*\*"), _has_unpacked_type),
    ((3, 11), "an asynchronous comprehension in another one", ("async for",), None, _holds_asynchronous),
    ((3, 10), "the operator := without brackets", (":=",), None, _holds_bare_walrus),
    ((3, 9), "the operator := without brackets", (":=",), None, _is_set_of_bare_walrus),
    ((3, 9), "unpacking in what a loop goes over", _STARS, re.compile(rf"\bin\b.*{_STAR}"), _loops_over_bare_tuple),
    ((3, 8), "unpacking in what is returned", _STARS, re.compile(rf"\b(?:return|yield)\b.*{_STAR}"), _gives_bare_tuple),
    ((3, 8), "parameters by position only", ("lambda",), re.compile(r"/"),
     lambda n, _: isinstance(n, ast.Lambda) and bool(n.args.posonlyargs)),
)
_OLD_FORMS: tuple[_Form, ...] = (
    ((3, 6), "an f-string", _F_STRINGS, None, lambda n, _: isinstance(n, ast.JoinedStr)),
    ((3, 6), "a variable with a type", (":",), re.compile(r"(?:^|:)\s*[A-Za-z_][\w.]*\s*:\s*[^\s#=]"),
     lambda n, _: isinstance(n, ast.AnnAssign)),
    ((3, 6), "underscores in a number", ("_",), re.compile(r"(?<![\w.])\d+_\d"), _is_underscored),
    ((3, 6), "an asynchronous generator", ("async def",), None, _is_asynchronous_generator),
    ((3, 6), "an asynchronous comprehension", ("async for",), None,
     lambda n, _: isinstance(n, ast.comprehension) and bool(n.is_async)),
    ((3, 5), "async", ("async def",), None, lambda n, _: isinstance(n, ast.AsyncFunctionDef)),
    ((3, 5), "the operator @", ("@",), re.compile(r"\S\s*@"),
     lambda n, _: isinstance(n, (ast.BinOp, ast.AugAssign)) and isinstance(n.op, ast.MatMult)),
    ((3, 5), "unpacking among other values", ("*",), re.compile(r"[\[{(,]\s*\*|^\s*\*"), _unpacks_freely),
    ((3, 3), "yield from", ("yield from",), None, lambda n, _: isinstance(n, ast.YieldFrom)),
    ((3, 0), "nonlocal", ("nonlocal",), None, lambda n, _: isinstance(n, ast.Nonlocal)),
    ((3, 0), "annotations", ("->",), None, _has_annotations),
    ((3, 0), "annotations", ("def ",), re.compile(r"\bdef\s.*\w\s*:\s*[^\s#]"), _has_annotations),
    ((3, 0), "parameters by name only", ("*",), re.compile(r"\*\w*\s*,"),
     lambda n, _: isinstance(n, (*_FUNCTIONS, ast.Lambda)) and bool(n.args.kwonlyargs)),
    ((3, 0), "raise from", (" from ",), re.compile(r"\braise\b|^\s*(?:\)\s*)?from\b"),
     lambda n, _: isinstance(n, ast.Raise) and n.cause is not None),
    ((3, 0), "an assignment that unpacks", ("*",), re.compile(_STAR), _is_set_by_unpacking),
    ((3, 0), "arguments of a class", ("class ",), re.compile(r"=|,\s*$|\(\s*$"),
     lambda n, _: isinstance(n, ast.ClassDef) and bool(n.keywords)),
    ((3, 0), "print as a function", ("print(",), re.compile(r"=|\*|\(\s*$|,\s*$"), _is_new_print),
    ((3, 0), "print as a function", ("print",), re.compile(r"\bprint\b"), _has_print_as_value),
    ((3, 0), "super without arguments", ("super()",), None,
     lambda n, _: isinstance(n, ast.Call) and isinstance(n.func, ast.Name) and n.func.id == "super" and not n.args),
    ((3, 0), "... as a value", ("...",), None,
     lambda n, _: isinstance(n, ast.Expr) and isinstance(n.value, ast.Constant) and n.value.value is ...),
)
