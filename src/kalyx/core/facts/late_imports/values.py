"""What an expression is, as far as reading tells: a constant, a module, a piece of code, one of several."""

from __future__ import annotations

import ast

from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import TypeAlias

    from kalyx.core.facts.late_imports.source_module import SourceModule

    Value: TypeAlias = ("Const | Kind | Opaque | Later | ModuleOf | Code | Instance | Super | Choice | Several | Table"
                        "| Guarded | Unknown")

__all__ = ["NONE", "UNKNOWN", "Choice", "Code", "Const", "Guarded", "Instance", "Kind", "Later", "ModuleOf", "Need",
           "Opaque", "Several", "Super", "Table", "TooFar", "Unknown", "Value", "join", "truth"]


class TooFar(Exception):
    """Reading went on for too long: what it would find is left unsaid."""


@record
class Need:
    """Modules of which one must be there, and the line of the library that asks for them.

    Where the table tells it, the line is that of what is called.
    """

    modules: tuple[str, ...]
    file: str
    line: int
    from_table: bool = False


@record
class Unknown:
    """What only running it would tell."""


@record
class Const:
    """A value that stands in the source."""

    value: object


@record
class Kind:
    """A value of a builtin type, of which no more is known."""

    name: str


@record
class Opaque:
    """What a compiled module has under a name: it is the same thing each time."""

    name: str


@record
class Later:
    """What an import bound to a name; it is looked for when the name is used."""

    module: str
    name: str


@record
class ModuleOf:
    """A module, by its full name."""

    name: str


class Code:
    """A function or class: its module, its syntax, and the object that a method is called on."""

    __slots__ = ("bound", "inside", "module", "node")

    def __init__(self, module: SourceModule, node: ast.stmt, inside: Code | None = None,
                 bound: Value | None = None) -> None:
        self.module = module
        self.node = node
        self.inside = inside
        self.bound = bound

    @property
    def key(self) -> tuple[str, int]:
        """What tells one piece of code from all others."""
        return self.module.file, getattr(self.node, "lineno", 0)

    @property
    def decorators(self) -> set[str]:
        """The last names of its decorators."""
        found = getattr(self.node, "decorator_list", [])
        return {getattr(d, "attr", getattr(d, "id", "")) for d in found}

    def __eq__(self, other: object) -> bool:
        """Whether it is the same code; what it is bound to does not count."""
        return isinstance(other, Code) and self.key == other.key

    def __hash__(self) -> int:
        """Return a hash that fits the equality."""
        return hash(self.key)


class Instance:
    """An object of a class, with what was assigned to its attributes."""

    __slots__ = ("attributes", "cls")

    def __init__(self, cls: Code) -> None:
        self.cls = cls
        self.attributes: dict[str, Value] = {}

    def __eq__(self, other: object) -> bool:
        """Whether it is of the same class: reading knows no more."""
        return isinstance(other, Instance) and self.cls == other.cls

    def __hash__(self) -> int:
        """Return a hash that fits the equality."""
        return hash(self.cls)


@record
class Super:
    """What ``super()`` gives in a method of a class."""

    cls: Code
    bound: Value


@record
class Choice:
    """One of several values; which, only running would tell."""

    values: tuple[Value, ...]


@record
class Several:
    """The members of a list, tuple or set that stands in the source."""

    values: tuple[Value, ...]


@record
class Table:
    """A dictionary that stands in the source."""

    keys: tuple[Value, ...]
    values: tuple[Value, ...]


@record
class Guarded:
    """What depends on whether a module can be imported."""

    module: str
    absent: Value
    present: Value


UNKNOWN = Unknown()
NONE = Const(None)


def join(values: list[Value]) -> Value:
    """Return what is known of a value that may be any of these; unknown where one is, or where there is none."""
    unique: list[Value] = []
    for value in values:
        unique += [value] if value not in unique else []
    if len(unique) == 1:
        return unique[0]
    return Choice(tuple(unique)) if unique and UNKNOWN not in unique else UNKNOWN


def truth(value: Value) -> bool | None:
    """Whether a value counts as true; None where that is not known."""
    if isinstance(value, Const):
        return bool(value.value)
    if isinstance(value, (Several, Table)):
        return bool(value.values)
    if isinstance(value, (ModuleOf, Code)):
        return True
    return None
