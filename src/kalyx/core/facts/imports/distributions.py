"""The distributions of a case: which the seat sees, whose a file is, what pip could get."""

from __future__ import annotations

from functools import cached_property

from kalyx.core.errors import NOT_RECORDED, NotRecorded
from kalyx.core.facts.packaging.distributions import open_shelf
from kalyx.core.facts.packaging.project_files import project_folder
from kalyx.core.model.names import normal_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.imports.modules import SeenModules
    from kalyx.core.facts.packaging.distributions import SiteMetadata
    from kalyx.core.facts.packaging.project import Project
    from kalyx.core.facts.packaging.record_file import Record
    from kalyx.core.facts.packaging.wheelhouse import Target, Wheel, Wheelhouse
    from kalyx.core.facts.search_path.layers import Layer
    from kalyx.core.model import Distribution, Launch, RunningPython

__all__ = ["SeenDistributions"]


class SeenDistributions:
    """The distributions that a seat can see, layer by layer."""

    def __init__(self, files: Files, modules: SeenModules, python: RunningPython, launch: Launch,
                 start: str | None, like: SeenDistributions | None = None) -> None:
        """Look along the path of `modules`; `like` is of another import of the same run, whose reading is shared."""
        self._files = files
        self._modules = modules
        self._python = python
        self._launch = launch
        self._start = start
        self._metadata: dict[str, SiteMetadata] = like._metadata if like else {}
        self._records: dict[str, Record] = like._records if like else {}

    def metadata_in(self, layer: Layer) -> SiteMetadata:
        """Return the distributions of one path entry."""
        if layer.path not in self._metadata:
            self._metadata[layer.path] = open_shelf(self._files, layer.path, layer.layer)
        return self._metadata[layer.path]

    def all(self) -> list[Distribution]:
        """Return every distribution that the seat can see, first ones first."""
        seen: set[str] = set()
        found = []
        for layer in self._modules.layers:
            if layer.layer == "stdlib":
                continue
            for distribution in self.metadata_in(layer).distributions():
                if normal_name(distribution.name) not in seen:
                    seen.add(normal_name(distribution.name))
                    found.append(distribution)
        return found

    def named(self, name: str) -> Distribution | None:
        """Return the installed distribution of that name, the one found first; None where there is none."""
        for layer in self._modules.layers:
            found = self.metadata_in(layer).named(name) if layer.layer != "stdlib" else None
            if found is not None:
                return found
        return None

    def of(self, file: str | None) -> Distribution | None:
        """Return the distribution that a file was installed by; None where there is none."""
        if not file:
            return None
        return next(self._by_folder(file), None) or self._by_link(file)

    def installed_into(self, folder: str, module: str, file: str) -> Distribution | None:
        """Return the distribution that was installed into a folder by itself, and with it a file; None where none was.

        Its RECORD has to list the file: metadata that a build has left beside a project's own code does not.
        """
        if not any(n.endswith(".dist-info") for n in self._modules.finder.names(folder)):
            return None
        shelf = open_shelf(self._files, folder, "other")
        return next((d for d in shelf.bringing(module) if self._is_of(d, file)), None)

    def _by_folder(self, file: str) -> Iterator[Distribution]:
        """Yield what brings the top-level module that a file in a layer belongs to."""
        m = self._files
        for layer in self._modules.layers:
            if layer.layer == "stdlib" or not m.is_within(file, layer.path):
                continue
            if layer.layer == "start":
                copy = self.installed_into(layer.path, file[len(layer.path):].strip("/\\").replace(
                    "\\", "/").split("/")[0].split(".")[0], file)
                if copy is not None:
                    yield copy
                continue
            rest = file[len(layer.path):].strip("/\\").replace("\\", "/")
            found = self._owner(layer, rest.split("/")[0].split(".")[0], file)
            if found is not None:
                yield found

    def _owner(self, layer: Layer, module: str, file: str) -> Distribution | None:
        """Return whose a file is, of the distributions that bring its top-level module: who lists it, as it is.

        Where nobody lists it, it is taken for the first one's.
        """
        metadata = self.metadata_in(layer)
        first = metadata.providing(module)
        try:
            if first is None or self._is_of(first, file):
                return first
            sharing = metadata.bringing(module)
            return next((d for d in sharing if self._is_of(d, file)),
                        next((d for d in sharing if self.record(d).row_of(file)), first))
        except NotRecorded:  # who lists it is not known of another machine
            return first

    def _is_of(self, distribution: Distribution, file: str) -> bool:
        """Whether a distribution has installed this very file."""
        record = self.record(distribution)
        row = record.row_of(file)
        return row is not None and not record.difference(row)

    def bringing(self, module: str) -> list[Distribution]:
        """Return every installed distribution of the seat that says that it brings a top-level module."""
        return [d for layer in self._modules.layers if layer.layer not in ("stdlib", "start", "link")
                for d in self.metadata_in(layer).bringing(module)]

    def _by_link(self, file: str) -> Distribution | None:
        """Return the editable install whose project folder a file lies in."""
        for layer in self._modules.layers:
            if layer.layer not in ("env", "base", "user", "pythonpath"):
                continue
            for distribution in self.metadata_in(layer).distributions():
                if distribution.source and self._files.is_within(file, distribution.source) \
                        and _brings(distribution, file[len(distribution.source):]):
                    return distribution
        return None

    def record(self, distribution: Distribution) -> Record:
        """Return what the installer wrote down of a distribution's files."""
        key = distribution.metadata
        if key not in self._records:
            from kalyx.core.facts.packaging.record_file import Record

            self._records[key] = Record(self._files, distribution)
        return self._records[key]

    # -- what is asked for, and what pip can get ------------------------------------------------
    @property
    def markers(self) -> dict[str, str]:
        """What the seat's interpreter says to environment markers."""
        from kalyx.core.facts.packaging.requirements import marker_values

        return marker_values(self._python.version or "3.0", self._python.implementation, self._python.platform)

    @cached_property
    def project(self) -> Project | None:
        """The project in whose folder the seat starts Python, where that says what it needs."""
        from kalyx.core.facts.packaging.project import read_project

        try:
            place = project_folder(self._files, self._start or self._launch.start or self._launch.cwd)
            return None if place is None else read_project(self._files, *place)
        except NotRecorded as error:  # on another machine: then nobody knows what it says
            self._files.report(error.question, NOT_RECORDED)
            return None

    @cached_property
    def wheelhouse(self) -> Wheelhouse:
        """The local folders that pip is told of at this seat."""
        from kalyx.core.facts.packaging.wheelhouse import Wheelhouse

        return Wheelhouse(self._files, self._launch.env, self._python.prefix)

    def wheels_of(self, name: str) -> list[Wheel]:
        """Return the wheels of a distribution in those folders that fit the seat's Python, the newest first."""
        return self.wheelhouse.wheels_of(name, self.target)

    @property
    def target(self) -> Target:
        """The seat's interpreter, as wheels are made for one."""
        from kalyx.core.facts.packaging.wheelhouse import Target

        return Target.of(self._python, self._files)


def _brings(distribution: Distribution, file: str) -> bool:
    """Whether a file of a linked project's folder is of one of its modules, where those are known."""
    parts = [part.split(".")[0] for part in file.replace("\\", "/").split("/")]
    return not distribution.modules or any(module.split(".")[0] in parts for module in distribution.modules)
