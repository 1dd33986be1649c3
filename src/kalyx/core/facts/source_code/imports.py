"""What a file of code imports, read from its syntax tree; nothing of it is run.

Scripts and modules are read as Python reads them (PEP 263 for the encoding),
notebooks cell by cell (the notebook format), their magics and shell lines left
out. Imports that are guarded (in ``try`` with a handler for ImportError, under
TYPE_CHECKING) or delayed (inside a function) are marked so.
"""

from __future__ import annotations

import ast
import re

from kalyx.core.facts.source_code.cell_magics import as_written, module_written
from kalyx.core.facts.source_code.cells import read_pieces
from kalyx.core.facts.source_code.control_flow import HOLDS_STATEMENTS, Held, asks_if_there, flags_of, inside_of
from kalyx.core.facts.source_code.path_changes import PathReader, added_to_path
from kalyx.core.facts.source_code.relative_imports import named_from
from kalyx.core.facts.source_code.syntax import (
    children,
    dotted,
    lines_of,
    parse,
    places_begun,
    places_of,
    walk,
    within,
)
from kalyx.core.facts.source_code.unbound_names import used_unbound
from kalyx.core.lean.record import record, replace

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.source_code.control_flow import Tried

    _Item = tuple[ast.AST, Held]
    _Each = Callable[[ast.Module, str, int | None, Sequence["ImportedName"]], object]

__all__ = ["ImportedName", "Source", "read_source", "tried_in"]

LONGEST_LINE = 1000  # characters of a line that cannot be parsed
_LINE_IMPORT = re.compile(r"^([ \t]*)(?:from\s+(\.*\w?[\w.]*)\s+import\s+([\w, ()*]+)|import\s+([\w., ]+))",
                          re.MULTILINE)
_IMPORTING = ("import_module", "__import__")
_IMPORTS = (ast.Import, ast.ImportFrom)

MANY_CELLS = 200  # from which on names are not looked for in all of them


@record
class ImportedName:
    """A module that a line asks for, or a name of it.

    ``guard`` is empty, ``condition`` (of an ``if``), ``function``, ``try`` or ``typing``. ``cell`` counts a
    notebook's code cells from 1, and ``line`` is then that within the cell.
    ``only_where`` are the lines that decide whether it runs: those that an ``except`` around it catches the failure of,
    which fail, and those of a ``try`` that it stands in the ``else`` of. ``depth`` is as in `Tried`.
    ``marker`` says on which Pythons and systems it runs at all (PEP 508); empty: on all.
    ``alias`` is the name that a module is given where it is imported (``as``).
    """

    module: str
    name: str | None
    line: int
    guard: str = ""
    cell: int | None = None
    text: str = ""
    only_where: tuple[Tried, ...] = ()
    alias: str = ""
    depth: int = 0
    marker: str = ""

    @property
    def request(self) -> str:
        """The import as it is asked of the probe."""
        return f"{self.module}:{self.name}" if self.name else self.module


@record
class Source:
    """What was read of a file. ``paths`` are the folders that it adds to the search path itself."""

    path: str
    imports: tuple[ImportedName, ...] = ()
    paths: tuple[tuple[str, bool], ...] = ()  # folder, whether it goes to the front
    trouble: str = ""
    line: int | None = None   # of the trouble
    unread: tuple[int, ...] = ()  # lines that change the search path in a way that cannot be read
    relative: bool = False    # it uses relative imports, so it is meant as a part of a package
    loose: bool = False       # it uses some, and is in no package
    uses_parser: bool = True  # False when it was too deep or too odd to be parsed
    error: tuple[str, str] | None = None  # the line of the first syntax error, and what Python says of it
    is_code: bool = True  # False where nothing of it could be parsed


def read_source(files: Files, path: str, root: str = "", *, alone: bool = False,
                each: _Each | None = None) -> Source:
    """Read what a ``.py`` or ``.ipynb`` file imports.

    A `root` is the folder of the project: below it folders without ``__init__.py`` are packages too (PEP 420).
    `alone`: it is run as a script, so that it is part of no package wherever it lies. `each` is told the tree of each
    piece of code, its text, its cell, and what it imports; imports then come without the text of their lines.
    """
    pieces, trouble = read_pieces(files, path)
    if trouble:
        return Source(path, trouble=trouble, is_code=False)
    return _Reader(files, path, root, alone=alone).read(pieces, each)


class _Reader:
    """Reads the imports of one file's pieces of code."""

    def __init__(self, files: Files, path: str, root: str = "", *, alone: bool = False) -> None:
        self.files = files
        self.path = path
        self.root = root
        self.alone = alone
        self.found: list[ImportedName] = []
        self.pieces: list[tuple[ast.AST, str]] = []
        self.trees: list[tuple[int | None, ast.Module]] = []
        self.path_reader: PathReader | None = None
        self.flags: set[str] = set()
        self.paths: list[tuple[str, bool]] = []
        self.unread: list[int] = []
        self.names_of_path = {"sys.path"}
        self.relative = False
        self.loose = False
        self.parsed = True
        self.keeps_text = True
        self.trouble = ""
        self.trouble_line: int | None = None
        self.error: tuple[str, str] | None = None

    def read(self, pieces: list[tuple[int | None, str]],
             each: _Each | None = None) -> Source:
        """Return what all pieces import, in their order."""
        self.keeps_text, failed = each is None, 0
        for cell, text in pieces:
            try:
                tree = parse(text)
            except SyntaxError as error:
                where = f"code cell {cell}, " if cell else ""
                where += f"line {error.lineno}: " if error.lineno else ""
                self.trouble = self.trouble or f"{where}{error.msg}"
                self.trouble_line = self.trouble_line or error.lineno
                self.error = self.error or ((error.text or "").strip()[:LONGEST_LINE], str(error.msg))
                failed += 1
                self._by_line(cell, text)
            except (ValueError, RecursionError, MemoryError):  # NUL bytes; nested beyond measure
                self._by_line(cell, text)
            else:
                known = len(self.found)
                self.trees.append((cell, tree))
                self._walk(tree, cell, text)
                if each is not None:
                    each(tree, text, cell, self.found[known:])
        if any(i.depth == 1 and i.guard == "try" and not i.only_where for i in self.found):
            used = used_unbound(self.trees)
            self.found = [replace(i, guard="") if (i.cell, i.line, i.module, i.name) in used else i for i in self.found]
        written = {part.removesuffix(".py") for cell, text in pieces if cell for part in (
            module_written(text).replace("\\", "/").split("/"))} - {""}
        kept: dict[tuple[object, ...], ImportedName] = {}
        for one in self.found:
            if one.module.split(".")[0] in written:  # the notebook's own: it makes that itself
                continue
            # what is tried in each place decides about other imports
            place = one.line if one.depth else 0
            kept.setdefault((one.module, one.name, one.guard, one.only_where, one.marker, place), one)
        return Source(self.path, tuple(kept.values()), tuple(dict.fromkeys(self.paths)), self.trouble,
                      self.trouble_line, tuple(self.unread), self.relative, self.loose, self.parsed,
                      self.error, not pieces or failed < len(pieces))

    def _by_line(self, cell: int | None, text: str) -> None:
        """Read imports line by line where the whole cannot be parsed."""
        self.parsed = False
        for match in _LINE_IMPORT.finditer(text):
            line = text.count("\n", 0, match.start()) + 1
            guard = "function" if match.group(1) else ""
            said = match.group().strip()
            if match.group(4):
                for part in match.group(4).split(","):
                    module = part.split(" as ")[0].strip()
                    if module:
                        self._add(module, None, line, guard, cell, said)
            else:
                self._from(match.group(2), [], line, guard, cell, said)

    def _walk(self, tree: ast.AST, cell: int | None, text: str) -> None:
        """Visit the statements in whose lines something can be imported; a call that does it can stand in any of them.

        It is done iteratively: a tree may be deeper than Python's own stack.
        """
        self.pieces.append((tree, text))  # of a notebook, those of each cell
        self.path_reader = None
        imports, calls, asks = _import_lines(text)
        rows = text.split("\n") if imports and self.keeps_text else []
        queue: list[_Item] = [(tree, Held())] if imports else []
        while queue:
            node, held = queue.pop()
            known = len(self.found)
            self._statement(node, held.guard, cell, rows, asks=asks)
            if len(self.found) > known and (held.depth or held.only_where or held.marker):
                self.found[known:] = [replace(i, only_where=held.only_where, depth=held.depth, marker=held.marker)
                                      for i in self.found[known:]]
            if type(node) in _IMPORTS:  # nothing is inside it
                continue
            children_of = children if calls and within((node,), calls) else _bodies
            if children_of is children or isinstance(node, HOLDS_STATEMENTS):
                parts = list(inside_of(node, held, self.flags, children_of))
                queue += reversed([(child, inner) for inside, inner in parts for child in within(inside, imports)])

    def _statement(self, node: ast.AST, guard: str, cell: int | None, rows: Sequence[str], *, asks: bool) -> None:
        """Take up what a statement, or a call, imports by itself, and the flags that it sets.

        Where the text `asks` nowhere if a module is there, no flag says so.
        """
        if isinstance(node, (ast.Import, ast.ImportFrom, ast.Call)):
            text = as_written(rows[node.lineno - 1]).strip() if node.lineno <= len(rows) else ""
            if isinstance(node, ast.Import):
                for one in node.names:
                    self._add(one.name, None, node.lineno, guard, cell, text, one.asname or "")
            elif isinstance(node, ast.ImportFrom):
                self._from("." * node.level + (node.module or ""), [a.name for a in node.names],
                           node.lineno, guard, cell, text)
            else:
                self._call(node, guard, cell, text)
                self._path_change(node)
        elif type(node).__name__ in ("Try", "TryStar"):
            self.flags |= flags_of(node)
        elif isinstance(node, (ast.Assign, ast.AugAssign)):
            self._path_change(node)
            if asks and isinstance(node, ast.Assign) and asks_if_there(walk(node.value)):
                self.flags |= {t.id for t in node.targets if isinstance(t, ast.Name)}

    def _call(self, node: ast.Call, guard: str, cell: int | None, text: str) -> None:
        """Read ``import_module("x")`` and ``__import__("x")``."""
        name = dotted(node.func)
        if name in ("importlib.import_module", "import_module", "__import__") and node.args:
            wanted = node.args[0]
            if isinstance(wanted, ast.Constant) and isinstance(wanted.value, str) and re.fullmatch(
                    r"[^\W\d]\w*(\.[^\W\d]\w*)*", wanted.value):
                self._add(wanted.value, None, node.lineno, guard, cell, text)

    def _path_change(self, node: ast.Call | ast.Assign | ast.AugAssign) -> None:
        """Take up the folders that a call or an assignment adds to the search path."""
        for written, is_first in added_to_path(node, self.names_of_path):
            if self.path_reader is None:
                pieces = self.pieces if len(self.pieces) < MANY_CELLS else ()
                self.path_reader = PathReader(self.files, self.path, pieces)
            folders = self.path_reader.folders(written)
            if folders is None:
                self.unread.append(node.lineno)
            else:
                self.paths += [(folder, is_first) for folder in folders]

    def _from(self, module: str, names: list[str], line: int, guard: str, cell: int | None,
              text: str) -> None:
        if module.startswith("."):
            self.relative = True
            absolute = named_from(self.files, self.path, module, self.root, alone=self.alone)
            if absolute is None:
                self.loose = True
                for name in names or ["*"]:
                    self._add(module, name, line, guard, cell, text)
                return
            module = absolute
        if module == "__future__":
            return
        if module == "sys" and "path" in names:
            self.names_of_path.add("path")
        for name in names or ["*"]:
            self._add(module, None if name == "*" else name, line, guard, cell, text)

    def _add(self, module: str, name: str | None, line: int, guard: str, cell: int | None,
             text: str, alias: str = "") -> None:
        if module.isidentifier() or not module.strip(".") or all(
                part.isidentifier() for part in module.strip(".").split(".")):
            self.found.append(ImportedName(module, name, line, guard, cell, text, (), alias))


def _import_lines(text: str) -> tuple[list[int], list[int], bool]:
    """Return the lines in which something may be imported, and those of them in which a call may do it.

    The third is whether anything is asked about: if a module is there, or which are loaded.
    """
    imports = list(places_of(text, ("import",)))
    calls = list(places_of(text, _IMPORTING))
    asking = list(places_begun(text, "find_", ("find_spec", "find_loader")))
    for at in places_begun(text, "sys.", ("sys.path", "sys.modules")):
        (asking if text.startswith("modules", at + 4) else calls).append(at)
    calls += places_of(text, ("addsitedir", *(("path",) if "from sys import" in text else ())))
    return lines_of(text, [*imports, *asking, *calls]), lines_of(text, calls) if calls else [], bool(asking)


def _bodies(node: ast.AST) -> list[ast.AST]:
    """Return the statements inside a statement."""
    return [child for field in ("body", "orelse", "cases") for child in getattr(node, field, ())]


def tried_in(imports: Sequence[ImportedName], one: ImportedName, tried: Tried) -> list[ImportedName]:
    """Return the imports of a file by which lines that decide about one of them fail: not what is caught in them."""
    return [i for i in imports if i.cell == one.cell and tried.first <= i.line <= tried.last and i.depth == tried.depth
            and not any(tried.first <= inner.first and inner.last <= tried.last for inner in i.only_where)]
