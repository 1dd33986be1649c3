"""A case: one import that was tried at one seat, and all that may be asked about it.

Verdicts get a case and nothing else. What they need beyond the observation
they ask of it, and the case reads it then, once.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

from kalyx.core.errors import Unreadable
from kalyx.core.facts.packaging.distributions import Shelf
from kalyx.core.facts.packaging.project_files import project_folder
from kalyx.core.facts.search_path.layers import Layer, PathFacts, classify_path, pythonpath_of
from kalyx.core.facts.search_path.modules import Candidate, Finder, top_level
from kalyx.core.facts.search_path.site_folders import user_site
from kalyx.core.lean.record import TYPE_CHECKING
from kalyx.core.machine.interface import Machine
from kalyx.core.model import Distribution, Elsewhere, Interpreter, Launch, Observation, Place, Seat
from kalyx.core.model.names import normal_name

if TYPE_CHECKING:
    from kalyx.core.facts.environments.neighbours import Neighbours
    from kalyx.core.facts.native.loader import Loader
    from kalyx.core.facts.packaging.project import Project
    from kalyx.core.facts.packaging.record_file import Record
    from kalyx.core.facts.packaging.wheelhouse import Wheel, Wheelhouse

__all__ = ["Case"]

SOURCE_LIMIT = 8 * 1024 * 1024  # bytes of a source that a line is shown of


def _brings(distribution: Distribution, file: str) -> bool:
    """Whether a file of a linked project's folder is of one of its modules, where those are known."""
    parts = [part.split(".")[0] for part in file.replace("\\", "/").split("/")]
    return not distribution.modules or any(module.split(".")[0] in parts for module in distribution.modules)


class Case:
    """One observed import at one seat."""

    def __init__(self, machine: Machine, seat: Seat, observation: Observation,
                 neighbours: Neighbours, like: Case | None = None) -> None:
        """Take the case up; `like` is another import of the same run, whose reading is shared."""
        self.machine = machine
        self.seat = seat
        self.obs = observation
        self.neighbours = neighbours
        self.finder: Finder = like.finder if like else Finder(
            machine, tuple(observation.who.get("suffixes", ())))
        self.asked: Sequence[Place] = ()  # the lines of the file that is explained, where it is a file
        self.place_name = ""  # what to call the environment, where it is known from a text alone
        self._shelves: dict[str, Shelf] = like._shelves if like else {}
        self._candidates: dict[str, list[tuple[str, Candidate]]] = like._candidates if like else {}
        self._lines: dict[str, list[str]] = like._lines if like else {}
        self._records: dict[str, Record] = like._records if like else {}
        if like is not None and like.obs.path == observation.path:
            self.layers = like.layers

    # -- the interpreter as it ran -------------------------------------------------------
    @property
    def python(self) -> str:
        """The interpreter's own path, the one to install with."""
        interpreter = self.seat.interpreter
        return str(self.obs.who.get("executable") or (interpreter.path if interpreter else ""))

    @property
    def interpreter(self) -> Interpreter | None:
        """The seat's interpreter."""
        return self.seat.interpreter

    @property
    def version(self) -> tuple[int, int]:
        """Major and minor version, (0, 0) when it never said."""
        parts = str(self.obs.who.get("version", "0.0")).split(".")
        return int(parts[0]), int(parts[1])

    @property
    def knows_version(self) -> bool:
        """Whether the version is known: a text may not tell it."""
        return bool(self.obs.who.get("knows_version", True))

    @property
    def this_python(self) -> str:
        """How to name the Python in a sentence."""
        return f"Python {self.obs.who.get('version')}" if self.knows_version else "the Python of the text"

    @property
    def this_is(self) -> str:
        """The clause that says which Python it is."""
        return f"this is {self.this_python}" if self.knows_version else (
            "the text does not tell which Python it was")

    @property
    def prefix(self) -> str:
        """The prefix as it ran."""
        return str(self.obs.who.get("prefix", ""))

    @property
    def base_prefix(self) -> str:
        """The base installation's prefix."""
        return str(self.obs.who.get("base_prefix", self.prefix))

    @property
    def environment_name(self) -> str:
        """How to call the seat's environment in a sentence."""
        if self.place_name:
            return self.place_name
        environment = self.seat.environment
        if environment is None:
            return self.prefix
        if environment.kind == "base":
            return f"the Python {self.obs.who.get('version', '')} in {environment.path}"
        return f"{environment.name} ({environment.path})"

    @property
    def launch(self) -> Launch:
        """How the seat starts Python."""
        assert self.seat.launch is not None
        return self.seat.launch

    @property
    def start(self) -> str | None:
        """The start folder, None where the path has none."""
        path = self.obs.who.get("path", [])
        wanted = self.launch.start or ""
        if not path or (path[0] or "") not in ("", wanted):
            return None
        if path[0] == "" and wanted:
            return None
        return wanted or str(self.obs.who.get("cwd") or self.launch.cwd)

    @cached_property
    def layers(self) -> list[Layer]:
        """sys.path as the import met it, each entry with its layer."""
        facts = PathFacts(self.prefix, self.base_prefix, self.obs.who.get("user_site"),
                          pythonpath_of(self.machine, self.launch.env, self.launch.cwd)
                          if not self.obs.who.get("flags", {}).get("ignore_environment") else (),
                          self.start)
        path = [self.machine.located(p, self.launch.cwd) for p in self.obs.path]
        return classify_path(self.machine, path, facts)

    @cached_property
    def project(self) -> Project | None:
        """The project in whose folder the seat starts Python, where that says what it needs."""
        launch = self.seat.launch
        place = project_folder(self.machine, self.start or launch.start or launch.cwd) if launch else None
        if place is None:
            return None
        from kalyx.core.facts.packaging.project import read_project

        return read_project(self.machine, *place)

    # -- modules -------------------------------------------------------------------------
    def candidates(self, name: str) -> list[tuple[str, Candidate]]:
        """Return (layer, candidate) for a top-level name in every entry of the path."""
        if name not in self._candidates:
            layer_of = {x.path: x.layer for x in reversed(self.layers)}
            self._candidates[name] = [
                (layer_of[c.entry], c)
                for c in self.finder.find_all([x.path for x in self.layers], name)]
        return self._candidates[name]

    def is_builtin(self, name: str) -> bool:
        """Whether the interpreter has a module compiled in."""
        return name in self.obs.who.get("builtin", ())

    def is_stdlib(self, name: str) -> bool:
        """Whether a top-level name is in this interpreter's own standard library."""
        if self.is_builtin(name):
            return True
        return any(layer == "stdlib" and c.kind != "namespace"
                   for layer, c in self.candidates(name))

    def is_made_for_it(self, file: str) -> bool:
        """Whether a compiled file's name says that it is for this very interpreter."""
        tagged = max(self.finder.suffixes, key=len, default="")
        return tagged.count(".") > 1 and file.endswith(tagged)

    @cached_property
    def stdlib_names(self) -> set[str]:
        """The top-level modules of this interpreter's standard library."""
        names = set(self.obs.who.get("builtin", ())) | set(self.obs.who.get("stdlib", ()))
        if not self.obs.who.get("stdlib"):  # Python before 3.10 does not list them
            for layer in self.layers:
                names |= self.finder.modules(layer.path) if layer.layer == "stdlib" else set()
        return names - {"__pycache__", "site-packages"}

    def layer_of_file(self, file: str | None) -> str | None:
        """Return the layer that a file belongs to: that of the longest entry around it."""
        if not file:
            return None
        m = self.machine
        best: Layer | None = None
        for layer in self.layers:
            if m.is_within(file, layer.path) and (
                    best is None or len(layer.path) > len(best.path)):
                best = layer
        if best is None:
            return "link"  # an import hook of an editable install brought it
        return best.layer

    def search_folders(self, package: str) -> list[str]:
        """Return where the submodules of a package are looked for."""
        loaded = self.obs.loaded.get(package)
        if loaded and loaded[1]:
            return list(loaded[1])
        if package == self.obs.module and self.obs.search:
            return list(self.obs.search)
        head, _, tail = package.rpartition(".")
        folders = self.search_folders(head) if head else [x.path for x in self.layers]
        found = []
        for candidate in self.finder.find_all(folders, tail):
            if candidate.kind == "package":
                return [self.machine.path.dirname(candidate.path)]
            if candidate.kind == "namespace":
                found.append(candidate.path)
            else:
                return []
        return found

    def file_of(self, module: str) -> str | None:
        """Return the file of a loaded or findable module."""
        loaded = self.obs.loaded.get(module)
        if loaded and loaded[0]:
            return self.source_of(loaded[0])
        head, _, tail = module.rpartition(".")
        folders = self.search_folders(head) if head else [x.path for x in self.layers]
        found = self.finder.find_all(folders, tail)
        return found[0].path if found else None

    def source_of(self, file: str | None) -> str | None:
        """Return the source beside a bytecode file where there is one."""
        if file and file.endswith(".pyc") and self.machine.is_file(file[:-1]):
            return file[:-1]
        return file

    def names_in_layers(self) -> set[str]:
        """Return every top-level module name that this seat could import."""
        names: set[str] = set(self.obs.who.get("builtin", ()))
        for layer in self.layers:
            names |= self.finder.modules(layer.path)
        return names

    def code_line(self, file: str, line: int) -> str:
        """Return a line of source, stripped; empty when it cannot be read."""
        lines = self.lines_of(file)
        return lines[line - 1].strip() if 0 < line <= len(lines) else ""

    def lines_of(self, file: str) -> list[str]:
        """Return the lines of a source, read once for all imports of a run; none when it cannot be read."""
        if file not in self._lines:
            try:
                self._lines[file] = self.machine.read_text(file, SOURCE_LIMIT).splitlines()
            except Unreadable:
                self._lines[file] = []
        return self._lines[file]

    @property
    def markers(self) -> dict[str, str]:
        """What the seat's interpreter says to environment markers."""
        from kalyx.core.facts.packaging.requirements import marker_values

        return marker_values(str(self.obs.who.get("version", "3.0")),
                             str(self.obs.who.get("implementation", "cpython")),
                             str(self.obs.who.get("platform", self.machine.platform)))

    # -- files -----------------------------------------------------------------------------
    @cached_property
    def loader(self) -> Loader:
        """The system's loader of libraries, as this seat's process uses it."""
        from kalyx.core.facts.native.binaries import read_binary
        from kalyx.core.facts.native.loader import Loader

        return Loader(self.machine, self.launch.env, read_binary(
            self.machine, self.machine.real_path(self.python)))

    def record(self, distribution: Distribution) -> Record:
        """Return what the installer wrote down of a distribution's files."""
        key = distribution.metadata
        if key not in self._records:
            from kalyx.core.facts.packaging.record_file import Record

            self._records[key] = Record(self.machine, distribution)
        return self._records[key]

    # -- what pip can get ------------------------------------------------------------------
    @cached_property
    def wheelhouse(self) -> Wheelhouse:
        """The local folders that pip is told of at this seat."""
        from kalyx.core.facts.packaging.wheelhouse import Wheelhouse

        return Wheelhouse(self.machine, self.launch.env, self.prefix)

    def wheels_of(self, name: str) -> list[Wheel]:
        """Return the wheels of a distribution in those folders that fit the seat's Python, the newest first."""
        who = self.obs.who
        return self.wheelhouse.wheels_of(name, str(who["version"]), str(who["implementation"]))

    # -- distributions -------------------------------------------------------------------
    def shelf(self, layer: Layer) -> Shelf:
        """Return the distributions of one path entry."""
        if layer.path not in self._shelves:
            self._shelves[layer.path] = Shelf(self.machine, layer.path, layer.layer)
        return self._shelves[layer.path]

    def distribution_of(self, file: str | None) -> Distribution | None:
        """Return the distribution that a file was installed by."""
        if not file:
            return None
        m = self.machine
        for layer in self.layers:
            if layer.layer in ("stdlib", "start") or not m.is_within(file, layer.path):
                continue
            rest = file[len(layer.path):].strip("/\\").replace("\\", "/")
            top = rest.split("/")[0]
            found = self.shelf(layer).providing(top.split(".")[0])
            if found is not None and top != rest and not m.exists(m.path.join(layer.path, top, "__init__.py")):
                found = self._owner_in_namespace(layer, top, file) or found
            if found is not None:
                return found
        for layer in self.layers:
            if layer.layer in ("env", "base", "user", "pythonpath"):
                for distribution in self.shelf(layer).distributions():
                    if distribution.source and m.is_within(file, distribution.source) \
                            and _brings(distribution, file[len(distribution.source):]):
                        return distribution
        return None

    def _owner_in_namespace(self, layer: Layer, top: str, file: str) -> Distribution | None:
        """Return whose RECORD lists a file, among the distributions that lay parts into one folder."""
        sharing = [d for d in self.shelf(layer).distributions() if top in d.modules]
        return next((d for d in sharing if len(sharing) > 1 and self.record(d).row_of(file)), None)

    def distribution_named(self, name: str) -> Distribution | None:
        """Return the installed distribution of that name, the one found first."""
        for layer in self.layers:
            found = self.shelf(layer).named(name) if layer.layer != "stdlib" else None
            if found is not None:
                return found
        return None

    def distributions(self) -> list[Distribution]:
        """Return every distribution that the seat can see, first ones first."""
        seen: set[str] = set()
        found = []
        for layer in self.layers:
            if layer.layer == "stdlib":
                continue
            for distribution in self.shelf(layer).distributions():
                if normal_name(distribution.name) not in seen:
                    seen.add(normal_name(distribution.name))
                    found.append(distribution)
        return found

    def part_elsewhere(self, rows: Sequence[str], name: str | None = None, version: str | None = None
                       ) -> tuple[str, str] | None:
        """Return a file that another environment has and this seat has not: its row and its path there.

        `rows` are paths in a site folder, without ending; with a `name` and `version` only where that
        distribution brings it.
        """
        m = self.machine
        tops = dict.fromkeys(row.split("/")[0] for row in rows)
        files = [row + ending for row in rows for ending in (".py", "/__init__.py", *self.finder.suffixes)]
        for other in (e for top in tops for e in self.elsewhere(top)):
            if (name and other.name != name) or (version and other.version != version):
                continue
            for site in self.neighbours.sites(other.environment):
                for row in files:
                    if m.is_file(m.path.join(site, row)) and not any(
                            m.exists(m.path.join(x.path, row)) for x in self.layers):
                        return row, str(m.path.join(site, row))
        return None

    def elsewhere(self, module: str) -> Sequence[Elsewhere]:
        """Return the other environments that have a module.

        The user site of this seat's own Python is none of them: it is judged by itself.
        """
        own = user_site(self.machine, str(self.obs.who.get("version") or "0.0"),
                        str(self.obs.who.get("implementation")), self.launch.env)
        mine = self.machine.path.dirname(self.machine.path.dirname(own)), ".".join(map(str, self.version))
        return [e for e in self.neighbours.having(top_level(module), self.prefix)
                if (e.environment.path, e.environment.python_version) != mine]
