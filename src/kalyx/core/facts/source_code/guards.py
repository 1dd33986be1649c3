"""What keeps code from asking for a name of a module where it is lacking: conditions, ``try``, what it asked before."""

from __future__ import annotations

import ast
import re

from kalyx.core.facts.source_code.control_flow import ends
from kalyx.core.facts.source_code.syntax import dotted, places_begun, places_ended, places_of, walk, within

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from typing import Any

__all__ = ["Guards", "places_of_questions", "statements"]

_HOLDING = (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef, ast.If, ast.For, ast.AsyncFor, ast.While, ast.With,
            ast.AsyncWith, ast.Try, *(getattr(ast, n) for n in ("TryStar", "Match", "TypeAlias") if hasattr(ast, n)))
_LEAVES = (ast.Return, ast.Continue, ast.Break)
_WHICH_PYTHON = frozenset({"sys.version_info", "sys.hexversion", "sys.platform", "os.name", "sys.implementation.name"})
_OF_SYS = tuple(name for name in sorted(_WHICH_PYTHON) if name.startswith("sys."))
_KEEPS_OFF = frozenset({"AttributeError", "ImportError", "ModuleNotFoundError", "NameError", "Exception"})


class Guards:
    """The questions that code asks about some modules, which it knows by these names, and the names of its answers."""

    def __init__(self, modules: set[str]) -> None:
        self._modules = modules
        self._flags: set[str] = set()

    def asks(self, test: ast.expr) -> bool:
        """Whether a condition asks which Python runs, or whether a name is there."""
        for node in walk(test):
            if isinstance(node, ast.Call) and dotted(node.func) in ("hasattr", "getattr"):
                return True
            if dotted(node).startswith(("sys.", "os.name", "platform.")) or (isinstance(node, ast.Name) and (
                    node.id in self._flags or re.match(r"(?i)_?(is_)?(py|python|win|mac|posix|linux)", node.id))):
                return True
        return False

    def answers(self, value: ast.expr) -> bool:
        """Whether an expression is such a question itself: about the Python that runs, or a name of the modules."""
        for node in walk(value):
            if isinstance(node, ast.Call) and dotted(node.func) == "hasattr" and node.args \
                    and dotted(node.args[0]) in self._modules:
                return True
            if dotted(node) in _WHICH_PYTHON or (isinstance(node, ast.Name) and node.id in self._flags):
                return True
        return False

    def take(self, node: ast.stmt, *, in_module: bool) -> bool:
        """Take up the name of an answer; return whether what comes behind a statement runs only by an answer.

        So it is with ``if not hasattr(os, "x"): return``. A module that raises so cannot be had without.
        """
        if isinstance(node, ast.Assign) and self.answers(node.value):
            self._flags.update(t.id for t in node.targets if isinstance(t, ast.Name))
        return isinstance(node, ast.If) and (
            isinstance(node.body[-1], _LEAVES) or (isinstance(node.body[-1], ast.Raise) and not in_module)
        ) and self.answers(node.test)


def places_of_questions(text: str) -> Iterator[int]:
    """Yield the places of a text where it may ask which Python runs, or whether a name is there."""
    yield from places_begun(text, "sys.", _OF_SYS)
    yield from places_of(text, ("os.name", "platform."))
    yield from places_ended(text, "attr", ("hasattr", "getattr"))


def statements(tree: ast.AST, lines: list[int], guards: Guards | None) -> Iterator[tuple[Any, bool]]:
    """Yield the statements of a tree in which one of some lines is (in order), also those that hold others.

    With each comes whether something keeps it from failing where a name is lacking; without `guards` that is looked
    for in no condition.
    """
    queue = _held(getattr(tree, "body", ()), lines, guards, in_module=True)
    while queue:
        node, is_guarded = queue.pop()
        yield node, is_guarded
        kind = type(node).__name__
        if kind in ("Try", "TryStar"):
            keeping = [h for h in node.handlers if _keeps_off(h)]
            held = is_guarded or any(not ends(h.body) for h in keeping)
            parts = [(node.body, held), *((h.body, is_guarded or bool(keeping)) for h in node.handlers),
                     (node.orelse, held), (node.finalbody, is_guarded)]
        elif kind == "If":
            held = is_guarded or (guards is not None and guards.asks(node.test))
            parts = [(node.body, held), (node.orelse, held)]
        elif kind == "Match":
            parts = [(case.body, is_guarded) for case in node.cases]
        elif isinstance(node, _HOLDING):
            parts = [(getattr(node, field, None) or (), is_guarded) for field in ("body", "orelse")]
        else:
            continue
        for body, held in reversed(parts):
            queue += _held(body, lines, guards, is_guarded=held)


def _held(body: Sequence[Any], lines: Sequence[int], guards: Guards | None, *, is_guarded: bool = False,
          in_module: bool = False) -> list[tuple[Any, bool]]:
    """Return the statements of a body in which some lines are, the last one first, each with whether it is guarded."""
    found = []
    for node in within(body, lines):
        found.append((node, is_guarded))
        is_guarded = (guards is not None and guards.take(node, in_module=in_module)) or is_guarded
    return found[::-1]


def _keeps_off(handler: ast.ExceptHandler) -> bool:
    kinds = handler.type.elts if isinstance(handler.type, ast.Tuple) else [handler.type]
    return handler.type is None or any(dotted(k).rpartition(".")[2] in _KEEPS_OFF for k in kinds)
