"""The other environments of the machine: which of them has a module, or a distribution.

Most of them have not, and there may be hundreds. So each site folder is listed
once, its names are kept as one text, and only where that text has what is
looked for is anything else read. The texts of all are one text again: what
that has not, none of them has.
"""

from __future__ import annotations

from _thread import allocate_lock
from collections.abc import Callable, Iterator, Sequence

from kalyx.core.facts.interpreters.environment import name_of
from kalyx.core.facts.packaging.distributions import Shelf, mapped_modules
from kalyx.core.facts.search_path.pth_files import link_lines
from kalyx.core.facts.search_path.site_folders import site_contents, site_folders, user_sites, visible_sites
from kalyx.core.lean.record import TYPE_CHECKING
from kalyx.core.machine.interface import Machine
from kalyx.core.model import Distribution, Elsewhere, Environment, Interpreter, Kernel
from kalyx.core.model.names import normal_name

if TYPE_CHECKING:
    from typing import Protocol
else:
    Protocol = object

__all__ = ["Neighbours"]

class Survey(Protocol):
    """What finds the environments of a machine."""

    def prefixes(self) -> list[str]:
        """Return where they are."""

    def describe(self, prefix: str) -> Environment | None:
        """Read one of them."""

    def environments(self) -> list[Environment]:
        """Read all of them."""

    def bases(self) -> list[Interpreter]:
        """Return the interpreters that are no environment's, the newest last."""

    def kernels(self) -> list[Kernel]:
        """Return every registered kernel."""


class _Site:
    """A folder that modules are looked for in; ``text`` has the names in it, each between NUL characters."""

    def __init__(self, machine: Machine, folder: str, names: list[str]) -> None:
        self.folder = folder
        self.text = "\0".join(("", *names, ""))
        self._machine = machine
        self._links: list[str] | None = None
        self._hooked: set[str] | None = None

    @property
    def names(self) -> list[str]:
        """The names in it."""
        return self.text[1:-1].split("\0")

    @property
    def links(self) -> list[str]:
        """The folders that its .pth files add."""
        if self._links is None:
            lines = link_lines(self._machine, self.folder, self.names) if ".pth\0" in self.text else ()
            self._links = [line.target for line in lines if line.target]
        return self._links

    def holds(self, module: str) -> bool:
        """Whether it has a top-level module, or an import hook for one."""
        if f"\0{module}" in self.text:
            files = [n for n in self.names if n.startswith(module + ".")]
            if any(n == module + ".py" or n.endswith((".so", ".pyd")) for n in files):
                return True
            if module in self.names and self._is_package(module):
                return True
        return module in self._hooks()

    def _is_package(self, name: str) -> bool:
        """Whether a folder has anything in it to import: what pip leaves behind may be empty."""
        m = self._machine
        return any(n.endswith((".py", ".so", ".pyd")) or "." not in n
                   for n in m.entries(m.path.join(self.folder, name)) if n != "__pycache__")

    def _hooks(self) -> set[str]:
        """The modules that import hooks of editable installs bring."""
        if self._hooked is None:
            self._hooked = set()
            if "_finder.py\0" in self.text:
                for name in self.names:
                    if name.startswith("__editable__") and name.endswith("_finder.py"):
                        self._hooked |= mapped_modules(self._machine, self.folder, name)
        return self._hooked


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
        self._folders: dict[str, list[str]] = {}
        self._listed: dict[str, _Site] = {}
        self._all_listed: list[tuple[str, _Site]] = []
        self._all_names = ""  # in small letters
        self._starts: dict[str, bool] = {}
        self._linking: list[tuple[str, _Site]] = []
        self._unlisted: Iterator[str] | None = None
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

    @property
    def bases(self) -> list[Interpreter]:
        """The interpreters that are no environment's, the newest last."""
        return self._survey.bases() if self._survey else []

    @property
    def kernels(self) -> list[Kernel]:
        """The kernels that are registered."""
        return self._survey.kernels() if self._survey else []

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
            if self.any_holds(self.sites(environment), module):
                owner = self._distribution(environment, module)
                found.append(_elsewhere(environment, environment.interpreter, owner))
        return found + self._in_user_sites(module)

    def _in_user_sites(self, module: str) -> list[Elsewhere]:
        """Return the user sites that have a module; that of the seat's own Python is judged by itself."""
        found = []
        for folder, version in user_sites(self.machine):
            if not self._site(folder).holds(module):
                continue
            owner = self.shelf(folder).providing(module)
            base = next((e.interpreter for e in self.environments if e.kind == "base" and e.interpreter
                         and e.interpreter.short_version == version), None)
            prefix = self.machine.path.dirname(self.machine.path.dirname(folder))
            place = Environment(prefix, f"the user site of Python {version}", "base", None, version, (), base)
            found.append(_elsewhere(place, base, owner))
        return found

    def _prefixes_with(self, module: str) -> list[str]:
        """Return the places whose site folders have a module: most have not, and are not looked into."""
        with self._looking:
            if module not in self._with_module:
                self._with_module[module] = list(dict.fromkeys(
                    prefix for prefix, site in self._sites_that_may_have(f"\0{module}")
                    if self._reaches(site, module)))
            return self._with_module[module]

    def _prefixes_providing(self, name: str) -> list[str]:
        """Return the places that have a distribution called `name`."""
        with self._looking:
            if name not in self._with_name:
                start = "\0" + normal_name(name).split("-")[0]
                listed = self._all_listed if self._begins_a_name(start) else ()
                self._with_name[name] = list(dict.fromkeys(
                    prefix for prefix, site in listed
                    if start in site.text.lower() and self.shelf(site.folder).entry_named(name)))
            return self._with_name[name]

    def look_ahead(self, modules: Sequence[str], until: Callable[[], bool]) -> None:
        """Look for what will be asked about when an import fails, while it is still being tried.

        `until` says when there is better to do: the rest is looked for when it is asked for. This is done
        where the import is waited for, not beside it: two threads would stop each other at each name
        that is read.
        """
        if self._list_sites(until):
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

    def visible_sites(self, interpreter: Interpreter) -> list[str]:
        """Return the site folders that an interpreter looks into; many kernels share one."""
        if interpreter.path not in self._visible:
            self._visible[interpreter.path] = visible_sites(self.machine, interpreter)
        return self._visible[interpreter.path]

    def shelf(self, folder: str) -> Shelf:
        """Return the distributions of a site folder."""
        if folder not in self._shelves:
            self._shelves[folder] = Shelf(self.machine, folder, names=self._site(folder).names)
        return self._shelves[folder]

    def any_holds(self, folders: Sequence[str], module: str) -> bool:
        """Whether one of the site folders, or a folder that they link to, has the module."""
        return any(self._reaches(self._site(f), module) for f in folders)

    def sites(self, environment: Environment) -> list[str]:
        """Return the site folders that an environment's interpreter looks into, where its version is known."""
        if environment.path not in self._folders:
            self._folders[environment.path] = site_folders(
                self.machine, environment.path, environment.kind, environment.python_version)
        return self._folders[environment.path]

    def _sites_that_may_have(self, start: str) -> list[tuple[str, _Site]]:
        """Return the site folders with such a start of a name, and those whose .pth files lead elsewhere."""
        if not self._begins_a_name(start.lower()):
            return self._linking
        return [(prefix, site) for prefix, site in self._all_listed
                if start in site.text or ".pth\0" in site.text]

    def _begins_a_name(self, start: str) -> bool:
        """Whether a name in any of the site folders begins so; `start` is in small letters."""
        self._list_sites(bool)
        if start not in self._starts:
            self._starts[start] = start in self._all_names
        return self._starts[start]

    def _list_sites(self, until: Callable[[], bool]) -> bool:
        """List the site folders under every known prefix, of every version that it may be.

        Until told to stop: return whether all are listed.
        """
        if self._unlisted is None:
            self._unlisted = iter(self.prefixes)
        m, likely = self.machine, ""
        for prefix in self._unlisted:
            for folder, names in site_contents(m, prefix, likely):
                site = self._listed[folder] = _Site(m, folder, names)
                self._all_listed.append((prefix, site))
                likely = likely or m.path.basename(m.path.dirname(folder))
            if len(self._all_listed) % 8 == 0 and until():
                return False  # the next call goes on from here
        if not self._all_names:
            self._all_names = "/".join(["", *(site.text for _, site in self._all_listed)]).lower()
            self._linking = [(p, site) for p, site in self._all_listed if ".pth\0" in site.text]
        return True

    def _site(self, folder: str) -> _Site:
        """Return a folder as listed, once."""
        if folder not in self._listed:
            self._listed[folder] = _Site(self.machine, folder, self.machine.entries(folder))
        return self._listed[folder]

    def _reaches(self, site: _Site, module: str) -> bool:
        """Whether a site folder, or a folder that it links to, has a module."""
        return site.holds(module) or any(self._site(folder).holds(module) for folder in site.links)

    def _distribution(self, environment: Environment, module: str) -> Distribution | None:
        for folder in self.sites(environment):
            found = self.shelf(folder).providing(module)
            if found is not None:
                return found
        return None


def _elsewhere(place: Environment, interpreter: Interpreter | None, owner: Distribution | None) -> Elsewhere:
    if owner is None:
        return Elsewhere(place, interpreter, None, None)
    return Elsewhere(place, interpreter, owner.name, owner.version, owner.source, owner.editable,
                     owner.requires_python)
