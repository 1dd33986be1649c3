"""Which cases of a long table are left to `.ci/run`: the first ones of each kind are run by everybody, each time."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Hashable, Iterable
from typing import TypeVar

import pytest
from _pytest.mark.structures import ParameterSet

__all__ = ["first_of_each", "some_pythons"]

T = TypeVar("T")


def first_of_each(cases: Iterable[T], kind: Callable[[T], Hashable], most: int) -> list[ParameterSet]:
    """Return the cases as parameters of a test; those of a kind that come after its first `most` are `thorough`."""
    met: Counter[Hashable] = Counter()
    found = []
    for case in cases:
        met[kind(case)] += 1
        found.append(pytest.param(case, marks=[pytest.mark.thorough] if met[kind(case)] > most else []))
    return found


def some_pythons(versions: Iterable[str]) -> list[ParameterSet]:
    """Return versions as parameters: the oldest and the newest for everybody; the tests' own is in all other tests."""
    known = sorted(versions, key=lambda v: [int(n) for n in v.split(".")] if v[:1].isdigit() else [99])
    for_all = {*known[:1], *[v for v in known if v[:1].isdigit()][-1:]}
    return [pytest.param(v, marks=[] if v in for_all else [pytest.mark.thorough]) for v in known]
