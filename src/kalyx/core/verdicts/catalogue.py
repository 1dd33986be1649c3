"""The catalogue: every cause that Kalyx can conclude, registered where its check stands."""

from __future__ import annotations

from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable
    from typing import Literal, TypeVar

    F = TypeVar("F", bound=Callable[..., object])
    Asks = Literal["absence", "traces", "anything"]
    AtImport = Literal["", "always", "without a file"]

__all__ = ["CATALOGUE", "CHECKS", "Cause", "Check", "also", "cause"]

_ROOM = "kalyx.core.verdicts.causes."
# The groups of the catalogue, by the room of `causes/` that a check stands in; all else is of a seat
_GROUPS = {"absent": "A", "unreachable": "B", "incompatible": "C", "damaged": "D", "native": "E", "own_code": "F"}


@record
class Cause:
    """An entry: ``slug`` is the contract, ``when`` says when it is true, ``brief`` names it in a list of several.

    A cause of a seat is said ``instead_of`` others that are true too, and say less.
    """

    slug: str
    group: str
    when: str
    brief: str
    check: Callable[..., object]
    instead_of: tuple[str, ...] = ()


@record
class Check:
    """One check of an import, and its place among the others, as it says it of itself.

    ``asks`` says where it is worth asking: at the plain absence of a module, where folders of the path
    have traces of its name besides, or at any failure. ``after`` names checks that are judged first, and
    ``not_beside`` those beside whose cause it is silent: causes, families, or one check as ``cause:function``.
    A ``last_resort`` speaks where nothing else was found; ``also_when_it_imports`` is for what also holds then,
    always or where the module has no file. ``why_here`` is the reason of its place.
    """

    cause: str
    function: str
    module: str
    asks: Asks
    after: tuple[str, ...] = ()
    not_beside: tuple[str, ...] = ()
    family: str = ""
    last_resort: bool = False
    also_when_it_imports: AtImport = ""
    why_here: str = ""

    @property
    def name(self) -> str:
        """What tells it from the other checks of its cause."""
        return f"{self.cause}:{self.function}"


CATALOGUE: dict[str, Cause] = {}
CHECKS: list[Check] = []  # of the causes that bear on an import


def cause(slug: str, when: str, *, asks: Asks | None = None, brief: str = "", group: str = "",
          instead_of: tuple[str, ...] = (), **place: object) -> Callable[[F], F]:
    """Register the decorated function as the check of a cause.

    With `asks` it is a check of an import, and `place` says where it stands (see `Check`). The group of the
    catalogue is that of its folder, where `group` does not say another.
    """

    def register(check: F) -> F:
        room = check.__module__.removeprefix(_ROOM).partition(".")[0]
        CATALOGUE[slug] = Cause(slug, group or _GROUPS.get(room, "G"), when, brief or when, check, instead_of)
        return also(slug, asks=asks, **place)(check) if asks else check

    return register


def also(slug: str, *, asks: Asks, **place: object) -> Callable[[F], F]:
    """Register a further check of a cause: one that finds it at an import, or by other signs."""

    def register(check: F) -> F:
        CHECKS.append(Check(slug, check.__name__, check.__module__, asks, **place))  # type: ignore[arg-type]
        return check

    return register
