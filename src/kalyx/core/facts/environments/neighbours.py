"""The other environments of the machine: which of them has a module, or a distribution."""

from __future__ import annotations

from kalyx.core.facts.environments.site_index import SiteIndex
from kalyx.core.facts.interpreters.environment import name_of
from kalyx.core.facts.packaging.distributions import SiteMetadata
from kalyx.core.facts.search_path.site_folders import site_folders, user_sites, visible_sites
from kalyx.core.machine.threads import Once
from kalyx.core.model import Elsewhere, Environment
from kalyx.core.model.names import normal_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence
    from typing import Protocol

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.interpreters.pyvenv import VenvConfig
    from kalyx.core.model import Distribution, Interpreter, Kernel
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

    def config_of(self, path: str) -> VenvConfig | None:
        """Return the pyvenv.cfg that an interpreter obeys."""

    def bases(self) -> list[Interpreter]:
        """Return the interpreters that are no environment's, the newest last."""

    def kernels(self) -> list[Kernel]:
        """Return every registered kernel."""


class Neighbours:
    """The other environments of the machine, and the modules that they have."""

    def __init__(self, files: Files, survey: Survey | None = None) -> None:
        """Take up what `survey` finds; without one there are no neighbours."""
        self.files = files
        self._survey = survey
        self._once = Once()  # who asks while something is being looked for waits, and looks no second time
        self._index = SiteIndex(files, lambda: self.prefixes)
        self._visible: dict[str, list[str]] = {}  # site folders, by the interpreter that looks into them

    @property
    def are_looked_for(self) -> bool:
        """Whether other environments are looked for at all."""
        return self._survey is not None

    @property
    def environments(self) -> list[Environment]:
        """Every known environment; found when first asked for, or looked for ahead."""
        return self._once.get("environments", lambda: self._survey.environments() if self._survey else [])

    @property
    def prefixes(self) -> list[str]:
        """Where the known environments are: found much sooner than what each of them is."""
        return self._once.get("prefixes", lambda: self._survey.prefixes() if self._survey else [])

    @property
    def bases(self) -> list[Interpreter]:
        """The interpreters that are no environment's, the newest last."""
        return self._survey.bases() if self._survey else []

    @property
    def kernels(self) -> list[Kernel]:
        """The kernels that are registered."""
        return self._survey.kernels() if self._survey else []

    # -- by what they have ----------------------------------------------------------------------
    def having(self, module: str, except_prefix: str | None) -> list[Elsewhere]:
        """Return the environments that have a top-level module, the one at `except_prefix` left out."""
        skip = self.files.key(except_prefix) if except_prefix else ""
        return self._once.get(("having", module, skip), lambda: self._search(module, skip))

    def _search(self, module: str, skip: str) -> list[Elsewhere]:
        found = []
        for prefix in self._prefixes_with(module):
            if self.files.key(prefix) == skip:
                continue
            environment = self._describe(prefix)
            if environment is None or self.files.key(environment.path) == skip:
                continue
            if self.any_holds(self.sites(environment), module):
                owner = self._distribution(environment, module)
                found.append(_elsewhere(environment, environment.interpreter, owner))
        return found + self._in_user_sites(module)

    def is_namespace(self, module: str) -> bool:
        """Whether a top-level name is shared by distributions, each with a part of it, wherever it is (PEP 420)."""
        return self._once.in_turn("index", ("namespace", module), lambda: self._index.is_namespace(module))

    def bringing_part(self, module: str) -> list[str]:
        """Return the names of the distributions that bring a dotted module, one for each environment."""
        return self._once.get(("part", module), lambda: self._bringing_part(module))

    def _bringing_part(self, module: str) -> list[str]:
        found = []
        for prefix in self._prefixes_with(module.split(".")[0]):
            environment = self._describe(prefix)
            for folder in self.sites(environment) if environment else ():
                owners = self.metadata_in(folder).bringing_part(module)
                if owners:
                    found.append(owners[0].name)
                    break
        return found

    def _in_user_sites(self, module: str) -> list[Elsewhere]:
        """Return the user sites that have a module; that of the seat's own Python is judged by itself."""
        found = []
        for folder, version in user_sites(self.files) if self._survey else ():
            if not self._index.site(folder).holds(module):
                continue
            owner = self.metadata_in(folder).providing(module)
            base = next((e.interpreter for e in self.environments if e.kind == "base" and e.interpreter
                         and e.interpreter.short_version == version), None)
            prefix = self.files.path.dirname(self.files.path.dirname(folder))
            place = Environment(prefix, f"the user site of Python {version}", "base", None, version, (), base)
            found.append(_elsewhere(place, base, owner))
        return found

    def _prefixes_with(self, module: str) -> list[str]:
        """Return the places whose site folders have a module: most have not, and are not looked into."""
        return self._once.in_turn("index", ("module", module), lambda: self._index.prefixes_with(module))

    def _prefixes_providing(self, name: str) -> list[str]:
        """Return the places that have a distribution called `name`."""
        start = normal_name(name).split("-")[0]
        return self._once.in_turn("index", ("name", name), lambda: list(dict.fromkeys(
            prefix for prefix, site in self._index.sites_beginning(start)
            if self.metadata_in(site.folder).entry_named(name))))

    def look_around(self) -> list[Environment]:
        """Find the environments, and list what they have, which is asked for later."""
        self._once.in_turn("index", "listed", lambda: self._index.list_until(bool))
        return self.environments

    def prefetch(self, modules: Sequence[str], until: Callable[[], bool]) -> None:
        """Look for what will be asked about when an import fails, while it is still being tried.

        `until` says when there is better to do: the rest is looked for when it is asked for. This is done
        where the import is waited for, not beside it: two threads would stop each other at each name
        that is read.
        """
        if self._index.list_until(until):
            for module in modules:
                self._prefixes_with(module)
                self._prefixes_providing(module)

    def providing_name(self, name: str) -> list[tuple[Environment, Distribution]]:
        """Return the environments that have a distribution called `name`."""
        found = []
        for prefix in self._prefixes_providing(name):
            environment = self._describe(prefix)
            for folder in self.sites(environment) if environment else ():
                distribution = self.metadata_in(folder).named(name)
                if environment is not None and distribution is not None:
                    found.append((environment, distribution))
                    break
        return found

    def called(self, names: set[str], forms_of: Callable[[str], set[str]]) -> list[Environment]:
        """Return the environments whose name has one of the forms; only those are looked into."""
        by_name = self._once.get("by name", lambda: self._by_name(forms_of))
        found = [self._describe(p) for name in sorted(names) for p in by_name.get(name, ())]
        return [e for e in found if e is not None]

    def _by_name(self, forms_of: Callable[[str], set[str]]) -> dict[str, list[str]]:
        found: dict[str, list[str]] = {}
        for prefix in self.prefixes:
            for form in forms_of(name_of(self.files, prefix)):
                found.setdefault(form, []).append(prefix)
        return found

    def _describe(self, prefix: str) -> Environment | None:
        return self._survey.describe(prefix) if self._survey else None

    # -- what one of them has --------------------------------------------------------------------
    def visible_sites(self, interpreter: Interpreter) -> list[str]:
        """Return the site folders that an interpreter looks into; many kernels share one."""
        if interpreter.path not in self._visible:
            self._visible[interpreter.path] = self._visible_to(interpreter)
        return self._visible[interpreter.path]

    def _visible_to(self, interpreter: Interpreter) -> list[str]:
        config = self._survey.config_of(interpreter.path) if self._survey else None
        own = self._index.listed_under(interpreter.prefix, interpreter.short_version) \
            if config is not None and interpreter.prefix else None  # a base's are laid out in more ways
        return visible_sites(self.files, interpreter, config, own)

    def metadata_in(self, folder: str) -> SiteMetadata:
        """Return the distributions of a site folder."""
        return self._once.get(("shelf", folder), lambda: SiteMetadata(
            self.files, folder, names=self._index.site(folder).names))

    def named_in(self, folder: str, name: str) -> Distribution | None:
        """Return the distribution of a site folder that is called so; None where it has none."""
        if not self._index.begins_a_name(folder, normal_name(name).split("-")[0]):
            return None  # as mostly: what it has need not be put in order
        return self.metadata_in(folder).named(name)

    def reached_from(self, folders: Sequence[str]) -> list[str]:
        """Return some site folders, and the folders that they link to."""
        return [place for f in folders for place in (f, *self._index.site(f).links)]

    def any_holds(self, folders: Sequence[str], module: str) -> bool:
        """Whether one of the site folders, or a folder that they link to, has the module."""
        return any(self._index.reaches(f, module) for f in folders)

    def sites(self, environment: Environment) -> list[str]:
        """Return the site folders that an environment's interpreter looks into, where its version is known."""
        return self._once.get(("sites", environment.path), lambda: site_folders(
            self.files, environment.path, environment.kind, environment.python_version))

    def _distribution(self, environment: Environment, module: str) -> Distribution | None:
        found = (self.metadata_in(folder).providing(module) for folder in self.sites(environment))
        return next((d for d in found if d is not None), None)


def _elsewhere(place: Environment, interpreter: Interpreter | None, owner: Distribution | None) -> Elsewhere:
    if owner is None:
        return Elsewhere(place, interpreter, None, None)
    return Elsewhere(place, interpreter, owner.name, owner.version, owner.source, owner.editable,
                     owner.requires_python)
