"""The modules of a seat as sources: what a dotted name of a library leads to, through all its re-exports."""

from __future__ import annotations

from kalyx.core.errors import Unreadable
from kalyx.core.facts.late_imports.source_module import Binding, SourceModule
from kalyx.core.facts.late_imports.values import UNKNOWN, Code, Guarded, ModuleOf, TooFar
from kalyx.core.facts.search_path.modules import top_level

TYPE_CHECKING = False
if TYPE_CHECKING:
    import ast
    from collections.abc import Callable

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.imports.modules import SeenModules
    from kalyx.core.facts.late_imports.values import Value

    Evaluate = Callable[["SourceModule", ast.expr], Value]

__all__ = ["Evaluate", "Library"]

SOURCE_LIMIT = 2 * 1024 * 1024  # bytes of one file
MOST_BYTES = 24 * 1024 * 1024  # of all files together
MOST_MODULES = 400


class Library:
    """Resolves names in the sources of what a seat can import."""

    def __init__(self, files: Files, modules: SeenModules) -> None:
        self.files = files
        self._modules = modules
        self._read: dict[str, SourceModule | None] = {}
        self._known: dict[tuple[str, str], Value] = {}
        self._bytes = 0
        self.gone: dict[object, object] = {}  # what reading functions gave, for all files that are asked about
        self._places: dict[str, str | None] = {}

    def module(self, name: str) -> SourceModule | None:
        """Return a module's source; None where there is none that can be read, or too much was read already."""
        if name not in self._read:
            self._read[name] = self._load(name) if name and len(self._read) < MOST_MODULES else None
        return self._read[name]

    def _load(self, name: str) -> SourceModule | None:
        file = self._file_of(name)
        info = self.files.stat(file) if file and file.endswith(".py") else None
        if file is None or info is None or info.size > min(SOURCE_LIMIT, MOST_BYTES - self._bytes):
            return None
        self._bytes += info.size
        try:
            text = self.files.read_text(file, SOURCE_LIMIT)
        except Unreadable:
            return None
        return SourceModule(name, file, text.replace("\r\n", "\n"),
                            is_package=self.files.path.basename(file) == "__init__.py",
                            is_own=self._modules.layer_of_file(file) == "start")

    def _file_of(self, name: str) -> str | None:
        if name not in self._places:
            self._places[name] = self._modules.file_of(name)
        return self._places[name]

    def is_there(self, name: str) -> bool:
        """Whether the seat has a module of that name, as far as listing folders tells."""
        return self._modules.is_builtin(name) or self._file_of(name) is not None

    def is_stdlib(self, name: str) -> bool:
        """Whether a module is of the seat's standard library."""
        return self._modules.is_stdlib(top_level(name)) or top_level(name) in self._modules.stdlib_names

    def may_enter(self, module: SourceModule, name: str) -> bool:
        """Whether a name is followed from a module: within one library, and from one's own code into any."""
        return top_level(name) == top_level(module.name) or (module.is_own and not self.is_stdlib(name))

    def attribute(self, module: str, name: str, evaluate: Evaluate) -> Value:
        """Return what a name of a module is; unknown where reading does not tell."""
        source = self.module(module)
        if source is None:
            found: Value = UNKNOWN
        else:
            if (module, name) not in self._known:
                self._known[module, name] = UNKNOWN  # a ring ends here
                try:
                    self._known[module, name] = self._look_up(source, name, evaluate)
                except TooFar:
                    del self._known[module, name]
                    raise
            found = self._known[module, name]
        if found is UNKNOWN and self._file_of(f"{module}.{name}") is not None:
            return ModuleOf(f"{module}.{name}")
        return found

    def _look_up(self, source: SourceModule, name: str, evaluate: Evaluate) -> Value:
        code = source.pieces.definition(name)
        if code is not None:
            return Code(source, code)
        binding = source.bindings.get(name)
        if binding is not None:
            return self._of(source, binding, evaluate)
        for star in source.stars:
            found = self.attribute(star, name, evaluate) if self.may_enter(source, star) else UNKNOWN
            if found is not UNKNOWN:
                return found
        return UNKNOWN

    def _of(self, source: SourceModule, binding: Binding, evaluate: Evaluate) -> Value:
        if binding.guard:
            absent = self._of(source, binding.absent, evaluate) if binding.absent else UNKNOWN
            plain = Binding(binding.module, binding.name, binding.code, binding.expression)
            return Guarded(binding.guard, absent, self._of(source, plain, evaluate))
        if binding.code is not None:
            return Code(source, binding.code)
        if binding.expression is not None:
            return evaluate(source, binding.expression)
        return self.imported(source, binding.module, binding.name, evaluate)

    def imported(self, source: SourceModule, module: str, name: str, evaluate: Evaluate) -> Value:
        """Return what an import of a module, or of a name of it, gives in a source."""
        if not module:
            return UNKNOWN
        if not name:
            return ModuleOf(module)
        return self.attribute(module, name, evaluate) if self.may_enter(source, module) else UNKNOWN
