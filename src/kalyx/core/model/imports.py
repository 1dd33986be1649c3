"""What an import did, and where its pieces come from."""

from __future__ import annotations

from kalyx.core.lean.record import field, record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.model.finding import Evidence, Finding, Remedy
    from kalyx.core.model.kinds import Answered, LayerName, Outcome
    from kalyx.core.model.python import Environment, Interpreter, RunningPython

__all__ = ["Comparison", "Difference", "Distribution", "Elsewhere", "FileReport", "Frame", "ImportGroup",
           "ImportReport", "Observation", "ObservedError", "Place"]


@record
class Distribution:
    """An installed distribution. ``metadata`` is its dist-info or egg-info path."""

    name: str
    version: str
    layer: LayerName
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
    requires_python: str = ""


@record
class Frame:
    """A place in code that was running when the exception was raised."""

    file: str
    line: int
    function: str


@record
class ObservedError:
    """An exception as the import raised it, innermost frame last."""

    type: str
    message: str
    name: str | None = None
    path: str | None = None
    frames: tuple[Frame, ...] = ()
    link: str = ""  # how it hangs on the exception before it in the chain: cause, context, suppressed, group
    lineno: int | None = None

    @property
    def is_syntax(self) -> bool:
        """Whether a file could not be parsed."""
        return self.type in ("SyntaxError", "IndentationError", "TabError")


@record
class Observation:
    """What the child run saw.

    ``outcome`` is imports, fails, crash or hang. ``chain`` holds the final
    exception first, then what it arose from. ``loaded`` maps top-level modules
    that the import loaded to their file and search folders. ``python`` is None where
    the interpreter did not even come to say who it is; ``parsed_by`` is the version
    of a newer one that parses the file which this one could not.
    """

    module: str
    name: str | None
    outcome: Outcome
    python: RunningPython | None = None
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
    later: bool = False  # the import was over: what failed is something that was done afterwards
    parsed_by: str = ""
    ended_by: str = ""   # what code of the import did to end the process, where it did

    @property
    def error(self) -> ObservedError | None:
        """The exception that the import ended with."""
        return self.chain[0] if self.chain else None


@record
class Elsewhere:
    """Another environment of this machine that has the module."""

    environment: Environment
    interpreter: Interpreter | None
    name: str | None
    version: str | None
    source: str | None = None
    editable: bool = False
    requires_python: str = ""


@record
class Place:
    """A line of a file that asks for an import.

    ``guard`` is empty, condition, function, try or typing; or file, where it is the file
    itself that has to be compiled.
    """

    path: str
    line: int
    cell: int | None = None
    guard: str = ""
    text: str = ""

    @property
    def needed(self) -> bool:
        """Whether the code fails without it."""
        return self.guard not in ("try", "typing")


@record
class ImportGroup:
    """Failing imports of one seat that have the same cause, and what mends them all in one go."""

    cause: str
    seat: str
    because: str
    imports: tuple[str, ...]
    remedies: tuple[Remedy, ...]


@record
class Difference:
    """Something that differs between two seats."""

    what: str
    here: str
    there: str


@record
class Comparison:
    """One import at two seats, and the first difference that matters."""

    module: str
    name: str | None
    here: str
    there: str
    here_outcome: str
    there_outcome: str
    says: str
    evidence: tuple[Evidence, ...]
    differences: tuple[Difference, ...]


@record
class FileReport:
    """What became of a file's imports. ``trouble`` where it could not be read as it should."""

    path: str
    seat: str
    imports: int
    failing: tuple[str, ...] = ()
    trouble: str = ""
    line: int | None = None
    compiles: bool = True


@record
class ImportReport:
    """The answer to "why": one module at one seat."""

    module: str
    name: str | None
    seat: str
    interpreter: Interpreter | None
    outcome: Answered
    error: Mapping[str, str] | None = None
    origin: str | None = None
    layer: str | None = None
    distribution: Distribution | None = None
    causes: tuple[Finding, ...] = ()
    elsewhere: tuple[Elsewhere, ...] = ()
    output: str = ""
    asked: tuple[Place, ...] = ()
    later: bool = False  # see `Observation`

    @property
    def needed(self) -> bool:
        """Whether the code needs it to work; what is guarded everywhere it does without."""
        return not self.asked or any(p.needed for p in self.asked)

    @property
    def request(self) -> str:
        """The import as it is typed: ``module`` or ``module:name``."""
        return f"{self.module}:{self.name}" if self.name else self.module
