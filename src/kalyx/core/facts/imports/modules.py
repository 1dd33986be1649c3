"""The modules of a case: where they stand on its search path, in which layer, what was loaded of them."""

from __future__ import annotations

from functools import cached_property

from kalyx.core.errors import NotRecorded, Unreadable
from kalyx.core.facts.packaging.listed_modules import HOOK, brings_back, mapped_folder
from kalyx.core.facts.search_path.layers import PathFacts, classify_path, pythonpath_of
from kalyx.core.facts.search_path.modules import Candidate, Finder

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files
    from kalyx.core.facts.native.loader import Loader
    from kalyx.core.facts.search_path.layers import Layer
    from kalyx.core.model import Launch, Observation, RunningPython

__all__ = ["SeenModules"]

SOURCE_LIMIT = 8 * 1024 * 1024  # bytes of a source that a line is shown of


class SeenModules:
    """What a seat can import."""

    def __init__(self, files: Files, observation: Observation, python: RunningPython, launch: Launch,
                 start: str | None, like: SeenModules | None = None) -> None:
        """Take up what was observed; `like` is of another import of the same run, whose reading is shared."""
        self._files = files
        self._obs = observation
        self._python = python
        self._launch = launch
        self._start = start
        self.finder: Finder = like.finder if like else Finder(files, python.suffixes)
        self._candidates: dict[str, list[tuple[str, Candidate]]] = like._candidates if like else {}
        self._lines: dict[str, list[str]] = like._lines if like else {}
        if like is not None and like._python.search_path == python.search_path:
            self.layers = like.layers

    @cached_property
    def layers(self) -> list[Layer]:
        """sys.path as the import met it, each entry with its layer."""
        python, launch = self._python, self._launch
        facts = PathFacts(python.prefix, python.base_prefix, python.user_site,
                          pythonpath_of(self._files, launch.env, launch.cwd)
                          if not python.flags.get("ignore_environment") else (),
                          self._start, launch.start_behind)
        path = [self._files.located(p, launch.cwd) for p in python.search_path]
        return classify_path(self._files, path, facts)

    @property
    def folders(self) -> list[str]:
        """The entries of the path."""
        return [layer.path for layer in self.layers]

    # -- by name ------------------------------------------------------------------------------
    def candidates(self, name: str) -> list[tuple[str, Candidate]]:
        """Return (layer, candidate) for a top-level name in every entry of the path."""
        if name not in self._candidates:
            layer_of = {x.path: x.layer for x in reversed(self.layers)}
            self._candidates[name] = [
                (layer_of[c.entry], c) for c in self.finder.find_all(self.folders, name)]
        return self._candidates[name]

    def hooked(self, name: str) -> Candidate | None:
        """Return what an import hook has for a top-level name, mostly of an editable install (PEP 660); None: nothing.

        It is asked last: whatever a folder of the path offers comes before it, a folder without code as well.
        """
        m = self._files
        for layer in self.layers:
            names = self.finder.names(layer.path)
            back = brings_back(m, layer.path, name, self._launch.env) if HOOK in names else None
            if back is not None and layer.layer in ("env", "base", "user"):  # a .pth file counts in these alone
                return Candidate(layer.path, back, "linked")
            for file in sorted(names):
                if not (file.startswith("__editable__") and file.endswith("_finder.py")):
                    continue
                target = mapped_folder(m, layer.path, file, name)
                for path in (m.path.join(target, "__init__.py"), target) if target else ():
                    if m.is_file(path):
                        return Candidate(layer.path, path, "linked")
        return None

    def is_builtin(self, name: str) -> bool:
        """Whether the interpreter has a module compiled in."""
        return name in self._python.builtin

    def is_stdlib(self, name: str) -> bool:
        """Whether a top-level name is in this interpreter's own standard library."""
        if self.is_builtin(name):
            return True
        return any(layer == "stdlib" and c.kind != "namespace" for layer, c in self.candidates(name))

    @cached_property
    def stdlib_names(self) -> set[str]:
        """The top-level modules of this interpreter's standard library."""
        names = set(self._python.builtin) | set(self._python.stdlib)
        if not self._python.stdlib:  # Python before 3.10 does not list them
            for layer in self.layers:
                names |= self.finder.modules(layer.path) if layer.layer == "stdlib" else set()
        return names - {"__pycache__", "site-packages"}

    def names(self) -> set[str]:
        """Return every top-level module name that this seat could import."""
        found: set[str] = set(self._python.builtin)
        for folder in self.folders:
            found |= self.finder.modules(folder)
        return found

    def search_folders(self, package: str) -> list[str]:
        """Return where the submodules of a package are looked for; none where it is no package."""
        loaded = self._obs.loaded.get(package)
        if loaded and loaded[1]:
            return list(loaded[1])
        if package == self._obs.module and self._obs.search:
            return list(self._obs.search)
        head, _, tail = package.rpartition(".")
        found = []
        for candidate in self.finder.find_all(self.search_folders(head) if head else self.folders, tail):
            if candidate.kind == "package":
                return [self._files.path.dirname(candidate.path)]
            if candidate.kind == "namespace":
                found.append(candidate.path)
            else:
                return []
        return found

    def file_of(self, module: str) -> str | None:
        """Return the file of a loaded or findable module; None where there is none."""
        loaded = self._obs.loaded.get(module)
        if loaded and loaded[0]:
            return self.source_of(loaded[0])
        head, _, tail = module.rpartition(".")
        found = self.finder.find_all(self.search_folders(head) if head else self.folders, tail)
        return found[0].path if found else None

    # -- by file ------------------------------------------------------------------------------
    def is_made_for_it(self, file: str) -> bool:
        """Whether a compiled file's name says that it is for this very interpreter."""
        tagged = max(self.finder.suffixes, key=len, default="")
        return tagged.count(".") > 1 and file.endswith(tagged)

    def layer_of_file(self, file: str | None) -> str | None:
        """Return the layer that a file belongs to: that of the longest entry around it; None for no file."""
        if not file:
            return None
        best: Layer | None = None
        for layer in self.layers:
            if self._files.is_within(file, layer.path) and (best is None or len(layer.path) > len(best.path)):
                best = layer
        if best is None:
            return "link"  # an import hook of an editable install brought it
        return best.layer

    def source_of(self, file: str | None) -> str | None:
        """Return the source beside a bytecode file where there is one, else the file itself."""
        if file and file.endswith(".pyc") and self._files.is_file(file[:-1]):
            return file[:-1]
        return file

    def code_line(self, file: str, line: int) -> str:
        """Return a line of source, stripped; empty when it cannot be read."""
        try:
            lines = self.lines_of(file)
        except NotRecorded:  # of a file elsewhere the lines that an exception went through may be known alone
            return self._files.source_line(file, line).strip()
        return lines[line - 1].strip() if 0 < line <= len(lines) else ""

    def lines_of(self, file: str) -> list[str]:
        """Return the lines of a source, read once for all imports of a run; none when it cannot be read."""
        if file not in self._lines:
            try:
                self._lines[file] = self._files.read_text(file, SOURCE_LIMIT).splitlines()
            except Unreadable:
                self._lines[file] = []
        return self._lines[file]

    @cached_property
    def loader(self) -> Loader:
        """The system's loader of libraries, as this seat's process uses it."""
        from kalyx.core.facts.native.binaries import read_binary
        from kalyx.core.facts.native.loader import Loader

        return Loader(self._files, self._launch.env, read_binary(
            self._files, self._files.real_path(self._python.executable)))
