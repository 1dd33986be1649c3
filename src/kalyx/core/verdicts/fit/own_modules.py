"""Which modules are the code's own, and which of its files run when one of them does."""

from __future__ import annotations

from kalyx.core.facts.source_code.cells import file_run
from kalyx.core.facts.source_code.relative_imports import package_root
from kalyx.core.model.names import normal_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Collection, Sequence

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.source_code.code_needs import CodeNeeds

__all__ = ["OwnModules"]

_CODE = (".py", ".so", ".pyd")


class OwnModules:
    """The modules of the code itself: beside a file, in its project, in folders that it adds to the search path."""

    def __init__(self, files: Files, roots: Sequence[str]) -> None:
        self._files = files
        self._roots = [f for r in roots for f in (r, files.path.join(r, "src"), files.path.join(r, "lib"))]
        self._inside: dict[str, tuple[set[str], Collection[str]]] = {}  # the modules and folders in a folder
        self._found: dict[tuple[str, ...], dict[str, bool]] = {}  # in all folders together: the same for many files
        self._package_roots: dict[str, str] = {}

    def beside(self, code: CodeNeeds) -> Callable[[str, str | None, Callable[[str], bool]], bool]:
        """Return what tells whether a file's import finds a module of one's own.

        It is asked for a module, a name of it or None, and told which names are shared with others (PEP 420): of
        these one's own folder may have another part.
        """
        folders = self._folders(code)
        known = self._found.setdefault(folders, {})

        def has(module: str, name: str | None, shared: Callable[[str], bool]) -> bool:
            top, _, rest = module.partition(".")
            if top not in known:
                known[top] = any(self._holds(f, top) for f in folders)
            if not known[top]:
                return False
            part = rest.partition(".")[0] or name
            return part is None or not shared(top) or any(self._has_part(f, top, part) for f in folders)

        return has

    def run_by(self, code: CodeNeeds) -> list[str]:
        """Return the files of one's own that run when a file does: its imports, and those that a notebook runs.

        Not what it only tries to import, or imports for a type checker.
        """
        m, found = self._files, []
        for item in code.imports:
            if item.guard in ("try", "typing") or item.marker:
                continue
            rest = item.module.lstrip(".")
            parts = [*filter(None, rest.split(".")), *([item.name] if item.name else [])]
            folder: str | None = m.path.dirname(code.path)
            if rest == item.module:
                folder = next((f for f in self._folders(code) if self._holds(f, parts[0])), None)
            for _ in range(len(item.module) - len(rest) - 1):
                folder = m.path.dirname(folder)
            found += self._sources(folder, parts) if folder else []
        for said in code.runs:
            found += file_run(m, code.path, said)
        return [str(m.path.normpath(path)) for path in found]

    def away_from(self, code: CodeNeeds) -> dict[str, str]:
        """Return what a file imports of one's own that ``python FILE`` does not look for where it is, with the folders.

        Nothing of a file that is a part of a package: it is not meant to be run so.
        """
        folders, here = self._folders(code), self._files.path.dirname(code.path)
        if folders[-1] != here:
            return {}
        found = {}
        for top in {i.module.split(".")[0] for i in code.imports
                    if i.guard not in ("try", "typing") and not i.marker} - {""}:
            folder = next((f for f in folders if self._holds(f, top)), None)
            if folder is not None and folder not in (here, *code.folders):
                found[top] = folder
        return found

    def _sources(self, folder: str, parts: Sequence[str]) -> list[str]:
        """Return the files that an import runs one after the other, by the parts of its name."""
        m, found = self._files, []
        for part in parts:
            folder = m.path.join(folder, part)
            first = m.path.join(folder, "__init__.py")
            if m.is_file(first):
                found.append(first)
            elif not m.is_folder(folder) or m.is_file(f"{folder}.py"):
                return [*found, f"{folder}.py"] if m.is_file(f"{folder}.py") else found
        return found

    def _folders(self, code: CodeNeeds) -> tuple[str, ...]:
        """Return where a file's modules of its own may be."""
        m, here = self._files, self._files.path.dirname(code.path)
        if here not in self._package_roots:
            self._package_roots[here] = package_root(m, code.path)
        return here, *code.folders, *self._roots, self._package_roots[here]

    def _has_part(self, folder: str, name: str, part: str) -> bool:
        """Whether a folder has a package of its own of a name, or that part of what is shared."""
        m = self._files
        names, folders, _ = m.scan(m.path.join(folder, name))
        return part in folders or any(n.partition(".")[0] in (part, "__init__") and n.endswith(_CODE) for n in names)

    def alike(self, module: str, code: CodeNeeds) -> str:
        """Return a file of one's own that may be meant by an import, of a slightly other name; mostly none."""
        m = self._files
        for folder in dict.fromkeys((m.path.dirname(code.path), *self._roots)):
            for name in m.scan(folder)[0]:
                stem, ending = m.path.splitext(name)
                if ending in (".py", ".ipynb") and normal_name(stem) == normal_name(module.split(".")[0]):
                    return str(m.path.join(folder, name))
        return ""

    def folders_with(self, folders: Sequence[str]) -> Callable[[str], str]:
        """Return what gives the first of some folders that has a module; empty where none does."""
        def first(module: str) -> str:
            top, _, rest = module.partition(".")
            part = rest.partition(".")[0]
            return next((f for f in folders if self._holds(f, top) and (
                not part or self._has_part(f, top, part))), "")

        return first

    def _holds(self, folder: str, module: str) -> bool:
        """Whether a folder has a module, or a folder of code, of that name; each is looked into once."""
        if folder not in self._inside:
            names, inside, _ = self._files.scan(folder)
            self._inside[folder] = {n.partition(".")[0] for n in names if n.endswith(_CODE)}, frozenset(inside)
        modules, folders = self._inside[folder]
        return module in modules or (module in folders and any(
            n.endswith(_CODE) for n in self._files.scan(self._files.path.join(folder, module))[0]))
