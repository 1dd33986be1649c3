"""What distributions and environments take on the disk, in bytes."""

from __future__ import annotations

from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.model.python import Environment

__all__ = ["DiskFolder", "Unowned", "WeighedDistribution", "WeighedEnvironment", "WeighedShared"]


class DiskFolder:
    """What lies in one folder: the folders in it, and its files by columns, as there are very many."""

    __slots__ = ("apparent", "changed", "folders", "links", "names", "path", "taken")

    def __init__(self, path: str) -> None:
        self.path = path
        self.folders: list[tuple[str, int]] = []  # names, and what each takes by itself
        self.names: list[str] = []
        self.taken: list[int] = []  # bytes allocated
        self.apparent: list[int] = []  # bytes that it seems to have
        self.changed: list[float] = []  # seconds since 1970
        self.links: dict[int, tuple[int, int]] = {}  # of files with several names, by number: what tells them apart


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
