"""A case: one import that was tried at one seat, and all that may be asked about it.

Verdicts get a case and nothing else. What they need beyond the observation
they ask of its parts, which read it then, once.
"""

from __future__ import annotations

from functools import cached_property

from kalyx.core.facts.imports.distributions import SeenDistributions
from kalyx.core.facts.imports.elsewhere import OtherEnvironments
from kalyx.core.facts.imports.modules import SeenModules
from kalyx.core.lean.record import replace
from kalyx.core.model import RunningPython

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.environments.neighbours import Neighbours
    from kalyx.core.facts.files import Files
    from kalyx.core.model import Launch, Observation, Place, Seat

__all__ = ["THE_TEXT", "Case"]

THE_TEXT = "the text"  # what a case is known by that comes of a text which names no prefix


class Case:
    """One observed import at one seat, with what may be asked: of its Python, its modules, its distributions,
    and what other environments have.
    """

    def __init__(self, files: Files, seat: Seat, observation: Observation, neighbours: Neighbours,
                 like: Case | None = None, *, asked: Sequence[Place] = (), text_of: str = "") -> None:
        """Take the case up; `like` is another import of the same run, whose reading is shared.

        `asked` are the lines of the file that is explained, where it is a file; `text_of` is the prefix that a
        text tells of, or "the text", where the case is known from a text alone.
        """
        self.files = files
        self.seat = seat
        self.obs = observation
        self.asked = asked
        self._neighbours = neighbours
        self._like = like
        self.text_of = text_of

    def but(self, observation: Observation) -> Case:
        """Return the same case with another observation; what was read is shared."""
        return Case(self.files, self.seat, observation, self._neighbours, self, asked=self.asked,
                    text_of=self.text_of)

    @cached_property
    def python(self) -> RunningPython:
        """The interpreter as it ran; its path is the one to install with."""
        said, interpreter = self.obs.python or RunningPython(), self.seat.interpreter
        return replace(said, executable=said.executable or (interpreter.path if interpreter else ""),
                       base_prefix=said.base_prefix or said.prefix, platform=said.platform or self.files.platform)

    @cached_property
    def modules(self) -> SeenModules:
        """The modules that the seat can import, and those that the import has loaded."""
        return SeenModules(self.files, self.obs, self.python, self.launch, self.start,
                           self._like.modules if self._like else None)

    @cached_property
    def distributions(self) -> SeenDistributions:
        """The distributions that the seat can see, and those that pip could get for it."""
        return SeenDistributions(self.files, self.modules, self.python, self.launch, self.start,
                                 self._like.distributions if self._like else None)

    @cached_property
    def elsewhere(self) -> OtherEnvironments:
        """What the other environments of the machine have."""
        return OtherEnvironments(self.files, self._neighbours, self.modules, self.python, self.launch)

    # -- the seat -----------------------------------------------------------------------------
    @property
    def launch(self) -> Launch:
        """How the seat starts Python."""
        assert self.seat.launch is not None
        return self.seat.launch

    @property
    def start(self) -> str | None:
        """The start folder, None where the path has none."""
        path = self.python.path
        wanted = self.launch.start or ""
        if self.launch.start_behind:
            return (wanted or self.python.cwd or self.launch.cwd) if wanted in path else None
        if not path or (path[0] or "") not in ("", wanted):
            return None
        if path[0] == "" and wanted:
            return None
        return wanted or self.python.cwd or self.launch.cwd

    @property
    def environment_name(self) -> str:
        """How to call the seat's environment in a sentence."""
        if self.text_of:
            return "the Python that printed it" if self.text_of == THE_TEXT else f"the Python in {self.text_of}"
        environment = self.seat.environment
        if environment is None:
            return self.python.prefix
        if environment.kind == "base":
            return f"the Python {self.python.version} in {environment.path}"
        return f"{environment.name} ({environment.path})"
