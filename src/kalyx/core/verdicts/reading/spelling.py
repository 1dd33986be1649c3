"""Which names are near to one that was written."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable

__all__ = ["is_one_edit", "near_names"]


def near_names(name: str, names: Iterable[str]) -> list[str]:
    """Return the names that differ in case alone, then those one edit away."""
    lengths = range(len(name) - 1, len(name) + 2)
    alike = [n for n in names if len(n) in lengths and n != name]
    same = sorted(n for n in alike if n.lower() == name.lower())
    if len(name) < 3:
        return same
    if len(name) == 3:  # another letter makes another name
        alike = [n for n in alike if len(n) != 3 or sorted(n) == sorted(name)]
    return same + sorted(n for n in alike if len(n) > 2 and n not in same
                         and _begins_alike(name, n) and is_one_edit(name, n))


def _begins_alike(a: str, b: str) -> bool:
    """Whether two names have the same first letter, or two swapped; of longer ones that is not asked."""
    return a[0] == b[0] or a[:2] == b[1::-1] or min(len(a), len(b)) > 5


def is_one_edit(a: str, b: str) -> bool:
    """Whether one letter inserted, dropped, changed, or two neighbours swapped turns a into b."""
    if a == b or abs(len(a) - len(b)) > 1:
        return False
    start = 0
    while start < min(len(a), len(b)) and a[start] == b[start]:
        start += 1
    rest_a, rest_b = a[start:], b[start:]
    if len(a) == len(b):
        swapped = len(rest_a) > 1 and rest_a[1] + rest_a[0] + rest_a[2:] == rest_b
        return rest_a[1:] == rest_b[1:] or swapped
    return rest_a[1:] == rest_b or rest_a == rest_b[1:]
