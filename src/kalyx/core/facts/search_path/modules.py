"""Where a module stands in the folders of a search path, found by listing them, not importing."""

from __future__ import annotations

import re

from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    from kalyx.core.facts.files import Files

__all__ = ["EXTENSION", "Candidate", "Finder", "module_names", "top_level"]

EXTENSION = re.compile(r"^(?P<module>[^.]+)(?P<tag>(\.[\w-]+)?)\.(so|pyd|dylib)$")
SOURCE_ENDINGS = (".py", ".pyw")


@record
class Candidate:
    """A file or folder that could be imported under a name.

    ``kind`` is package, module, extension, bytecode or namespace; ``path`` the
    file that would be executed (a folder for a namespace portion).
    """

    entry: str
    path: str
    kind: str
    loadable: bool = True


def top_level(module: str) -> str:
    """Return the part of a dotted name before the first dot."""
    return module.split(".", 1)[0]


class Finder:
    """Lists folders once and answers what would be imported from them."""

    def __init__(self, files: Files, suffixes: Sequence[str] = ()) -> None:
        self.files = files
        self.suffixes = tuple(suffixes)
        self._listed: dict[str, frozenset[str]] = {}
        self._modules: dict[str, set[str]] = {}
        self._archives: dict[str, set[str]] = {}

    def names(self, folder: str) -> frozenset[str]:
        """Return the names in `folder`, an empty set when it cannot be listed."""
        if folder not in self._listed:
            self._listed[folder] = frozenset(self.files.entries(folder))
        return self._listed[folder]

    def modules(self, folder: str) -> set[str]:
        """Return the module names that a folder's listing offers; each folder's once."""
        if folder not in self._modules:
            self._modules[folder] = module_names(self.names(folder), self.suffixes)
        return self._modules[folder]

    def find_in(self, folder: str, name: str) -> Candidate | None:
        """Return what `folder` offers for a module's last name, as the path finder ranks it."""
        m, names = self.files, self.names(folder)
        if not names:
            return self._in_archive(folder, name)
        is_folder = name in names and m.is_folder(m.path.join(folder, name))
        if is_folder:
            inside = self.names(m.path.join(folder, name))
            for start in ("__init__.py", "__init__.pyc", *(f"__init__{s}" for s in self.suffixes)):
                if start in inside and m.is_file(m.path.join(folder, name, start)):
                    return Candidate(folder, m.path.join(folder, name, start), "package")
        endings = (*((s, "extension") for s in self.suffixes), (".py", "module"), (".pyc", "bytecode"))
        for ending, kind in endings:
            if name + ending in names and m.is_file(m.path.join(folder, name + ending)):  # no link to nowhere
                return Candidate(folder, m.path.join(folder, name + ending), kind)
        if is_folder:
            return Candidate(folder, m.path.join(folder, name), "namespace")
        return None

    def _in_archive(self, folder: str, name: str) -> Candidate | None:
        """Return what a zip file on the path, or a folder inside one, offers for a module's last name."""
        m, file, inside = self.files, folder, ""
        while file and not m.is_file(file):  # a package of it is a folder of its own only in name
            above, last = m.path.split(file)
            if above == file or m.is_folder(above):
                return None
            file, inside = above, f"{last}/{inside}"
        if not file:
            return None
        if file not in self._archives:
            from kalyx.core.facts.search_path.archives import archive_names

            self._archives[file] = archive_names(m, file)
        names, start = self._archives[file], inside + name
        for ending, kind in (("/__init__.pyc", "package"), ("/__init__.py", "package"), (".pyc", "bytecode"),
                             (".py", "module")):  # the order in which zipimport asks
            if start + ending in names:
                return Candidate(folder, m.path.join(file, *f"{start}{ending}".split("/")), kind)
        is_folder = any(n.startswith(f"{start}/") for n in names)
        return Candidate(folder, m.path.join(file, *start.split("/")), "namespace") if is_folder else None

    def find_all(self, folders: Iterable[str], name: str) -> list[Candidate]:
        """Return what each folder offers for `name`, in search order, same folders once."""
        seen: set[str] = set()
        found = []
        for folder in folders:
            key = self.files.key(folder)
            if key in seen:
                continue
            seen.add(key)
            candidate = self.find_in(folder, name)
            if candidate is not None:
                found.append(candidate)
        return found

    def extensions_in(self, folder: str, name: str) -> list[str]:
        """Return every compiled file for `name` in `folder`, loadable or not."""
        found = []
        for file in sorted(n for n in self.names(folder) if n.startswith(name + ".")):
            match = EXTENSION.match(file)
            if match and match.group("module") == name:
                found.append(self.files.path.join(folder, file))
        return found


def module_names(names: Iterable[str], suffixes: Sequence[str]) -> set[str]:
    """Return the module names that a folder's listing offers (packages are guessed from form)."""
    endings = {"", *[s[1:] for s in (*SOURCE_ENDINGS, *suffixes)]}  # what may follow the first dot
    return {stem for stem, _, rest in (n.partition(".") for n in names)
            if rest in endings and stem.isidentifier()}
