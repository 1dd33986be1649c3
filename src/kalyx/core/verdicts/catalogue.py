"""The catalogue: every cause that Kalyx can conclude, registered where its check stands."""

from __future__ import annotations

from collections.abc import Callable

from kalyx.core.lean.record import TYPE_CHECKING, dataclass

if TYPE_CHECKING:
    from typing import TypeVar

    F = TypeVar("F", bound=Callable[..., object])

__all__ = ["CATALOGUE", "IMPORT_CHECKS", "Cause", "also_at_import", "cause"]


@dataclass(frozen=True)
class Cause:
    """An entry: ``slug`` is the contract, ``when`` says when it is true, ``rank`` orders checks.

    Lower ranks are judged more to the point: where several causes hold, the
    one of the lowest rank is the primary one.
    """

    slug: str
    group: str
    rank: int
    when: str
    brief: str
    check: Callable[..., object]


CATALOGUE: dict[str, Cause] = {}
# (rank, slug, check) of the causes that bear on an import
IMPORT_CHECKS: list[tuple[int, str, Callable[..., object]]] = []


def cause(slug: str, group: str, when: str, rank: int = 0,
          brief: str = "") -> Callable[[F], F]:
    """Register the decorated function as the check of a cause.

    `brief` is a clause that names the trouble in a list of several.
    """

    def register(check: F) -> F:
        CATALOGUE[slug] = Cause(slug, group, rank, when, brief or when, check)
        if rank:
            IMPORT_CHECKS.append((rank, slug, check))
        return check

    return register


def also_at_import(slug: str, rank: int) -> Callable[[F], F]:
    """Register a check that finds at an import what its entry finds in an environment."""

    def register(check: F) -> F:
        IMPORT_CHECKS.append((rank, slug, check))
        return check

    return register
