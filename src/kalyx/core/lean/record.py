"""Frozen records that are quick to define.

They are what a frozen standard `dataclasses.dataclass` is, as far as Kalyx uses that, without the module,
whose import and code generation would take longer than all else that a command imports (measured: half of
Kalyx's start). What is kept: fields from annotations, defaults, `field(default_factory=...)`, equality, hash,
repr, slots and `replace`. To a type checker they are dataclasses (PEP 681).
"""

from __future__ import annotations

__all__ = ["field", "names_of", "record", "replace"]

OFTEN = 200  # records of a class, from which on their making is worth compiling

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
        cls = type(one)
        made = object.__new__(cls)
        for name, fill in cls.__setters__:
            fill(made, changes.pop(name) if name in changes else getattr(one, name))
        if changes:
            raise TypeError(f"{cls.__name__} has no field {', '.join(changes)}")
        return made

    def record(cls):
        """Make a class a frozen record of its annotated fields, which are its slots."""
        names = tuple(cls.__annotations__)
        body = {n: v for n, v in cls.__dict__.items() if n not in ("__dict__", "__weakref__")}
        defaults = {n: body.pop(n) for n in names if n in body}

        made_so_far = iter(range(OFTEN))

        def __init__(self, *args, **given):
            if next(made_so_far, None) is None:
                made.__init__ = _quick_init(names, setters, defaults)
            if len(args) > len(names):
                raise TypeError(f"{cls.__name__} takes {len(names)} fields, not {len(args)}")
            for fill, value in zip(setters, args):  # noqa: B905 - args may be fewer
                fill(self, value)
            for name, fill in pairs[len(args):]:
                if name in given:
                    fill(self, given.pop(name))
                elif name in defaults:
                    value = defaults[name]
                    fill(self, value.make() if isinstance(value, _Factory) else value)
                else:
                    raise TypeError(f"{cls.__name__} needs {name}")
            if given:
                raise TypeError(f"{cls.__name__} has no field {', '.join(given)}")

        body.update(__slots__=names, __fields__=names, __init__=__init__, __repr__=_repr, __eq__=_eq, __hash__=_hash,
                    __setattr__=_refuse, __delattr__=_refuse)
        made = type(cls.__name__, cls.__bases__, body)
        setters = [made.__dict__[name].__set__ for name in names]
        made.__setters__ = pairs = tuple(zip(names, setters))  # noqa: B905 - they are as many
        return made

    def _quick_init(names, setters, defaults):
        """Return what does the same sooner, and takes its time to be compiled: for records of which there are many."""
        fill = "".join(f"    fill_{n}(self, {n})\n" for n in names)
        made = [n for n in names if isinstance(defaults.get(n), _Factory)]
        fill = "".join(f"    if {n} is unset: {n} = make_{n}()\n" for n in made) + fill
        asked = ", ".join(f"{n}=default_{n}" if n in defaults else n for n in names)
        known = {f"fill_{n}": setter for n, setter in zip(names, setters)}  # noqa: B905 - they are as many
        known |= {f"default_{n}": value for n, value in defaults.items()} | {"unset": object()}
        for n in made:
            known |= {f"make_{n}": defaults[n].make, f"default_{n}": known["unset"]}
        # of the names of fields alone, as dataclasses does it
        exec(f"def __init__(self, {asked}):\n{fill}    return None\n", known)
        return known["__init__"]

    def _repr(self):
        return f"{type(self).__qualname__}({', '.join(f'{n}={getattr(self, n)!r}' for n in self.__fields__)})"

    def _eq(self, other):
        if type(self) is not type(other):
            return NotImplemented
        return [getattr(self, n) for n in self.__fields__] == [getattr(other, n) for n in self.__fields__]

    def _hash(self):
        return hash(tuple(getattr(self, n) for n in self.__fields__))

    def _refuse(self, name, *_):
        raise AttributeError(f"{type(self).__name__} is frozen: {name} cannot be changed")


def names_of(value: object) -> tuple[str, ...]:
    """Return the names of a record's fields, in order; empty for anything else."""
    names: tuple[str, ...] = getattr(type(value), "__fields__", ())
    return names
