"""What reading a library cannot tell: needs that hang on the form of a path or an address."""

from __future__ import annotations

import ast
import re

from kalyx.core.facts.late_imports.frame import Frame
from kalyx.core.facts.late_imports.values import UNKNOWN, Code, Const, ModuleOf, Need, TooFar
from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.tables.call_needs import rows_of

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence
    from typing import Any

    from kalyx.core.facts.late_imports.calls import Calls
    from kalyx.core.facts.late_imports.library import Evaluate, Library
    from kalyx.core.facts.late_imports.values import Value

__all__ = ["Known"]

_SCHEME = re.compile(r"([A-Za-z][\w.+-]{0,40})://")


class Known:
    """The rows of the table for the libraries that a file calls."""

    def __init__(self, library: Library, evaluate: Evaluate) -> None:
        self._library = library
        self._evaluate = evaluate

    def needs_of(self, callee: Code, arguments: Sequence[Value], keywords: Mapping[str, Value],
                 reader: Calls) -> list[Need] | None:
        """Return what the table says that a call needs; None where it says nothing of it."""
        found: list[Need] = []
        known = False
        for row in rows_of(top_level(callee.module.name)):
            if str(row["call"]).rpartition(".")[2] != getattr(callee.node, "name", "") or any(
                    k in keywords for k in row.get("unless", ())) or self._code(row, reader) != callee:
                continue
            text = _text(row, arguments, keywords)
            needs = self._told(row, text, callee, reader) if text else None
            known = known or needs is not None
            found += needs or []
        return found if known else None

    def needs_of_use(self, cls: Code, name: str) -> list[Need] | None:
        """Return what the table says that using an attribute of a class needs; None where it says nothing of it."""
        if not isinstance(cls.node, ast.ClassDef):
            return None
        for row in rows_of(top_level(cls.module.name)):
            if row["by"] == "use" and str(row["call"]).split(".")[-2:] == [cls.node.name, name]:
                return [Need(tuple(row["needs"]["use"]), cls.module.file, cls.node.lineno,
                             from_table=True)]
        return None

    def _code(self, row: Mapping[str, Any], reader: Calls) -> Value:
        """Return what a dotted name of the table means; unknown where this version has none."""
        module, *rest = str(row["call"]).split(".")
        value: Value = ModuleOf(module)
        for part in rest:
            value = self._library.attribute(value.name, part, self._evaluate) if isinstance(value, ModuleOf) \
                else reader.attribute(value, part, Frame(value.module), 1) if isinstance(value, Code) else UNKNOWN
        return value

    def _told(self, row: Mapping[str, Any], text: str, callee: Code, reader: Calls) -> list[Need] | None:
        """Return what a row says of a path or an address; None where it knows no such form."""
        line = getattr(callee.node, "lineno", 1)
        scheme = _SCHEME.match(text)
        form = (scheme.group(1).lower() if scheme else "") if row["by"] == "scheme" else _ending(text)
        dialect = row.get("dialects")
        if dialect and form:
            name, _, driver = form.partition("+")
            return self._driver(str(dialect).format(name), driver or "dialect", reader)
        modules = row["needs"].get(form)
        return None if modules is None else [Need(tuple(modules), callee.module.file, line, from_table=True)]

    def _driver(self, module: str, name: str, reader: Calls) -> list[Need] | None:
        """Return what the driver of a database's dialect imports, as its own code says."""
        if name != "dialect":
            module, name = f"{module}.{name}", "dialect"
        cls = self._library.attribute(module, name, self._evaluate)
        if not isinstance(cls, Code):
            return None
        frame = Frame(cls.module)
        for method in ("import_dbapi", "dbapi"):
            try:
                code = reader.attribute(cls, method, frame, 1)
                if isinstance(code, Code):
                    reader.invoke(code, [], {}, frame)
                    return frame.needs
            except TooFar:
                return None
        return None


def _text(row: Mapping[str, Any], arguments: Sequence[Value], keywords: Mapping[str, Value]) -> str:
    """Return the path or address that a call is given, where it stands in the source."""
    place = row.get("argument", 0)
    value = keywords.get(str(row.get("name", "")), arguments[place] if isinstance(  # a method has no self here
        place, int) and place < len(arguments) else UNKNOWN)
    return value.value if isinstance(value, Const) and isinstance(value.value, str) else ""


def _ending(path: str) -> str:
    """Return the ending of a path or address, small, what compresses it left out."""
    name = re.split(r"[/\\]", path.split("?")[0])[-1].lower()
    for packed in (".gz", ".bz2", ".xz", ".zip", ".zst"):
        name = name.removesuffix(packed) or name
    return "." + name.rpartition(".")[2] if "." in name else ""
