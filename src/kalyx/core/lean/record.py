"""Frozen records that are quick to define.

They are what a frozen standard `dataclasses.dataclass` is, as far as Kalyx uses that, without the module,
whose import and code generation would take longer than all else that a command imports (measured: half of
Kalyx's start). What is kept: fields from annotations, defaults, `field(default_factory=...)`, equality, hash,
repr and `replace`. To a type checker they are dataclasses (PEP 681). They have no slots: filling those one by
one takes longer than filling a dictionary.
"""

from __future__ import annotations

__all__ = ["field", "names_of", "record", "replace"]

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable
    from typing import Any, TypeVar

    from typing_extensions import dataclass_transform

    T = TypeVar("T")

    def field(*, default_factory: Callable[[], T]) -> T:
        """Declare a field whose default is made anew for every record."""
        ...

    @dataclass_transform(frozen_default=True, field_specifiers=(field,))
    def record(cls: type[T]) -> type[T]:
        """Make a class a frozen record of its annotated fields."""
        ...

    def replace(one: T, **changes: Any) -> T:
        """Return a copy with some fields changed."""
        ...

else:
    class _Factory:
        def __init__(self, make):
            self.make = make

    def field(*, default_factory):
        """Declare a field whose default is made anew for every record."""
        return _Factory(default_factory)

    def replace(one, **changes):
        """Return a copy with some fields changed."""
        return type(one)(**{**one.__dict__, **changes})

    def record(cls):
        """Make a class a frozen record of its annotated fields."""
        names = tuple(cls.__annotations__)
        defaults = {n: cls.__dict__[n] for n in names if n in cls.__dict__}
        for name, value in defaults.items():
            if isinstance(value, _Factory):
                delattr(cls, name)

        def __init__(self, *args, **given):
            if len(args) > len(names):
                raise TypeError(f"{cls.__name__} takes {len(names)} fields, not {len(args)}")
            values = self.__dict__
            for name, value in zip(names, args):  # noqa: B905 - args may be fewer
                values[name] = value
            for name in names[len(args):]:
                if name in given:
                    values[name] = given.pop(name)
                elif name in defaults:
                    value = defaults[name]
                    values[name] = value.make() if isinstance(value, _Factory) else value
                else:
                    raise TypeError(f"{cls.__name__} needs {name}")
            if given:
                raise TypeError(f"{cls.__name__} has no field {', '.join(given)}")

        cls.__fields__ = names
        cls.__init__ = __init__
        cls.__repr__ = _repr
        cls.__eq__ = _eq
        cls.__hash__ = _hash
        cls.__setattr__ = cls.__delattr__ = _refuse
        return cls

    def _repr(self):
        return f"{type(self).__qualname__}({', '.join(f'{n}={v!r}' for n, v in self.__dict__.items())})"

    def _eq(self, other):
        return self.__dict__ == other.__dict__ if type(self) is type(other) else NotImplemented

    def _hash(self):
        return hash(tuple(self.__dict__[n] for n in self.__fields__))

    def _refuse(self, name, *_):
        raise AttributeError(f"{type(self).__name__} is frozen: {name} cannot be changed")


def names_of(value: object) -> tuple[str, ...]:
    """Return the names of a record's fields, in order; empty for anything else."""
    names: tuple[str, ...] = getattr(type(value), "__fields__", ())
    return names
