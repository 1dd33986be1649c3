"""Our light records against the standard library's frozen dataclasses: the same fields, the same answers."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kalyx.core.lean.record import OFTEN, field, names_of, record, replace

NAMES = ["name", "count", "tags", "place"]
VALUES = st.one_of(st.none(), st.booleans(), st.integers(), st.text(max_size=3), st.tuples(st.integers()))
# The fields of a class, in order: without a default first, then with one; "made" is made anew for each
FIELDS = st.builds(lambda plain, rest: [*[(n, "needed") for n in NAMES[:plain]],
                                        *zip(NAMES[plain:], rest, strict=False)],
                   st.integers(0, 3), st.lists(st.sampled_from(["made", "given"]), max_size=3))


def both(fields: list[tuple[str, str]], default: object) -> tuple[type, type]:
    """Return a record and a frozen dataclass of the same fields."""
    made = []
    for make in (field, dataclasses.field):
        body: dict[str, object] = {"__annotations__": {name: "object" for name, _ in fields}, "__module__": __name__,
                                   "__qualname__": "Seed"}
        body |= {name: make(default_factory=list) if kind == "made" else default for name,
                 kind in fields if kind != "needed"}
        made.append(type("Seed", (), body))
    return record(made[0]), dataclasses.dataclass(frozen=True)(made[1])


def said(do: Callable[[], object]) -> object:
    """Return what a call returns, or what kind of exception it raises."""
    try:
        return do()
    except (TypeError, AttributeError) as error:
        return AttributeError if isinstance(error, AttributeError) else TypeError


@given(FIELDS, VALUES, st.lists(VALUES, max_size=5),
       st.dictionaries(st.sampled_from([*NAMES, "size"]), VALUES, max_size=3), st.booleans())
def test_they_are_the_same(fields: list[tuple[str, str]], default: object, args: list[object],
                           named: dict[str, object], often: bool) -> None:
    """Made, shown, compared, hashed, replaced and refused alike; also where there are so many that it is compiled."""
    ours, theirs = both(fields, default)
    for _ in range(OFTEN + 1 if often else 0):
        said(lambda: ours(*args, **named))
    one, two = said(lambda: ours(*args, **named)), said(lambda: theirs(*args, **named))
    if isinstance(one, type):
        assert one is two
        return
    names = [name for name, _ in fields]
    assert names_of(one) == tuple(names) == tuple(f.name for f in dataclasses.fields(theirs))
    assert [getattr(one, n) for n in names] == [getattr(two, n) for n in names] and repr(one) == repr(two)
    assert one == ours(*args, **named) and one != two and said(lambda: hash(one)) == said(lambda: hash(two))
    for name in names:
        changed, theirs_changed = replace(one, **{name: "new"}), dataclasses.replace(two, **{name: "new"})
        assert repr(changed) == repr(theirs_changed) and (changed == one) == (theirs_changed == two)
    for do in (lambda x: setattr(x, "name", 1), lambda x: delattr(x, "name"), lambda x: setattr(x, "size", 1)):
        assert said(lambda do=do: do(one)) is said(lambda do=do: do(two)) is AttributeError


def test_defaults_are_made_anew() -> None:
    """What a factory makes is no two records' own."""
    @record
    class Seed:
        tags: list[str] = field(default_factory=list)

    assert Seed().tags is not Seed().tags
    with pytest.raises(TypeError, match="size"):
        Seed(size=1)  # type: ignore[call-arg]
