"""The order of checks: what each says of its place, made a list."""

from __future__ import annotations

import pytest

from kalyx.core.verdicts.catalogue import Check
from kalyx.core.verdicts.precedence import in_order, silenced_by


def check(cause: str, **place: object) -> Check:
    """Return a made-up check."""
    function = str(place.pop("function", "f"))
    return Check(cause, function, "m", "anything", **place)  # type: ignore[arg-type]


ORDERS = {
    "by name where nothing is said": ([check("b"), check("a")], "a b"),
    "after": ([check("a", after=("b",)), check("b")], "b a"),
    "silence implies it": ([check("a", not_beside=("c",)), check("b"), check("c")], "b c a"),
    "a family is its members": ([check("a", after=("x",)), check("c", family="x"), check("d", family="x")], "c d a"),
    "a member may come after its family": ([check("a", family="x", after=("b",)), check("b", family="x")], "b a"),
    "a last resort comes last": ([check("a", last_resort=True), check("b"), check("c", after=("b",))], "b c a"),
    "last resorts among themselves": (
        [check("a", last_resort=True, after=("b:f",)), check("b", last_resort=True), check("c")], "c b a"),
    "one check of a cause": (
        [check("a", after=("b:g",)), check("b", function="g"), check("b", function="h", after=("a",))], "b a b"),
    "all checks of a cause": ([check("a", after=("b",)), check("b", function="g"), check("b", function="h")], "b b a"),
}


@pytest.mark.parametrize("name", ORDERS)
def test_order(name: str) -> None:
    """A list in which each comes after what it names."""
    checks, order = ORDERS[name]
    assert " ".join(c.cause for c in in_order(checks)) == order


@pytest.mark.parametrize(("checks", "says"), [
    ([check("a", after=("b",)), check("b", after=("a",))], "a:f"),
    ([check("a", after=("b",)), check("b", not_beside=("c",)), check("c", after=("a",))], "c:f"),
    ([check("a", after=("b",), last_resort=True), check("b", after=("a:f",))], "b:f"),
    ([check("a", after=("nobody",))], "nobody"),
    ([check("a", not_beside=("nobody",))], "nobody"),
])
def test_what_cannot_be(checks: list[Check], says: str) -> None:
    """A circle, and a name that there is not, are errors that name them."""
    with pytest.raises(ValueError, match=says):
        in_order(checks)


def test_silence() -> None:
    """A family stands for its members, its last resorts left out."""
    checks = [check("a", not_beside=("x", "d")), check("b", family="x"), check("c", family="x", last_resort=True),
              check("d")]
    assert silenced_by(checks[0], checks) == ["b", "d"]
