"""What code asks of Python's own library that another version of Python has: read from its exception.

Compared with a table of what came to the standard library and to the built-in
types, and what went, made by asking real interpreters of each version.
"""

from __future__ import annotations

import ast
import re

from kalyx.core.facts.source_code.syntax import parse
from kalyx.core.lean.record import record
from kalyx.core.model import version_pair
from kalyx.core.tables import standard_library
from kalyx.core.verdicts.reading.failure import own_frames

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Frame, ObservedError
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["Change", "find_change"]

_OBJECT = re.compile(r"^'(\w+)' object has no attribute '(\w+)'|^type object '(\w+)' has no attribute '(\w+)'")
_KEYWORD = re.compile(r"^(?:\w+\.)?(\w+)\(\) got an unexpected keyword argument '(\w+)'|"
                   r"^(\w+)\(\) takes (?:no keyword|at most \w+ (?:keyword )?) ?arguments?")
_OPERANDS = re.compile(r"^unsupported operand type\(s\) for \|=?: '([\w.]+)' and '([\w.]+)'")
_NOT_SUBSCRIPTABLE = re.compile(r"^'(\w+)' object is not subscriptable")
_TAKEN_OUT = re.compile(r"As of (3\.\d+), the \*?(\w+)\*? parameter was removed")
_MODE_U = re.compile(r"^invalid mode: '[rwaxbt+]*U[rwaxbt+]*'")
# Kinds of what stands for a type in an annotation
_TYPES = ("type", "NoneType", "EnumType", "TypeVar", "ParamSpec", "_SpecialForm", "GenericAlias")


@record
class Change:
    """Something of Python's own that came (``newer``) or went in ``version``.

    ``what`` is how to call it; ``sure`` whether nothing else can be meant.
    """

    what: str
    version: str
    newer: bool
    frame: Frame | None
    sure: bool = True


def find_change(case: Case, failure: Failure | None) -> Change | None:
    """Return what the failing line asks of Python that came later, or went before; None when nothing."""
    error = case.obs.error if failure is None else failure.error
    if error is None or case.python.version_pair < (3, 0):
        return None
    if failure is not None and failure.name is not None:
        return _module_name(case, failure)
    frame = _asker(case, error)
    if frame is None:
        return None
    reader = {"AttributeError": _member, "TypeError": _type_error, "ValueError": _mode}.get(error.type)
    return reader(case, error, frame) if reader else None


def _change(case: Case, what: str, span: str | None, frame: Frame | None, *,
            sure: bool = True) -> Change | None:
    """Return the change that explains why this version lacks it; None where it should have it."""
    if span is None:
        return None
    came, _, went = span.partition("-")
    if not case.python.knows_version:  # that it is lacking tells on which side of the change it is
        if came and went:
            return None
        return Change(what, came or went, bool(came), frame, sure)
    if came and case.python.version_pair < version_pair(came):
        return Change(what, came, True, frame, sure)
    if went and case.python.version_pair >= version_pair(went):
        return Change(what, went, False, frame, sure)
    return None


def _asker(case: Case, error: ObservedError) -> Frame | None:
    """Return the innermost frame that is not in Python's own library."""
    frames = [f for f in own_frames(error.frames) if case.modules.layer_of_file(f.file) != "stdlib"]
    return frames[-1] if frames else None


# -- names of modules ----------------------------------------------------------------------------
def _module_name(case: Case, failure: Failure) -> Change | None:
    if not _is_genuine(case, failure.module) or "partially" in failure.error.message:
        return None
    names = standard_library.library_names()["names"].get(failure.module, {})
    return _change(case, f"{failure.module}.{failure.name}", names.get(failure.name), failure.asker)


def _is_genuine(case: Case, module: str) -> bool:
    """Whether a module is that of the standard library, and not something of the same name."""
    if case.modules.is_builtin(module) or module == "builtins":
        return True
    file = case.obs.loaded.get(module, (None, ()))[0] or case.modules.file_of(module)
    return file is not None and case.modules.layer_of_file(file) == "stdlib"


# -- members of classes --------------------------------------------------------------------------
def _member(case: Case, error: ObservedError, frame: Frame) -> Change | None:
    match = _OBJECT.search(error.message)
    if match is None:
        return None
    kind, name = match.group(1) or match.group(3), match.group(2) or match.group(4)
    found = []
    for owner, members in standard_library.library_names()["members"].items():
        module, _, last = owner.rpartition(".")
        if last == kind and name in members and _is_meant(case, frame, module, kind):
            built_in = module == "builtins"
            what = f"{kind}.{name}" if built_in else f"{owner}.{name}"
            found.append(_change(case, what, members[name], frame, sure=built_in))
    return found[0] if found and None not in found and len({c.version for c in found if c}) == 1 else None


def _is_meant(case: Case, frame: Frame, module: str, kind: str) -> bool:
    """Whether code can have got a class of this name from the standard library."""
    if module == "builtins":
        return True
    text, top = _text(case, frame.file), module.split(".")[0]
    return f"class {kind}" not in text and re.search(rf"\b{re.escape(top)}\b", text) is not None


# -- calls, operators, subscripts ----------------------------------------------------------------
def _type_error(case: Case, error: ObservedError, frame: Frame) -> Change | None:
    said = _TAKEN_OUT.search(error.message)
    if said and case.python.version_pair >= version_pair(said.group(1)):
        return Change(f"the parameter {said.group(2)}", said.group(1), False, frame)
    return (_keyword(case, error, frame) or _operator(case, error, frame)
            or _subscript(case, error, frame))


def _keyword(case: Case, error: ObservedError, frame: Frame) -> Change | None:
    match = _KEYWORD.search(error.message)
    if match is None:
        return None
    wanted = {match.group(2)} if match.group(2) else None
    calls = standard_library.library_names()["calls"]
    for node in _nodes(case, frame):
        if not isinstance(node, ast.Call):
            continue
        given = {k.arg for k in node.keywords if k.arg} & (wanted or {k.arg for k in node.keywords})
        for name in _meanings(case, frame, node.func):
            for keyword in sorted(k for k in given if k in calls.get(name, {})):
                shown = name.removeprefix("builtins.")
                return _change(case, f"the parameter {keyword} of {shown}", calls[name][keyword], frame)
    return None


def _operator(case: Case, error: ObservedError, frame: Frame) -> Change | None:
    match = _OPERANDS.search(error.message)
    if match is None:
        return None
    members = standard_library.library_names()["members"]
    if all(k.split(".")[-1] in _TYPES or k.endswith(("Meta", "Alias")) for k in match.groups()):
        return _change(case, "| between types", members["builtins.type"]["__or__"], frame)
    kind = match.group(1)
    span = members.get(f"builtins.{kind}", {}).get("__or__") if match.group(2) == kind else None
    return _change(case, f"| between two values of {kind}", span, frame)


def _subscript(case: Case, error: ObservedError, frame: Frame) -> Change | None:
    match = _NOT_SUBSCRIPTABLE.search(error.message)
    if match is None or not (match.group(1) in _TYPES or match.group(1).endswith("Meta")):
        return None
    members = standard_library.library_names()["members"]
    for node in _nodes(case, frame):
        if not isinstance(node, ast.Subscript):
            continue
        for name in _meanings(case, frame, node.value):
            span = members.get(_home_of(name), {}).get("__class_getitem__")
            change = _change(case, f"{name.removeprefix('builtins.')}[...]", span, frame)
            if change is not None:
                return change
    return None


def _home_of(name: str) -> str:
    """Return where the table has a class that people take from another module."""
    module, _, last = name.rpartition(".")
    if name in standard_library.library_names()["members"]:
        return name
    homes = [k for k in standard_library.library_names()["members"] if k.endswith("." + last)
             and k.startswith((module.split(".")[0], "_"))]
    return homes[0] if len(homes) == 1 else name


def _mode(case: Case, error: ObservedError, frame: Frame) -> Change | None:
    if _MODE_U.search(error.message) and case.python.version_pair >= (3, 11):
        return Change("the mode 'U' of open", "3.11", False, frame)
    return None


# -- reading the line that asked -----------------------------------------------------------------
def _text(case: Case, file: str) -> str:
    try:
        return case.files.read_text(file, 8 * 1024 * 1024)
    except Exception:
        return ""


def _tree(case: Case, file: str) -> ast.Module | None:
    try:
        return parse(_text(case, file))
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return None


def _nodes(case: Case, frame: Frame) -> Iterator[ast.AST]:
    """Yield the expressions that are evaluated where a frame stands.

    Of a definition those outside its body: decorators, bases, defaults, annotations.
    """
    tree = _tree(case, frame.file)
    if tree is None:
        return
    around = [n for n in ast.walk(tree) if isinstance(n, ast.stmt) and _first_line(n) <= frame.line <= (
        n.end_lineno or n.lineno)]
    if not around:
        return
    statement = min(around, key=lambda n: (n.end_lineno or n.lineno) - _first_line(n))
    body = {id(s) for name in ("body", "orelse", "finalbody", "handlers")
            for s in getattr(statement, name, ()) if isinstance(s, ast.AST)}
    waiting = [n for n in ast.iter_child_nodes(statement) if id(n) not in body]
    while waiting:
        node = waiting.pop(0)
        yield node
        waiting += ast.iter_child_nodes(node)


def _first_line(node: ast.stmt) -> int:
    lines = [d.lineno for d in getattr(node, "decorator_list", ())]
    return int(min([node.lineno, *lines]))


def _meanings(case: Case, frame: Frame, node: ast.expr) -> list[str]:
    """Return the dotted names that a name in a file may stand for, by the file's own imports."""
    parts: list[str] = []
    while isinstance(node, ast.Attribute):
        parts.insert(0, node.attr)
        node = node.value
    if not isinstance(node, ast.Name):
        return []
    tree = _tree(case, frame.file)
    for statement in ast.walk(tree) if tree is not None else ():
        if isinstance(statement, ast.ImportFrom) and statement.module and not statement.level:
            for alias in statement.names:
                if (alias.asname or alias.name) == node.id:
                    return [".".join([statement.module, alias.name, *parts])]
        if isinstance(statement, ast.Import):
            for alias in statement.names:
                if (alias.asname or alias.name.split(".")[0]) == node.id:
                    return [".".join([alias.name if alias.asname else node.id, *parts])]
    return [".".join(["builtins", node.id, *parts])]
