"""What leads to the statements of some code: what is caught, a condition, a function, lines that fail elsewhere."""

from __future__ import annotations

import ast
import re

from kalyx.core.facts.source_code.conditions import joined, marker_of
from kalyx.core.facts.source_code.syntax import catches_import_error, children, dotted, is_type_checking, walk
from kalyx.core.lean.record import record, replace

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence
    from typing import Any

__all__ = ["HOLDS_STATEMENTS", "Held", "Tried", "asks_if_there", "ends", "flags_of", "goes_on_in", "inside_of"]

# How an import is kept from failing, the weakest hold first
_GUARDS = ("", "condition", "function", "try", "typing")
HOLDS_STATEMENTS = (
    ast.mod, ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef, ast.If, ast.For, ast.AsyncFor, ast.While, ast.With,
    ast.AsyncWith, ast.Try, ast.ExceptHandler,
    *(getattr(ast, n) for n in ("TryStar", "Match", "match_case") if hasattr(ast, n)))
_ENDING = frozenset({"sys.exit", "exit", "quit", "os._exit", "os.abort"})  # calls that end the program
_WHERE_IT_RUNS = frozenset({
    "sys.platform", "os.name", "sys.builtin_module_names", "platform.system", "sys.version_info", "sys.version",
    "sys.implementation.name", "sys.hexversion"})
# What code calls its own answers to that: PY3, PY_3_14_PLUS, IS_WINDOWS, _WIN32
_NAMED_SO = re.compile(r"_?(?:IS_)?(?:PY_?\d|PYTHON_?\d|PYPY|CPYTHON|WIN(?:DOWS|32|64)?(?:_|$)|"
                    r"MAC(?:OS)?(?:X|_|$)|DARWIN|LINUX|POSIX)")


@record
class Tried:
    """Lines of a ``try`` that decide whether an import elsewhere runs: it does where they fail, or where none does.

    ``depth`` counts the ``try`` around these lines that catch what fails in them, their own with the others.
    """

    first: int
    last: int
    depth: int
    fails: bool


@record
class Held:
    """What holds for a piece of code: the guard, what leads there, and how many ``try`` catch what fails."""

    guard: str = ""
    only_where: tuple[Tried, ...] = ()
    depth: int = 0
    marker: str = ""  # of the Pythons and systems on which it is reached (PEP 508)


def inside_of(node: ast.AST, held: Held, flags: set[str], children_of: Callable[[ast.AST], Sequence[ast.AST]]
            ) -> Iterator[tuple[Sequence[ast.AST], Held]]:
    """Yield the parts of a node, with what holds for them; `flags` tell what could be imported."""
    if type(node).__name__ in ("Try", "TryStar"):
        yield from _of_try(node, held)
    elif isinstance(node, ast.If) and (marker := marker_of(node.test)) is not None:
        yield node.body, replace(held, marker=joined(held.marker, marker))
        yield node.orelse, replace(held, marker=joined(held.marker, marker_of(node.test, negated=True) or ""))
    elif isinstance(node, ast.If) and _does_not_always_run(walk(node.test), flags):
        yield (*node.body, *node.orelse), _guarded(held, "try")  # one runs here, the other elsewhere
    elif isinstance(node, ast.If) and not is_type_checking(node.test):
        yield (node.test,), held
        yield (*node.body, *node.orelse), _guarded(held, "condition")
    elif isinstance(node, ast.If):
        yield node.body, _guarded(held, "typing")
        yield node.orelse, held
    elif isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef, ast.Lambda)):
        yield children_of(node), _guarded(held, "function")
    elif isinstance(node, ast.With) and any(dotted(getattr(i.context_expr, "func", None)) in (
            "suppress", "contextlib.suppress") for i in node.items):
        yield node.body, replace(_guarded(held, "try"), depth=held.depth + 1)
    else:
        yield children_of(node), held


def _of_try(tried: Any, held: Held) -> Iterator[tuple[Sequence[ast.AST], Held]]:
    """Yield the parts of a ``try``, with what holds for them."""
    if goes_on_in(tried, is_called=held.guard == "function") is None:
        yield from ((part, held) for part in (tried.body, tried.handlers, tried.orelse, tried.finalbody))
        return
    first, last = tried.body[0].lineno, tried.body[-1].end_lineno or tried.body[-1].lineno
    failed, fine = (Tried(first, last, held.depth + 1, fails) for fails in (True, False))
    yield tried.body, replace(_guarded(held, "try"), depth=held.depth + 1)
    yield tried.handlers, replace(held, only_where=(*held.only_where, failed))
    yield tried.orelse, replace(held, only_where=(*held.only_where, fine))
    yield tried.finalbody, held


def _guarded(held: Held, guard: str) -> Held:
    return replace(held, guard=_stronger(held.guard, guard))


def _stronger(a: str, b: str) -> str:
    """Return the guard of the two that holds an import off more firmly."""
    return max(a, b, key=_GUARDS.index)


def flags_of(tried: Any) -> set[str]:
    """Return the names by which code remembers how a guarded import went: ``has_x = True``, ``x = None``."""
    if goes_on_in(tried) is None:
        return set()
    found = set()
    queue: list[Any] = [*tried.body, *tried.handlers, *tried.orelse]
    while queue:
        node = queue.pop()
        if isinstance(node, HOLDS_STATEMENTS):
            queue += [n for n in children(node) if not isinstance(n, ast.expr)]
        elif isinstance(node, ast.Assign) and isinstance(node.value, ast.Constant) and (
                node.value.value is None or isinstance(node.value.value, bool)):
            found |= {t.id for t in node.targets if isinstance(t, ast.Name)}
    return found


def _does_not_always_run(test: Sequence[ast.AST], flags: set[str]) -> bool:
    """Whether a condition is about the system, the version of Python, or what could be imported."""
    return _asks_where_it_runs(test) or asks_if_there(test) or (
        bool(flags) and any(isinstance(n, ast.Name) and n.id in flags for n in test))


def goes_on_in(tried: Any, *, is_called: bool = False) -> list[ast.stmt] | None:
    """Return what a ``try`` does about a failing import, by the first that catches it, where that goes on then.

    A function that `is_called` only where somebody wants what it does may end the program: the rest does without it.
    """
    handler = next((h for h in tried.handlers if catches_import_error(h)), None)
    return handler.body if handler is not None and not ends(handler.body, exits=not is_called) else None


def ends(statements: Sequence[ast.stmt], *, exits: bool = True) -> bool:
    """Whether statements end in an error, or end the program where that counts, whichever way they go."""
    return any(isinstance(s, ast.Raise)
               or (exits and isinstance(s, ast.Expr) and isinstance(s.value, ast.Call)
                   and dotted(s.value.func) in _ENDING)
               or (isinstance(s, ast.If) and ends(s.body, exits=exits) and ends(s.orelse, exits=exits))
               or (isinstance(s, ast.With) and ends(s.body, exits=exits)) for s in statements)


def _asks_where_it_runs(test: Sequence[ast.AST]) -> bool:
    asked = {n.id if isinstance(n, ast.Name) else dotted(n) for n in test if isinstance(n, (ast.Attribute, ast.Name))}
    return bool(asked & _WHERE_IT_RUNS) or any(_NAMED_SO.match(name.rpartition(".")[2]) for name in asked)


def asks_if_there(test: Sequence[ast.AST]) -> bool:
    """Whether an expression asks if a module could be imported, or is: ``find_spec("x")``, ``"x" in sys.modules``."""
    return any((isinstance(n, ast.Call) and dotted(n.func).rpartition(".")[2] in ("find_spec", "find_loader"))
               or (isinstance(n, ast.Attribute) and dotted(n) == "sys.modules") for n in test)
