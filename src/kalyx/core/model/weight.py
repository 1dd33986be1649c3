"""What distributions and environments take on the disk, in bytes."""

from __future__ import annotations

from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.model.python import Environment

    # name, is it a folder, bytes allocated, bytes it seems to have, what tells hard links apart, time of change
    DiskEntry = tuple[str, bool, int, int, "tuple[int, int] | None", float]
    DiskFolder = tuple[str, list[DiskEntry]]  # a folder, and what lies in it
else:
    DiskEntry = DiskFolder = tuple

__all__ = ["DiskEntry", "DiskFolder", "Unowned", "WeighedDistribution", "WeighedEnvironment", "WeighedShared"]


@record
class WeighedDistribution:
    """What one distribution takes; ``alone`` is what would be free without it and what only it needs.

    ``by_conda``: conda put it there, which takes it out as well; many of its packages have no Python in them.
    """

    name: str
    version: str | None
    bytes: int
    files: int
    bytecode: int
    apparent: int
    alone: int = 0
    needed_by: tuple[str, ...] = ()
    asked_for: bool = True
    goes_with: tuple[str, ...] = ()
    by_conda: bool = False


@record
class Unowned:
    """What no distribution owns; ``paths`` are the largest parts of it."""

    bytes: int
    files: int
    paths: tuple[str, ...]


@record
class WeighedEnvironment:
    """What one environment takes; when it was last used, as far as files tell (ISO 8601), is a guess.

    ``used_by`` are the seats that use it, and, as ``env:PATH``, the environments that have it as their base.
    """

    environment: Environment
    total: int
    last_used: str | None
    used_by: tuple[str, ...]


@record
class WeighedShared:
    """A distribution that stands in several environments, the same in each; the bytes of all copies."""

    name: str
    version: str | None
    environments: tuple[str, ...]
    bytes: int
