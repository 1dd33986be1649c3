"""What a running Python tells of itself from inside."""

from __future__ import annotations

from kalyx.core.lean.record import field, record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.model.python import RunningPython

__all__ = ["THIS_KERNEL", "ChangedModule", "LivePython"]

THIS_KERNEL = "this kernel"  # how its seat is called


@record
class ChangedModule:
    """A module that a process has loaded of a file that is another one now.

    ``how`` is ``gone`` or ``changed``; ``version`` is what the loaded module says of itself, ``seen`` the time, in
    seconds since the epoch, at which its file was still the one that was loaded.
    """

    name: str
    file: str
    how: str
    version: str = ""
    seen: float = 0.0

    @property
    def top(self) -> str:
        """Its top-level package."""
        return self.name.partition(".")[0]


@record
class LivePython:
    """A process that runs Python, as it is now: ``path_then`` is its sys.path as it was when Kalyx was loaded there.

    ``changed`` are the modules whose files changed since they were seen first, ``loaded`` the top-level modules that
    it has, each with its file and version.
    """

    pid: int
    python: RunningPython
    path_then: tuple[str, ...] = ()
    changed: tuple[ChangedModule, ...] = ()
    loaded: Mapping[str, tuple[str | None, str]] = field(default_factory=dict)

    def changed_of(self, tops: set[str]) -> tuple[ChangedModule, ...]:
        """Return what changed of some top-level packages."""
        return tuple(one for one in self.changed if one.top in tops)
