"""What code and its project need, put together: modules by the distributions that bring them, and the Pythons."""

from __future__ import annotations

import sys
from functools import cache

from kalyx.core.facts.packaging.project import Declared
from kalyx.core.model import Need, Place, PythonWanted
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.tables.import_names import distribution_for, is_shared
from kalyx.core.tables.standard_library import stdlib_history

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Sequence

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.source_code.imports import ImportedName
    from kalyx.core.facts.source_code.needs import CodeNeeds

__all__ = ["OwnModules", "is_standard", "needs_of", "python_of"]

_GUARDED = ("try", "typing")
_CODE = (".py", ".so", ".pyd")


class OwnModules:
    """The modules of the code itself: beside a file, in its project, in folders that it adds to the search path."""

    def __init__(self, files: Files, roots: Sequence[str]) -> None:
        self._files = files
        self._roots = [f for r in roots for f in (r, files.path.join(r, "src"), files.path.join(r, "lib"))]
        self._modules: dict[str, set[str]] = {}  # of a folder
        self._found: dict[tuple[str, ...], dict[str, bool]] = {}  # in all folders together: the same for many files
        self._package_roots: dict[str, str] = {}

    def beside(self, code: CodeNeeds) -> Callable[[str], bool]:
        """Return what tells whether a file's import finds a module of one's own."""
        from kalyx.core.facts.source_code.imports import package_root

        m, here = self._files, self._files.path.dirname(code.path)
        if here not in self._package_roots:
            self._package_roots[here] = package_root(m, code.path)
        folders = (here, *code.folders, *self._roots, self._package_roots[here])
        known = self._found.setdefault(folders, {})

        def has(module: str) -> bool:
            top = module.partition(".")[0]
            if top not in known:
                known[top] = any(self._holds(f, top) for f in folders)
            return known[top]

        return has

    def alike(self, module: str, code: CodeNeeds) -> str:
        """Return a file of one's own that may be meant by an import, of a slightly other name; mostly none."""
        m = self._files
        for folder in dict.fromkeys((m.path.dirname(code.path), *self._roots)):
            for name in m.scan(folder)[0]:
                stem, ending = m.path.splitext(name)
                if ending in (".py", ".ipynb") and normal_name(stem) == normal_name(module.split(".")[0]):
                    return str(m.path.join(folder, name))
        return ""

    def _holds(self, folder: str, module: str) -> bool:
        """Whether a folder has a module, or a folder of code, of that name; each is looked into once."""
        m = self._files
        names, folders, _ = m.scan(folder)
        if folder not in self._modules:
            self._modules[folder] = {n.partition(".")[0] for n in names if n.endswith(_CODE)}
        return module in self._modules[folder] or (
            module in folders and any(n.endswith(_CODE) for n in m.scan(m.path.join(folder, module))[0]))


class _Asked:
    """All lines that ask for one module."""

    def __init__(self, module: str, first: CodeNeeds) -> None:
        self.module = module
        self.first = first  # of the files that do
        self.places: list[Place] = []
        self.unless: tuple[str, ...] = ()


def is_standard(module: str) -> bool:
    """Whether a module is, was, or will be one of the standard library."""
    top = module.split(".")[0]
    return top in sys.stdlib_module_names or top in stdlib_history()["modules"] or module in stdlib_history()["modules"]


def needs_of(code: Iterable[CodeNeeds], declared: Sequence[Declared], own: OwnModules,
             brought_by: Callable[[str], str | None], *, whole: Callable[[str], bool],
             aside: Callable[[str], bool]) -> list[Need]:
    """Return what is needed, what is imported first; `brought_by` names a module's distribution by metadata here.

    What is asked for and not imported is needed where its file is asked about as a `whole`: a project, a script that
    asks for it itself. A single notebook runs without what only others of its project import. What files ask for that
    stand `aside` is optional: tests, documentation.
    """
    asked = _asked_for(code, own, aside)
    by_name: dict[str, list[Declared]] = {}
    for one in declared:
        by_name.setdefault(one.name, []).append(one)
    found = [_need(one, by_name, own, brought_by) for one in asked.values()]
    imported = {normal_name(n.distribution) for n in found if n.distribution}
    for name, rows in by_name.items():
        main = [d for d in rows if not d.optional]
        if name not in imported and main:
            found += [Need(None, requirement_name(d.requirement), _specifier(d), (_place(d),), marker=_marker(d),
                           optional=not whole(d.file)) for d in main]
    return found


def _asked_for(code: Iterable[CodeNeeds], own: OwnModules, aside: Callable[[str], bool]) -> dict[str, _Asked]:
    """Return what files ask for that is no module of their own."""
    asked: dict[str, _Asked] = {}
    for file in code:
        is_own = own.beside(file)
        is_aside = bool(file.imports) and aside(file.path)
        for item in file.imports:
            module = _as_asked(item.module, item.name)
            if not module or (is_own(module) and not is_shared(module.split(".")[0])):
                continue
            if module not in asked:
                asked[module] = _Asked(module, file)
            known = asked[module]
            guard = item.guard if item.guard in _GUARDED or not is_aside else "try"
            known.places.append(Place(file.path, item.line, item.cell, guard))
            known.unless = known.unless or tuple(_alternatives(file, item))
    return asked


@cache
def _as_asked(module: str, name: str | None) -> str:
    """Return the module that has to be there: of a name that many share, with its parts."""
    if module.startswith("."):
        return ""
    parts = module.split(".")
    if not is_shared(parts[0]):
        return module if is_standard(module) and module in stdlib_history()["modules"] else parts[0]
    return module if len(parts) > 1 or not name else f"{module}.{name}"


def _alternatives(file: CodeNeeds, item: ImportedName) -> list[str]:
    """Return the modules that an import in an ``except`` stands in for."""
    if item.instead_of is None:
        return []
    first, last = item.instead_of
    return [m for i in file.imports
            if i.cell == item.cell and first <= i.line <= last and (m := _as_asked(i.module, i.name))]


def _need(one: _Asked, declared: dict[str, list[Declared]], own: OwnModules,
          brought_by: Callable[[str], str | None]) -> Need:
    needed = any(p.guard not in _GUARDED for p in one.places)
    places = tuple(sorted(one.places, key=lambda p: not p.needed))
    if is_standard(one.module) and not _is_declared(one.module, declared):
        return Need(one.module, None, "", places, not needed, one.unless, is_standard=True)
    by_table = distribution_for(one.module)
    here = brought_by(one.module)
    names = [n for n in (here, by_table, one.module.split(".")[0]) if n]
    name = next((n for n in names if normal_name(n) in declared), names[0])
    if not here and not by_table and normal_name(name) not in declared:
        name = _declared_alike(name, declared) or name
    is_guessed = not here and not by_table and normal_name(name) not in declared
    if is_guessed and own.alike(one.module, one.first):
        return Need(one.module, None, "", places, not needed, one.unless)
    rows = declared.get(normal_name(name), [])
    if rows and all(d.optional for d in rows):  # of an extra, and asked for only by what runs later
        needed = needed and any(p.guard in ("", "condition") for p in one.places)
    specifier = ",".join(dict.fromkeys(s for d in rows if (s := _specifier(d))))
    return Need(one.module, name, specifier, (*places, *map(_place, rows)), not needed, one.unless,
                is_guessed=is_guessed)


def _declared_alike(module: str, declared: dict[str, list[Declared]]) -> str:
    """Return the one distribution that the project asks for whose name is the module's with ``py`` or ``python``."""
    plain = normal_name(module)
    forms = {f"py{plain}", f"py-{plain}", f"python-{plain}", f"{plain}-python", f"{plain}-py", f"{plain}py"}
    found = sorted(forms & declared.keys())
    return requirement_name(declared[found[0]][0].requirement) if len(found) == 1 else ""


def _is_declared(module: str, declared: dict[str, list[Declared]]) -> bool:
    return normal_name(module.split(".")[0]) in declared


def _place(one: Declared) -> Place:
    return Place(one.file, one.line or 1, text=one.requirement)


def _specifier(one: Declared) -> str:
    from packaging.requirements import InvalidRequirement, Requirement

    try:
        return str(Requirement(one.requirement).specifier)
    except InvalidRequirement:
        return ""


def _marker(one: Declared) -> str:
    return one.requirement.partition(";")[2].strip()


def python_of(code: Iterable[CodeNeeds], wanted: Sequence[tuple[str, Place]]) -> PythonWanted | None:
    """Return the Pythons that can run all of it, by what decides that most; None where nothing does."""
    from packaging.specifiers import InvalidSpecifier, SpecifierSet

    from kalyx.core.model import version_pair

    oldest: tuple[tuple[int, int], str, str] | None = None
    newest: tuple[tuple[int, int], str, str] | None = None
    for file in code:
        for bound in file.bounds:
            pair = version_pair(bound.version) or (0, 0)
            cell = f", code cell {bound.cell}" if bound.cell else ""
            where = f"{bound.what} ({file.path}{cell}, line {bound.line})"
            if bound.is_oldest and (oldest is None or pair > oldest[0]):
                oldest = (pair, f">={bound.version}", where)
            elif not bound.is_oldest and (newest is None or pair < newest[0]):
                newest = (pair, f"<{bound.version}", where)
    parts = [(b[1], b[2]) for b in (oldest, newest) if b is not None]
    for specifier, place in wanted:
        try:
            SpecifierSet(specifier)
        except InvalidSpecifier:
            continue
        parts.append((specifier, f"{place.path}, line {place.line}"))
    if not parts:
        return None
    specifiers = list(dict.fromkeys(s for s, _ in parts))
    because = [why if len(specifiers) == 1 else f"{s} for {why}" for s, why in dict.fromkeys(parts)]
    return PythonWanted(",".join(specifiers), "; ".join(because))
