"""The folders that code adds to its own search path, worked out from the expressions without running them."""

from __future__ import annotations

import ast

from kalyx.core.facts.source_code.bindings import values_of_name
from kalyx.core.facts.source_code.syntax import dotted, parse, walk

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Collection, Sequence
    from typing import Any

    from kalyx.core.facts.files import Files

__all__ = ["PathReader", "added_to_path", "lines_adding"]

_MODULES = frozenset({"os", "sys", "Path", "pathlib", "str", "inspect", "__file__"})  # what the expressions are made of
DEEPEST = 20  # names that stand for names
MOST_NAMES = 100  # that are looked for in one file
MOST_FOLDERS = 200  # that loops count up
LONGEST = 4096  # characters of a path


def added_to_path(node: ast.Call | ast.Assign | ast.AugAssign, names: Collection[str]) -> list[tuple[ast.expr, bool]]:
    """Return what a call or an assignment adds to the search path: expressions, each with whether it goes to the front.

    `names` are those of the search path in this code. What may add anything is returned whole: it is no folder.
    """
    if isinstance(node, ast.Call):
        return _added_by_call(node, names)
    target = node.target if isinstance(node, ast.AugAssign) else node.targets[0]
    place = target.slice if isinstance(target, ast.Subscript) else None
    if dotted(target.value if isinstance(target, ast.Subscript) else target) not in names:
        return []
    if isinstance(node, ast.AugAssign):
        return _each(node.value, is_first=False)
    end = place.upper if isinstance(place, ast.Slice) else place
    if isinstance(end, ast.Constant) and end.value == 0:  # [:0], [0:0], [0]
        return _each(node.value, is_first=True)
    added: list[tuple[ast.expr, bool]] = []
    value = node.value
    while isinstance(value, ast.BinOp) and isinstance(value.op, ast.Add):  # old + new, new + old
        if dotted(value.left) in names:
            return [*_each(value.right, is_first=False), *added]
        if dotted(value.right) in names:
            return [*_each(value.left, is_first=True), *added]
        added = [*_each(value.right, is_first=False), *added]
        value = value.left
    return [] if dotted(value) in names else [(node.value, False)]


def lines_adding(files: Files, path: str, text: str, folder: str) -> list[int]:
    """Return the lines, counted from 1, by which a file of code adds a folder to the search path."""
    try:
        tree = parse(text)
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return []
    nodes, reader = walk(tree), PathReader(files, path, [(tree, text)])
    names = {"sys.path", *(a.asname or a.name for n in nodes if isinstance(n, ast.ImportFrom) and n.module == "sys"
                           for a in n.names if a.name == "path")}
    return [node.lineno for node in nodes if isinstance(node, (ast.Call, ast.Assign, ast.AugAssign))
            and any(files.same(added, folder) for written, _ in added_to_path(node, names)
                    for added in reader.folders(written) or ())]


def _added_by_call(node: ast.Call, names: Collection[str]) -> list[tuple[ast.expr, bool]]:
    called, _, method = dotted(node.func).rpartition(".")
    if method == "addsitedir" and node.args:
        return [(node.args[0], False)]
    if called not in names or not node.args:
        return []
    if method == "extend":
        return _each(node.args[0], is_first=False)
    return [(node.args[-1], method == "insert")] if method in ("append", "insert") else []


def _each(written: ast.expr, *, is_first: bool) -> list[tuple[ast.expr, bool]]:
    """Return the elements of a list as they are put in one by one: what is to stand first comes last."""
    if not isinstance(written, (ast.List, ast.Tuple)):
        return [(written, is_first)]
    return [(one, is_first) for one in (written.elts[::-1] if is_first else written.elts)]


class PathReader:
    """Works out the folders that an expression names, where it is made of the usual parts.

    `pieces` are the trees of the code, each with its text, for what its names stand for.
    """

    def __init__(self, files: Files, path: str, pieces: Sequence[tuple[ast.AST, str]]) -> None:
        self.files = files
        self.path = path
        self.folder_of_run = str(files.path.dirname(path)) if path.endswith(".ipynb") else files.cwd
        self._pieces = pieces
        self._expressions: dict[str, list[ast.expr]] = {}  # by the names that stand for them
        self._known: dict[str, Any] = {}  # the values of names, as far as they were worked out
        self._within: list[str] = []  # names that are being worked out

    def folders(self, node: ast.expr) -> list[str] | None:
        """Return the absolute folders, several where a loop counts them up; None where only running tells."""
        looped = {n.id for n in walk(node) if isinstance(n, ast.Name) and len(self._of_name(n.id)) > 1}
        if not looped:
            folder = self._folder(node)
            return None if folder is None else [folder]
        name = looped.pop()
        one_by_one = self._of_name(name)
        if looped or len(one_by_one) > MOST_FOLDERS:  # loops in loops are not counted up
            return None
        found = []
        for self._expressions[name] in [[one] for one in one_by_one]:
            self._known.clear()
            found.append(self._folder(node))
        self._expressions[name] = one_by_one
        self._known.clear()
        return None if None in found else [folder for folder in found if folder is not None]

    def _folder(self, node: ast.expr) -> str | None:
        try:
            value = self._value(node)
        except RecursionError:
            return None
        is_path = isinstance(value, str) and "\0" not in value
        return self.files.located(value, self.folder_of_run) if is_path else None

    def _of_name(self, name: str) -> list[ast.expr]:
        """Return what a name stands for; nothing where that is not plain."""
        if name not in self._expressions:
            is_one = name not in _MODULES and len(self._expressions) < MOST_NAMES
            self._expressions[name] = values_of_name(
                name, self._pieces, has_file=not self.path.endswith(".ipynb")) if is_one else []
        return self._expressions[name]

    def _value(self, node: ast.AST) -> Any:
        """Return the text or number that an expression is; None where only running tells, or it is no path's length."""
        value = self._worked_out(node)
        return None if isinstance(value, str) and len(value) > LONGEST else value

    def _worked_out(self, node: ast.AST) -> Any:
        m = self.files
        if isinstance(node, ast.Constant):
            return node.value if isinstance(node.value, (str, int)) else None
        if isinstance(node, ast.Name):
            return self._named(node.id)
        if isinstance(node, ast.JoinedStr):
            parts = [self._value(p.value if isinstance(p, ast.FormattedValue) else p) for p in node.values]
            return "".join(parts) if all(isinstance(p, str) for p in parts) else None
        if isinstance(node, ast.BinOp) and isinstance(node.op, (ast.Div, ast.Add)):
            a, b = self._value(node.left), self._value(node.right)
            if isinstance(a, str) and isinstance(b, str):
                return m.path.join(a, b) if isinstance(node.op, ast.Div) else a + b
            return None
        if isinstance(node, ast.Attribute):
            return self._attribute(node)
        if isinstance(node, ast.Subscript):
            return self._part(node)
        return self._call(node) if isinstance(node, ast.Call) else None

    def _named(self, name: str) -> Any:
        """Return the value of a name."""
        if name == "__file__":
            return self.path
        values = self._of_name(name)
        if len(values) != 1 or name in self._within or len(self._within) > DEEPEST:
            return None
        if name not in self._known:
            self._within.append(name)
            value = self._value(values[0])
            self._within.pop()
            self._known[name] = value
        return self._known[name]

    def _part(self, node: ast.Subscript) -> Any:
        """Return a folder above (``.parents[1]``), the first half of a path, or where the code runs."""
        m, count = self.files, self._value(node.slice)
        if isinstance(node.value, ast.Attribute) and node.value.attr == "parents":
            place = self._value(node.value.value)
            for _ in range(count + 1 if isinstance(count, int) else 0):
                place = m.path.dirname(place) if isinstance(place, str) else None
            return place
        if isinstance(node.value, ast.Call) and dotted(node.value.func) in ("os.path.split", "split", "osp.split"):
            inner = self._value(node.value.args[0]) if node.value.args else None
            return m.path.split(inner)[count] if isinstance(inner, str) and count in (0, 1) else None
        if count == 0 and dotted(node.value) == "sys.path" and not self.path.endswith(".ipynb"):
            return m.path.dirname(self.path)
        return self.folder_of_run if count == 0 and dotted(node.value) == "_dh" else None

    def _attribute(self, node: ast.Attribute) -> Any:
        constants = {"os.pardir": "..", "os.curdir": ".", "os.path.pardir": "..", "os.sep": "/"}
        if dotted(node) in constants:
            return constants[dotted(node)]
        if node.attr == "parent":
            inner = self._value(node.value)
            return self.files.path.dirname(inner) if isinstance(inner, str) else None
        return None

    def _call(self, node: ast.Call) -> Any:
        m, name = self.files, dotted(node.func)
        if name in ("os.getcwd", "Path.cwd", "pathlib.Path.cwd"):
            return self.folder_of_run
        if name in ("os.path.expanduser",) and node.args:
            inner = self._value(node.args[0])
            return m.absolute(inner) if isinstance(inner, str) else None
        if name.rpartition(".")[2] in ("getfile", "getsourcefile"):  # inspect.getfile(inspect.currentframe())
            return self.path if "currentframe" in {n.attr for n in walk(node) if isinstance(n, ast.Attribute)} else None
        if name in ("Path", "pathlib.Path") and not node.args:
            return "."
        values = [self._value(a) for a in node.args]
        if not all(isinstance(v, str) for v in values):
            return None
        if name in ("os.path.join", "Path", "pathlib.Path", "join", "osp.join") and values:
            return m.path.join(*values)
        if name in ("os.path.dirname", "dirname", "osp.dirname") and values:
            return m.path.dirname(values[0])
        if name in ("os.path.abspath", "os.path.realpath", "os.path.normpath", "abspath", "str",
                    "os.fspath", "realpath", "osp.abspath") and values:
            return m.located(values[0], self.folder_of_run)
        if isinstance(node.func, ast.Attribute) and node.func.attr in (
                "resolve", "absolute", "as_posix", "expanduser"):
            inner, fill = self._value(node.func.value), node.func.attr == "expanduser"
            place = m.absolute if fill else m.located
            return place(inner, self.folder_of_run) if isinstance(inner, str) else None
        if isinstance(node.func, ast.Attribute) and node.func.attr == "joinpath":
            inner = self._value(node.func.value)
            return m.path.join(inner, *values) if isinstance(inner, str) else None
        return None
