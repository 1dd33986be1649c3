"""Two sides that are held against each other, and their differences."""

from __future__ import annotations

from kalyx.core.lean.record import field, record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.model.imports import Distribution
    from kalyx.core.model.kinds import SideKind

__all__ = ["Contrasted", "DistributionDifference", "Listed", "Side"]


@record
class Listed:
    """A distribution of a side: its version, or the specifier of a list; ``origin`` is where it is from (PEP 610).

    The origin is empty for one from an index; ``requirement`` is the line that gives it again. ``either`` are the
    lines of a list for one distribution of which it is not known which counts: that depends on markers, or on extras.
    """

    name: str
    version: str | None
    specifier: str = ""
    origin: str = ""
    requirement: str = ""
    marker: str = ""
    whole: Distribution | None = None
    extras: tuple[str, ...] = ()  # that a list asks for
    is_optional: bool = False  # of an extra or a group: a side without it lacks nothing
    by_conda: bool = False  # a package of conda's, which may be no Python at all
    either: tuple[Listed, ...] = ()
    asked_as: str = ""  # the origin by the branch or tag that was asked for
    tells_origin: bool = True  # False: of a listing that has no more than whether it is editable

    @property
    def shown(self) -> str:
        """The version, or what is asked of it."""
        if self.either:
            return " or ".join(dict.fromkeys(one.shown for one in self.either))
        if self.version is not None:
            return self.version
        return f"[{','.join(self.extras)}]{self.specifier}" if self.extras else self.specifier or "any version"


@record
class Side:
    """One of the two; what is not known of it is null, and is no difference."""

    ref: str
    kind: SideKind
    label: str
    listed: Mapping[str, Listed]  # by the name in the form that compares
    python: str | None = None
    platform: str | None = None
    prefixes: tuple[str, ...] = ()
    search_path: tuple[str, ...] | None = None
    variables: Mapping[str, str] | None = None
    markers: Mapping[str, str] = field(default_factory=dict)
    is_whole: bool = False  # a lock: it names all that is meant to be there


@record
class DistributionDifference:
    """A distribution that is another one on each side; ``newer`` is a, b or null."""

    name: str
    a: str | None
    b: str | None
    newer: str | None
    because: str


@record
class Contrasted:
    """All differences, those first that matter most."""

    only_a: tuple[Listed, ...]
    only_b: tuple[Listed, ...]
    differ: tuple[DistributionDifference, ...]
    same: int
    path_only_a: tuple[str, ...] = ()
    path_only_b: tuple[str, ...] = ()
    variables: tuple[tuple[str, str | None, str | None], ...] = ()
