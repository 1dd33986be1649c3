"""Which site folders of a machine have a name: each listed once, all of them searched as one text.

Most environments have not what is looked for, and there may be hundreds. So the names in each site folder
are kept as one text, and only where that has the name is anything else read. The texts of all are one text
again: what that has not, none of them has.
"""

from __future__ import annotations

from kalyx.core.errors import NotRecorded, Unreadable
from kalyx.core.facts.interpreters.path_lookup import version_in_name
from kalyx.core.facts.packaging.listed_modules import HOOK, brings_back, mapped_folder, mapped_modules
from kalyx.core.facts.search_path.pth_files import link_lines
from kalyx.core.facts.search_path.site_folders import site_contents

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence

    from kalyx.core.facts.files import Files

__all__ = ["Site", "SiteIndex"]


HEAD = 4096  # bytes of a package's first file


class Site:
    """A folder that modules are looked for in; ``text`` has the names in it, each between NUL characters."""

    def __init__(self, files: Files, folder: str, names: list[str]) -> None:
        self.folder = folder
        self.text = "\0".join(("", *names, ""))
        self._files = files
        self._small = ""  # the text in small letters
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
            lines = link_lines(self._files, self.folder, self.names) if ".pth\0" in self.text else ()
            self._links = [line.target for line in lines if line.target]
        return self._links

    def begins_a_name(self, start: str) -> bool:
        """Whether a name in it begins so, in small letters."""
        self._small = self._small or self.text.lower()
        return f"\0{start}" in self._small

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
        m = self._files
        try:
            inside = m.entries(m.path.join(self.folder, name))
        except NotRecorded:  # on another machine: it mostly has
            return True
        return any(n.endswith((".py", ".so", ".pyd")) or "." not in n for n in inside if n != "__pycache__")

    def is_part_of_namespace(self, name: str) -> bool | None:
        """Whether its folder of that name is one of several that share it (PEP 420); None where it has none."""
        if f"\0{name}\0" not in self.text:
            return None
        m = self._files
        folder = m.path.join(self.folder, name)
        starts = [n for n in m.names_in(folder) if n.startswith("__init__.")]
        if not starts:
            return self._is_package(name) or None
        try:  # as it was done before
            text = m.read_beginning(m.path.join(folder, "__init__.py"), HEAD)
        except (Unreadable, NotRecorded):
            return False
        from kalyx.core.facts.source_code.definitions import declares_namespace

        return declares_namespace(text)

    def _hooks(self) -> set[str]:
        """The modules that import hooks bring."""
        if self._hooked is None:
            self._hooked = set()
            if f"\0{HOOK}\0" in self.text and brings_back(self._files, self.folder, "distutils", self._files.env):
                self._hooked.add("distutils")
            if "_finder.py\0" in self.text:
                for name in self.names:
                    if name.startswith("__editable__") and name.endswith("_finder.py"):
                        brought = mapped_modules(self._files, self.folder, name)
                        self._hooked |= {m for m in brought if self._leads_anywhere(name, m)}
        return self._hooked

    def _leads_anywhere(self, finder: str, module: str) -> bool:
        """Whether what an import hook leads to is there: the project may have been moved since."""
        m = self._files
        place = mapped_folder(m, self.folder, finder, module)
        try:
            return place is not None and (m.exists(place) or m.exists(place + ".py") or any(
                n.startswith(m.path.basename(place) + ".") for n in m.names_in(m.path.dirname(place))))
        except NotRecorded:  # on another machine: it mostly is
            return True


class SiteIndex:
    """The site folders under prefixes, of every version that they may be of. For one thread at a time."""

    def __init__(self, files: Files, prefixes: Callable[[], Sequence[str]]) -> None:
        """Take up the `prefixes`, asked for when the first folder is listed."""
        self._files = files
        self._prefixes = prefixes
        self._unlisted: Iterator[str] | None = None
        self._sites: dict[str, Site] = {}
        self._under: list[tuple[str, Site]] = []  # with the prefix that each stands under
        self._by_prefix: dict[str, list[Site]] = {}
        self._linking: list[Site] = []  # those whose .pth files lead elsewhere
        self._all_names = ""  # in small letters; empty until all are listed
        self._listed: frozenset[str] = frozenset()  # the folders, when all are
        self._beginning: dict[str, frozenset[str]] = {}  # folders in which a name begins so
        self._having: dict[str, frozenset[str]] = {}  # folders that have a module, or lead to one that has it

    def site(self, folder: str) -> Site:
        """Return a folder as listed, once."""
        if folder not in self._sites:
            self._sites[folder] = Site(self._files, folder, self._files.entries(folder))
        return self._sites[folder]

    def listed_under(self, prefix: str, version: str) -> list[str] | None:
        """Return the site folders of a version (``3.12``) under an environment's prefix; None where none was listed."""
        m = self._files
        found = [s.folder for s in self._by_prefix.get(prefix, ())]
        if not found or m.platform == "win32":
            return found or None
        return [f for f in found if version_in_name(m.path.basename(m.path.dirname(f))) in (
            version, version.split(".")[0])]

    def reaches(self, folder: str, module: str) -> bool:
        """Whether a site folder, or a folder that it links to, has a module."""
        if folder in self._listed:
            return folder in self._folders_with(module)
        return self._reaches(self.site(folder), module)

    def _reaches(self, site: Site, module: str) -> bool:
        return site.holds(module) or any(self.site(folder).holds(module) for folder in site.links)

    def begins_a_name(self, folder: str, start: str) -> bool:
        """Whether a name in a site folder begins so, in small letters."""
        if folder in self._listed:
            return folder in self._folders_beginning(start)
        return self.site(folder).begins_a_name(start)

    def list_until(self, until: Callable[[], bool]) -> bool:
        """List the site folders, until told to stop; return whether all are listed."""
        if self._unlisted is None:
            self._unlisted = iter(self._prefixes())
        m, likely = self._files, ""
        for prefix in self._unlisted:
            for folder, names in site_contents(m, prefix, likely):
                site = self._sites[folder] = Site(m, folder, names)
                self._under.append((prefix, site))
                self._by_prefix.setdefault(prefix, []).append(site)
                likely = likely or m.path.basename(m.path.dirname(folder))
            if len(self._under) % 8 == 0 and until():
                return False  # the next call goes on from here
        if not self._all_names:
            self._all_names = "/".join(["", *(site.text for _, site in self._under)]).lower()
            self._linking = [site for _, site in self._under if ".pth\0" in site.text]
            self._listed = frozenset(site.folder for _, site in self._under)
        return True

    def prefixes_with(self, module: str) -> list[str]:
        """Return the prefixes whose site folders have a module, or lead to a folder that has it."""
        self.list_until(bool)
        having = self._folders_with(module)
        return list(dict.fromkeys(prefix for prefix, site in self._under if site.folder in having)) if having else []

    def _folders_with(self, module: str) -> frozenset[str]:
        """Return the listed folders that have a module, or lead to it: asked of hundreds, looked for once."""
        if module not in self._having:
            start = f"\0{module}"
            sites = [site for _, site in self._under if start in site.text or ".pth\0" in site.text] \
                if start.lower() in self._all_names else self._linking
            self._having[module] = frozenset(site.folder for site in sites if self._reaches(site, module))
        return self._having[module]

    def is_namespace(self, module: str) -> bool:
        """Whether a top-level name is a namespace wherever it is: no folder has it as a package of its own."""
        self.list_until(bool)
        if f"\0{module.lower()}" not in self._all_names:
            return False
        sites = (s for _, site in self._under for s in (site, *map(self.site, site.links)))
        found = False
        for said in (site.is_part_of_namespace(module) for site in sites):
            if said is False:
                return False
            found = found or said is True
        return found

    def sites_beginning(self, start: str) -> list[tuple[str, Site]]:
        """Return the site folders in which a name begins so, each with its prefix; `start` is in small letters."""
        self.list_until(bool)
        beginning = self._folders_beginning(start)
        return [(prefix, site) for prefix, site in self._under if site.folder in beginning] if beginning else []

    def _folders_beginning(self, start: str) -> frozenset[str]:
        """Return the listed folders in which a name begins so."""
        if start not in self._beginning:
            sites = self._under if f"\0{start}" in self._all_names else ()
            self._beginning[start] = frozenset(site.folder for _, site in sites if site.begins_a_name(start))
        return self._beginning[start]
