"""A case: one import that was tried at one seat, and all that may be asked about it.

Verdicts get a case and nothing else. What they need beyond the observation
they ask of it, and the case reads it then, once.
"""

from __future__ import annotations

from _thread import allocate_lock
from collections.abc import Callable, Sequence
from functools import cached_property

from kalyx.core.errors import Unreadable
from kalyx.core.facts.distributions import Shelf, normal_name
from kalyx.core.facts.interpreters import name_of
from kalyx.core.facts.layers import (
    Layer,
    PathFacts,
    classify_path,
    link_lines,
    pythonpath_of,
    site_contents,
    site_folders,
    user_site,
    user_sites,
    visible_sites,
)
from kalyx.core.facts.modules import Candidate, Finder, top_level
from kalyx.core.machine import Machine
from kalyx.core.model import (
    Distribution,
    Elsewhere,
    Environment,
    Interpreter,
    Launch,
    Observation,
    Seat,
)
from kalyx.core.record import TYPE_CHECKING

if TYPE_CHECKING:
    from typing import Protocol

    from kalyx.core.facts.binaries import Loader
    from kalyx.core.facts.records import Record
else:
    Protocol = object

__all__ = ["Case", "Neighbours"]


_PARSE = "import sys; compile(open(sys.argv[1], 'rb').read(), sys.argv[1], 'exec', 1024)"  # to a tree only


class Survey(Protocol):
    """What finds the environments of a machine."""

    def prefixes(self) -> list[str]:
        """Return where they are."""

    def describe(self, prefix: str) -> Environment | None:
        """Read one of them."""

    def environments(self) -> list[Environment]:
        """Read all of them."""

    def may_run(self, path: str) -> bool:
        """Whether an interpreter may be run."""


class _Site:
    """What lies in a folder, kept as one text: asking that is all that is done with most folders."""

    def __init__(self, machine: Machine, folder: str, names: list[str]) -> None:
        self._text = "\0".join(("", *names, ""))
        self._plain = ""
        self.extensions = {n.partition(".")[0] for n in names if n.endswith((".so", ".pyd"))} if (
            ".so\0" in self._text or ".pyd\0" in self._text) else set()
        lines = link_lines(machine, folder, names) if ".pth\0" in self._text else ()
        self.links = [line.target for line in lines if line.target]

    def has(self, name: str) -> bool:
        """Whether there is something of that name."""
        return f"\0{name}\0" in self._text

    def names(self) -> list[str]:
        """Return the names."""
        return self._text[1:-1].split("\0")

    def may_have_metadata_of(self, name: str) -> bool:
        """Whether some entry begins as a distribution's normalised name does."""
        self._plain = self._plain or self._text.lower().replace("_", "-").replace(".", "-")
        return "\0" + normal_name(name).split("-")[0] in self._plain


class Neighbours:
    """The other environments of the machine, and the modules that they have."""

    def __init__(self, machine: Machine, survey: Survey | None = None) -> None:
        """Take up what `survey` finds; without one there are no neighbours."""
        self.machine = machine
        self._survey = survey
        self._found: list[Environment] | None = None
        self._prefixes: list[str] | None = None
        self._turn = allocate_lock()  # who asks while it is being looked for waits, and looks no second time
        self._looking = allocate_lock()
        self._sites: dict[str, list[str]] = {}
        self._sites_of: dict[str, list[str]] = {}
        self._listed: dict[str, _Site] = {}
        self._reached: dict[str, list[str]] = {}
        self._with_module: dict[str, list[str]] = {}
        self._with_name: dict[str, list[str]] = {}
        self._by_name: dict[str, list[str]] | None = None
        self._visible: dict[str, list[str]] = {}
        self._shelves: dict[str, Shelf] = {}
        self._having: dict[tuple[str, str], list[Elsewhere]] = {}

    @property
    def environments(self) -> list[Environment]:
        """Every known environment; found when first asked for, or looked for ahead."""
        with self._turn:
            if self._found is None:
                self._found = self._survey.environments() if self._survey else []
            return self._found

    @property
    def prefixes(self) -> list[str]:
        """Where the known environments are: found much sooner than what each of them is."""
        with self._turn:
            if self._prefixes is None:
                self._prefixes = self._survey.prefixes() if self._survey else []
            return self._prefixes

    def having(self, module: str, except_prefix: str | None) -> list[Elsewhere]:
        """Return the environments that have a top-level module, the one at `except_prefix` left out."""
        skip = self.machine.key(except_prefix) if except_prefix else ""
        if (module, skip) not in self._having:
            self._having[module, skip] = self._search(module, skip)
        return self._having[module, skip]

    def _search(self, module: str, skip: str) -> list[Elsewhere]:
        found = []
        for prefix in self._prefixes_with(module):
            if self.machine.key(prefix) == skip:
                continue
            environment = self._survey.describe(prefix) if self._survey else None
            if environment is None or self.machine.key(environment.path) == skip:
                continue
            for folder in self._folders(environment):
                if self._holds(folder, module):
                    distribution = self._distribution(environment, module)
                    found.append(Elsewhere(
                        environment, environment.interpreter,
                        distribution.name if distribution else None,
                        distribution.version if distribution else None,
                        distribution.source if distribution else None))
                    break
        return found + self._in_user_sites(module)

    def _in_user_sites(self, module: str) -> list[Elsewhere]:
        """Return the user sites that have a module; that of the seat's own Python is judged by itself."""
        found = []
        for folder, version in user_sites(self.machine):
            if not self._holds(folder, module):
                continue
            owner = self.shelf(folder).providing(module)
            base = next((e.interpreter for e in self.environments if e.kind == "base" and e.interpreter
                         and e.interpreter.short_version == version), None)
            prefix = self.machine.path.dirname(self.machine.path.dirname(folder))
            place = Environment(prefix, f"the user site of Python {version}", "base", None, version, (), base)
            found.append(Elsewhere(place, base, owner.name if owner else None, owner.version if owner else None,
                                   owner.source if owner else None))
        return found

    def _prefixes_with(self, module: str) -> list[str]:
        """Return the places whose site folders have a module: most have not, and are not looked into."""
        with self._looking:
            if module not in self._with_module:
                self._with_module[module] = [p for p in self.prefixes if any(
                    self._holds(f, module) for f in self._folders_at(p))]
            return self._with_module[module]

    def _prefixes_providing(self, name: str) -> list[str]:
        """Return the places that have a distribution called `name`."""
        with self._looking:
            if name not in self._with_name:
                self._with_name[name] = [p for p in self.prefixes if any(
                    self.shelf(f).entry_named(name) for f in self._sites_at(p)
                    if self._list(f).may_have_metadata_of(name))]
            return self._with_name[name]

    def look_ahead(self, modules: Sequence[str]) -> None:
        """Look for what will be asked about when an import fails, while it is still being tried."""
        for module in modules:
            self._prefixes_with(module)
            self._prefixes_providing(module)

    def providing_name(self, name: str) -> list[tuple[Environment, Distribution]]:
        """Return the environments that have a distribution called `name`."""
        found = []
        for prefix in self._prefixes_providing(name):
            environment = self._survey.describe(prefix) if self._survey else None
            for folder in self.sites(environment) if environment else ():
                distribution = self.shelf(folder).named(name)
                if environment is not None and distribution is not None:
                    found.append((environment, distribution))
                    break
        return found

    def called(self, names: set[str], forms_of: Callable[[str], set[str]]) -> list[Environment]:
        """Return the environments whose name has one of the forms; only those are looked into."""
        if self._by_name is None:
            self._by_name = {}
            for prefix in self.prefixes:
                for form in forms_of(name_of(self.machine, prefix)):
                    self._by_name.setdefault(form, []).append(prefix)
        found = [self._survey.describe(p) for name in sorted(names) for p in self._by_name.get(name, ())
                 if self._survey is not None]
        return [e for e in found if e is not None]

    def reader_of(self, file: str, newer_than: tuple[int, int]) -> str | None:
        """Return the version of the newest Python here, where that parses a file; the file is not run."""
        newest, program = newer_than, None
        for environment in self.environments:
            version = tuple(int(n) for n in (environment.python_version or "0").split(".")[:2] if n.isdigit())
            interpreter = environment.interpreter
            if version > newest and interpreter is not None and interpreter.works and self._survey is not None \
                    and self._survey.may_run(interpreter.path):
                newest, program = (version[0], version[1]), interpreter.path
        if program is None:
            return None
        ran = self.machine.run([program, "-I", "-S", "-c", _PARSE, file], limit=30)
        return f"{newest[0]}.{newest[1]}" if ran.status == 0 else None

    def visible_sites(self, interpreter: Interpreter) -> list[str]:
        """Return the site folders that an interpreter looks into; many kernels share one."""
        if interpreter.path not in self._visible:
            self._visible[interpreter.path] = visible_sites(self.machine, interpreter)
        return self._visible[interpreter.path]

    def shelf(self, folder: str) -> Shelf:
        """Return the distributions of a site folder."""
        if folder not in self._shelves:
            self._shelves[folder] = Shelf(self.machine, folder, names=self._list(folder).names())
        return self._shelves[folder]

    def any_holds(self, folders: Sequence[str], module: str) -> bool:
        """Whether one of the site folders, or a folder that they link to, has the module."""
        return any(self._holds(f, module) for f in self._with_links(list(folders)))

    def sites(self, environment: Environment) -> list[str]:
        """Return the site folders of an environment."""
        if environment.path not in self._sites:
            version = environment.python_version if environment.kind == "base" else None
            self._sites[environment.path] = site_folders(
                self.machine, environment.path, environment.kind, version)
        return self._sites[environment.path]

    def _sites_at(self, prefix: str) -> list[str]:
        """Return the site folders under a prefix, of every version that it may be."""
        if prefix not in self._sites_of:
            listed = site_contents(self.machine, prefix)
            for folder, names in listed:
                if folder not in self._listed:
                    self._listed[folder] = _Site(self.machine, folder, names)
            self._sites_of[prefix] = [folder for folder, _ in listed]
        return self._sites_of[prefix]

    def _folders_at(self, prefix: str) -> list[str]:
        """Return the site folders under a prefix and the folders that they link to."""
        if prefix not in self._reached:
            self._reached[prefix] = self._with_links(self._sites_at(prefix))
        return self._reached[prefix]

    def _folders(self, environment: Environment) -> list[str]:
        return self._with_links(self.sites(environment))

    def _with_links(self, sites: list[str]) -> list[str]:
        return [*sites, *[target for site in sites for target in self._list(site).links]]

    def _list(self, folder: str) -> _Site:
        """List a folder once, and note what will be asked of its names again and again."""
        if folder not in self._listed:
            self._listed[folder] = _Site(self.machine, folder, self.machine.entries(folder))
        return self._listed[folder]

    def _holds(self, folder: str, module: str) -> bool:
        listed = self._list(folder)
        if listed.has(module + ".py") or module in listed.extensions:
            return True
        if not listed.has(module):
            return listed.has(f"__editable___{module}_finder.py")
        return any(n.endswith((".py", ".so", ".pyd")) or "." not in n
                   for n in self.machine.entries(self.machine.path.join(folder, module))
                   if n != "__pycache__")

    def _distribution(self, environment: Environment, module: str) -> Distribution | None:
        for folder in self.sites(environment):
            found = self.shelf(folder).providing(module)
            if found is not None:
                return found
        return None


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
        self.place_name = ""  # what to call the environment, where it is known from a text alone
        self._shelves: dict[str, Shelf] = like._shelves if like else {}
        self._candidates: dict[str, list[tuple[str, Candidate]]] = like._candidates if like else {}
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
        path = [self.machine.absolute(p, self.launch.cwd) for p in self.obs.path]
        return classify_path(self.machine, path, facts)

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
        try:
            text = self.machine.read_text(file, 8 * 1024 * 1024)
        except Unreadable:
            return ""
        lines = text.splitlines()
        return lines[line - 1].strip() if 0 < line <= len(lines) else ""

    @property
    def markers(self) -> dict[str, str]:
        """What the seat's interpreter says to environment markers."""
        from kalyx.core.facts.markers import marker_values

        return marker_values(str(self.obs.who.get("version", "3.0")),
                             str(self.obs.who.get("implementation", "cpython")),
                             str(self.obs.who.get("platform", self.machine.platform)))

    # -- files -----------------------------------------------------------------------------
    @cached_property
    def loader(self) -> Loader:
        """The system's loader of libraries, as this seat's process uses it."""
        from kalyx.core.facts.binaries import Loader, read_binary

        return Loader(self.machine, self.launch.env, read_binary(
            self.machine, self.machine.real_path(self.python)))

    def record(self, distribution: Distribution) -> Record:
        """Return what the installer wrote down of a distribution's files."""
        key = distribution.metadata
        if key not in self._records:
            from kalyx.core.facts.records import Record

            self._records[key] = Record(self.machine, distribution)
        return self._records[key]

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
            found = self.shelf(layer).providing(rest.split("/")[0].split(".")[0])
            if found is not None:
                return found
        for layer in self.layers:
            if layer.layer in ("env", "base", "user", "pythonpath"):
                for distribution in self.shelf(layer).distributions():
                    if distribution.source and m.is_within(file, distribution.source):
                        return distribution
        return None

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

    def elsewhere(self, module: str) -> Sequence[Elsewhere]:
        """Return the other environments that have a module.

        The user site of this seat's own Python is none of them: it is judged by itself.
        """
        own = user_site(self.machine, str(self.obs.who.get("version") or "0.0"),
                        str(self.obs.who.get("implementation")), self.launch.env)
        mine = self.machine.path.dirname(self.machine.path.dirname(own)), ".".join(map(str, self.version))
        return [e for e in self.neighbours.having(top_level(module), self.prefix)
                if (e.environment.path, e.environment.python_version) != mine]
