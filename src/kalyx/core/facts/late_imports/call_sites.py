"""The calls of a file into libraries, and what each of them needs beyond what the file imports."""

from __future__ import annotations

import ast

from kalyx.core.facts.late_imports.frame import Frame
from kalyx.core.facts.late_imports.known import Known
from kalyx.core.facts.late_imports.reader import Reader
from kalyx.core.facts.late_imports.source_module import SourceModule
from kalyx.core.facts.late_imports.values import UNKNOWN, Choice, Code, Guarded, Instance, Later, Need, TooFar
from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.facts.source_code.syntax import catches_import_error, parse
from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    from kalyx.core.facts.late_imports.library import Library
    from kalyx.core.facts.late_imports.values import Value

__all__ = ["CallNeed", "read_calls"]

MOST_STEPS = 150_000  # statements and expressions that are read for one file


@record
class CallNeed:
    """A call (or an attribute that is read) of a file, and what it needs: one of these modules."""

    line: int
    cell: int | None
    says: str
    need: Need
    library: str


def read_calls(library: Library, path: str, pieces: Iterable[tuple[int | None, str]]) -> tuple[list[CallNeed], bool]:
    """Return what the calls of a file need later, in the order of their lines, each need of a line once.

    The second is whether there was more to be read than is read.

    `pieces` are the file's text, or a notebook's code cells with their numbers. A cell that cannot be parsed
    is left out, and so is what stands in a ``try`` that catches the failing import.
    """
    module = SourceModule("", path, "", is_package=False, is_own=True)
    reader = _FileReader(library, module)
    frame = Frame(module)
    for cell, text in pieces:
        try:
            tree = parse(text)
        except (SyntaxError, ValueError, RecursionError, MemoryError):
            continue
        reader.cell = cell
        try:
            reader.file(tree.body, frame)
        except RecursionError:
            reader.is_cut = True
    found = {(c.cell, c.line, c.need.modules): c for c in reader.found}
    return sorted(found.values(), key=lambda c: (c.cell or 0, c.line)), reader.is_cut


class _FileReader(Reader):
    """Reads the file that is asked about: every branch of it, and each of its calls by itself."""

    def __init__(self, library: Library, module: SourceModule) -> None:
        super().__init__(library)
        self.found: list[CallNeed] = []
        self.cell: int | None = None
        self._file = module
        self._known = Known(library, self.at_top)
        self._guarded = 0
        self.is_cut = False

    def file(self, body: Sequence[ast.stmt], frame: Frame) -> None:
        """Go through a file's statements, then through its functions with what their annotations say."""
        self._all_of(body, frame)
        for node in body:
            inside = node.body if isinstance(node, ast.ClassDef) else [node]
            for function in inside:
                if isinstance(function, (ast.FunctionDef, ast.AsyncFunctionDef)):
                    inner = self._inside(function, frame)
                    self._all_of(function.body, inner)

    def _inside(self, function: ast.FunctionDef | ast.AsyncFunctionDef, frame: Frame) -> Frame:
        inner = frame.fork()
        code = Code(self._file, function)
        for parameter in (*function.args.posonlyargs, *function.args.args, *function.args.kwonlyargs):
            inner.names[parameter.arg] = self._annotation_in(parameter.annotation, frame, code)
        return inner

    def _annotation_in(self, says: ast.expr | None, frame: Frame, code: Code) -> Value:
        if not isinstance(says, (ast.Name, ast.Attribute)):
            return UNKNOWN
        found = self.value(says, frame)
        return self.object_of(found) if isinstance(found, Code) else UNKNOWN

    def _all_of(self, body: Sequence[ast.stmt], frame: Frame) -> None:
        """Go through statements, into every branch: what is here is asked for somewhere."""
        for node in body:
            self.start()
            if isinstance(node, (ast.If, ast.For, ast.AsyncFor, ast.While, ast.With, ast.AsyncWith)):
                self._head_of(node, frame)
                self._all_of(node.body, frame)
                self._all_of(getattr(node, "orelse", []), frame)
            elif type(node).__name__ in ("Try", "TryStar"):
                self._tried(node, frame)  # type: ignore[arg-type]
            elif isinstance(node, (ast.Import, ast.ImportFrom)):
                for name, binding in self._file.imported(node).items():
                    frame.names[name] = Later(binding.module, binding.name)
            elif not isinstance(node, ast.ClassDef):
                self._one(node, frame)

    def _head_of(self, node: ast.stmt, frame: Frame) -> None:
        for item in getattr(node, "items", []):
            value = self._plain(item.context_expr, frame)
            if item.optional_vars is not None:
                self.assign(item.optional_vars, value, frame)
        for part in ("test", "iter"):
            if hasattr(node, part):
                self._plain(getattr(node, part), frame)

    def _tried(self, node: ast.Try, frame: Frame) -> None:
        catches = any(catches_import_error(h) for h in node.handlers)
        self._guarded += catches
        self._all_of(node.body, frame)
        self._guarded -= catches
        for body in (*(h.body for h in node.handlers), node.orelse, node.finalbody):
            self._all_of(body, frame)

    def _one(self, node: ast.stmt, frame: Frame) -> None:
        try:
            self.run([node], frame)
        except (TooFar, RecursionError):
            pass
        frame.ended = ""

    def _plain(self, node: ast.expr, frame: Frame) -> Value:
        try:
            return self.value(node, frame)
        except (TooFar, RecursionError):
            return UNKNOWN

    # -- calls out of the file ------------------------------------------------------------------
    def called(self, callee: Value, arguments: list[Value], keywords: dict[str, Value], frame: Frame,
               node: ast.Call) -> Value:
        """Go through a call; of one that leads from the file into a library, keep what it needs."""
        code = _code_of(callee)
        if frame.module is not self._file or code is None or code.module is self._file:
            return super().called(callee, arguments, keywords, frame, node)
        if self.all_steps > MOST_STEPS:
            self.is_cut = True
            return UNKNOWN
        told = self._known.needs_of(code, arguments, keywords, self)
        fork = frame.fork()
        fork.is_sure = True
        try:
            value = super().called(callee, arguments, keywords, fork, node)
        except (TooFar, RecursionError):
            self.start()
            fork.needs, value = [], self.annotated(code)
        self._keep(told if told is not None else fork.needs, code, node, f"{_named(node.func)}(...)")
        return value

    def _of_attribute(self, node: ast.Attribute, frame: Frame) -> Value:
        """Read an attribute; of a property of a library, keep what it needs."""
        if frame.module is not self._file:
            return super()._of_attribute(node, frame)
        owner, fork = self.value(node.value, frame), frame.fork()
        value = self.attribute(owner, node.attr, fork, node.lineno)
        if isinstance(owner, Instance):
            told = self._known.needs_of_use(owner.cls, node.attr)
            self._keep(fork.needs if told is None else told, owner.cls, node, f"{_named(node)}")
        return value

    def _keep(self, needs: Sequence[Need], callee: Code, node: ast.expr, says: str) -> None:
        if self._guarded:
            return
        library = top_level(callee.module.name)
        self.found += [CallNeed(node.lineno, self.cell, says, need, library) for need in needs
                       if library not in need.modules]


def _code_of(callee: Value) -> Code | None:
    """Return the code that a call leads to, or one of those that it may lead to; None where none is known."""
    if isinstance(callee, Guarded):
        return _code_of(callee.present) or _code_of(callee.absent)
    if isinstance(callee, Choice):
        return next((c for c in map(_code_of, callee.values) if c), None)
    return callee if isinstance(callee, Code) else None


def _named(node: ast.expr) -> str:
    """Return how a call or an attribute is written, its head left out where that is no name."""
    parts: list[str] = []
    while isinstance(node, ast.Attribute):
        parts.insert(0, node.attr)
        node = node.value
    return ".".join([node.id if isinstance(node, ast.Name) else "", *parts]) if parts else getattr(node, "id", "it")
