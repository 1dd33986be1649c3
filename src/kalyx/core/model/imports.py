"""What an import did, and where its pieces come from."""

from __future__ import annotations

from collections.abc import Mapping

from kalyx.core.model.finding import Finding
from kalyx.core.model.python import Environment, Interpreter
from kalyx.core.record import TYPE_CHECKING, dataclass, field

if TYPE_CHECKING:
    from typing import Any

__all__ = ["Distribution", "Elsewhere", "Frame", "ImportReport", "Observation", "ObservedError"]


@dataclass(frozen=True)
class Distribution:
    """An installed distribution. ``metadata`` is its dist-info or egg-info path."""

    name: str
    version: str
    layer: str
    location: str
    installer: str | None = None
    editable: bool = False
    size: int | None = None
    modules: tuple[str, ...] = ()
    hides: tuple[Mapping[str, str], ...] = ()
    hidden_by: Mapping[str, str] | None = None
    metadata: str = ""
    requires: tuple[str, ...] = ()
    source: str | None = None  # the local path that it was installed from (PEP 610)
    requested: bool | None = None  # asked for by name (PEP 376), None when nobody wrote it down
    extras: tuple[str, ...] = ()


@dataclass(frozen=True)
class Frame:
    """A place in code that was running when the exception was raised."""

    file: str
    line: int
    function: str


@dataclass(frozen=True)
class ObservedError:
    """An exception as the import raised it, innermost frame last."""

    type: str
    message: str
    name: str | None = None
    path: str | None = None
    frames: tuple[Frame, ...] = ()
    link: str = ""  # how it hangs on the exception before it in the chain: cause or context
    lineno: int | None = None


@dataclass(frozen=True)
class Observation:
    """What the child run saw.

    ``outcome`` is imports, fails, crash or hang. ``chain`` holds the final
    exception first, then what it arose from. ``loaded`` maps top-level modules
    that the import loaded to their file and search folders.
    """

    module: str
    name: str | None
    outcome: str
    who: Mapping[str, Any]
    chain: tuple[ObservedError, ...] = ()
    origin: str | None = None
    loader: str | None = None
    search: tuple[str, ...] = ()
    loaded: Mapping[str, tuple[str | None, tuple[str, ...]]] = field(default_factory=dict)
    status: int | None = None
    stack: tuple[Frame, ...] = ()
    output: str = ""
    seconds: float = 0.0
    trouble: str = ""

    @property
    def error(self) -> ObservedError | None:
        """The exception that the import ended with."""
        return self.chain[0] if self.chain else None

    @property
    def path(self) -> list[str]:
        """sys.path as it was before the import, the empty entry as the working folder."""
        cwd = str(self.who.get("cwd", ""))
        return [entry or cwd for entry in self.who.get("path", [])]


@dataclass(frozen=True)
class Elsewhere:
    """Another environment of this machine that has the module."""

    environment: Environment
    interpreter: Interpreter | None
    name: str | None
    version: str | None
    source: str | None = None


@dataclass(frozen=True)
class ImportReport:
    """The answer to "why": one module at one seat."""

    module: str
    name: str | None
    seat: str
    interpreter: Interpreter | None
    outcome: str
    error: Mapping[str, str] | None = None
    origin: str | None = None
    layer: str | None = None
    distribution: Distribution | None = None
    causes: tuple[Finding, ...] = ()
    elsewhere: tuple[Elsewhere, ...] = ()
    output: str = ""
