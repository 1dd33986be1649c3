"""What code and its project need, put together: modules by the distributions that bring them, and the Pythons."""

from __future__ import annotations

import sys
from functools import cache

from kalyx.core.facts.packaging.project import Declared
from kalyx.core.facts.source_code.imports import tried_in
from kalyx.core.facts.source_code.python_range import bound_of_name
from kalyx.core.model import Alternative, AskedLine, Need, NeededPart, Place, PythonWanted, Reached
from kalyx.core.model.names import normal_name, requirement_extras, requirement_name
from kalyx.core.tables.import_names import are_builds_of_one, distribution_for, is_shared
from kalyx.core.tables.moved_names import known_part
from kalyx.core.tables.standard_library import stdlib_history
from kalyx.core.verdicts.fit.asked_lines import of_lines
from kalyx.core.verdicts.fit.standard_modules import pythons_with
from kalyx.core.verdicts.reading.other_systems import system_lacking

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Sequence

    from packaging.requirements import Requirement

    from kalyx.core.facts.source_code.code_needs import CodeNeeds
    from kalyx.core.facts.source_code.imports import ImportedName
    from kalyx.core.verdicts.fit.own_modules import OwnModules

__all__ = ["is_firm", "is_standard", "may_be_asked_for", "needs_of", "python_of", "said_by_import"]

_GUARDED = ("try", "typing")


class _Asked:
    """All lines that ask for one module."""

    def __init__(self, module: str, first: CodeNeeds) -> None:
        self.module = module
        self.first = first  # of the files that do
        self.places: list[Place] = []
        self.modules: dict[str, Place] = {}  # inside it
        self.parts: dict[tuple[str, str], Place] = {}  # by the part, and the requirement that has it
        self.reached: list[tuple[Reached, ...]] = []  # by what, for each place that needs it


def is_standard(module: str) -> bool:
    """Whether a module is, was, or will be one of the standard library."""
    top = module.split(".")[0]
    return top in sys.stdlib_module_names or top in stdlib_history()["modules"] or module in stdlib_history()["modules"]


def needs_of(code: Iterable[CodeNeeds], declared: Sequence[Declared], own: OwnModules,
             brought_by: Callable[[str], str | None], is_namespace: Callable[[str], bool],
             is_python: Callable[[str], bool], *, whole: Callable[[str], bool], aside: Callable[[str], bool]
             ) -> list[Need]:
    """Return what is needed, what is imported first; `brought_by` names a module's distribution by metadata here.

    `is_namespace` tells which names are shared by several distributions here: of these a part is needed; and
    `is_python` which of conda's packages are known to be distributions of Python's.
    What is asked for and not imported is needed where its file is asked about as a `whole`: a project, a script that
    asks for it itself. A single notebook runs without what only others of its project import. What files ask for that
    stand `aside` is optional: tests, documentation.
    """
    asked = _asked_for(code, own, aside, cache(lambda name: is_shared(name) or is_namespace(name)))
    by_name: dict[str, list[Declared]] = {}
    for one in declared:
        by_name.setdefault(one.name, []).append(one)
    found = [_need(one, by_name, own, brought_by) for one in asked.values()]
    imported = {normal_name(n.distribution) for n in found if n.distribution}
    for name, rows in by_name.items():
        main = [d for d in rows if not d.optional]
        if name not in imported and main:
            counting = [d for d in main if whole(d.file)] or main
            by_conda = all(d.by_conda for d in counting) and not is_python(name)
            shown = requirement_name(main[0].requirement)
            found.append(of_lines(Need(None, shown, optional=not whole(counting[0].file), by_conda=by_conda,
                                       lines=tuple(map(_line, counting)))))
    return found


def _asked_for(code: Iterable[CodeNeeds], own: OwnModules, aside: Callable[[str], bool],
               shared: Callable[[str], bool]) -> dict[str, _Asked]:
    """Return what files ask for that is no module of their own."""
    asked: dict[str, _Asked] = {}
    for file in code:
        is_own = own.beside(file)
        is_aside = bool(file.imports) and aside(file.path)
        for item in file.imports:
            if item.module.startswith(".") or item.module == "__main__" or is_own(item.module, item.name, shared):
                continue
            module = _as_asked(item.module, item.name, shared)
            known = asked.get(module)
            if known is None:
                known = asked[module] = _Asked(module, file)
            tries = [(tried, [i for i in tried_in(file.imports, item, tried) if not is_own(i.module, i.name, shared)])
                     for tried in item.only_where]
            reached = [Reached(_alternatives(imports, shared), not tried.fails) for tried, imports in tries]
            # the part of a package may fail though the package is there; and where it itself is, it needs nothing more
            is_unsure = any(not tried.fails and any(i.name or "." in i.module or i.module == module for i in imports)
                            for tried, imports in tries)
            guard = item.guard if item.guard in _GUARDED or not (is_aside or is_unsure) else "try"
            known.places.append(Place(file.path, item.line, item.cell, guard))
            if guard in _GUARDED:
                continue
            known.reached.append((*reached, *([Reached(marker=item.marker)] if item.marker else [])))
            if not known.reached[-1]:
                if item.module != module and item.module.startswith(module + "."):
                    known.modules.setdefault(item.module, known.places[-1])
                if (part := _part_of(item.module, item.name)) is not None:
                    known.parts.setdefault(part, known.places[-1])
    return asked


def is_firm(platform: str, item: ImportedName, is_of_extra: Callable[[str], bool]) -> bool:
    """Whether an import asks for something whatever else asks for it.

    Inside a function it does not where the standard library has that on some systems alone, or the project may ask for
    it in an extra (`is_of_extra`).
    """
    module = item.module.split(".")[0]
    is_conditional = bool(item.only_where or item.marker)
    if is_conditional or item.guard != "function":
        return not is_conditional and item.guard in ("", "condition")
    return not (system_lacking(platform, module) if is_standard(module) else is_of_extra(module))


def may_be_asked_for(module: str, names: Iterable[str], brought_by: Callable[[str], str | None]) -> bool:
    """Whether one of some distributions may be what brings a module."""
    own = [n for n in (brought_by(module), distribution_for(module), module) if n]
    forms = {form.replace("-", "") for name in own for form in _forms(name)}
    return any(name.replace("-", "") in forms or any(are_builds_of_one(name, n) for n in own) for name in names)


def said_by_import(module: str, name: str | None, shared: Callable[[str], bool]) -> tuple[object, ...]:
    """Return all that an import says of what is needed: two of which it is the same say no more than one does.

    `shared` tells which names several distributions have a part of.
    """
    bound = bound_of_name(module, name) if name else None
    return _as_asked(module, name, shared), module, _part_of(module, name), name if bound is not None else None


@cache
def _as_asked(module: str, name: str | None, shared: Callable[[str], bool]) -> str:
    """Return the module that has to be there: of a name that many share, with its parts."""
    top, dot, _ = module.partition(".")
    if is_standard(module):
        return module if module in stdlib_history()["modules"] else top
    if not shared(top):
        return top
    return module if dot or not name else f"{module}.{name}"


@cache
def _part_of(module: str, name: str | None) -> tuple[str, str] | None:
    """Return the part of a package that an import asks for, and the versions that have it, where a table knows it."""
    found = known_part(module, name)
    return (found[0].replace(":", "."), found[1]) if found is not None else None


def _alternatives(imports: Iterable[ImportedName], shared: Callable[[str], bool]) -> tuple[Alternative, ...]:
    """Return what decides whether another import runs."""
    return tuple(Alternative(_as_asked(i.module, i.name, shared),
                             pythons_with(i.module, i.name) if is_standard(i.module) else "",
                             (_part_of(i.module, i.name) or ("", ""))[1])
                 for i in imports if not i.module.startswith("."))


def _need(one: _Asked, declared: dict[str, list[Declared]], own: OwnModules,
          brought_by: Callable[[str], str | None]) -> Need:
    needed = any(p.guard not in _GUARDED for p in one.places)
    places = tuple(sorted(one.places, key=lambda p: not p.needed))
    only_where = tuple(dict.fromkeys(one.reached)) if all(one.reached) else ()
    if is_standard(one.module) and not _is_declared(one.module, declared):
        return Need(one.module, None, "", places, not needed, only_where, is_standard=True)
    by_table = distribution_for(one.module)
    here = brought_by(one.module)
    names = [n for n in (here, by_table, "-".join(one.module.split(".")[:2])) if n]
    name = next((n for n in names if normal_name(n) in declared), "") or _declared_build(names, declared) or names[0]
    if not here and not by_table and normal_name(name) not in declared:
        name = _declared_alike(name, declared) or name
    is_guessed = not here and not by_table and normal_name(name) not in declared
    if is_guessed and own.alike(one.module, one.first):
        return Need(one.module, None, "", places, not needed, only_where)
    rows = declared.get(normal_name(name), [])
    if rows and all(d.optional for d in rows):  # of an extra, and asked for only by what runs later
        needed = needed and any(p.guard in ("", "condition") for p in one.places)
    parts = [NeededPart(part, requirement[len(requirement_name(requirement)):], place)
             for (part, requirement), place in one.parts.items() if normal_name(requirement_name(requirement))
             == normal_name(name)]
    lines = [_line(d) for d in ([d for d in rows if not d.optional] or rows)]
    return of_lines(Need(one.module, name, "", places, not needed, only_where, is_guessed=is_guessed,
                         parts=tuple(parts), modules=tuple(one.modules.items()), lines=tuple(lines)))


def _declared_build(names: Sequence[str], declared: dict[str, list[Declared]]) -> str:
    """Return the one distribution that the project asks for and that is another build of one of some names."""
    found = [rows[0] for rows in declared.values() if any(are_builds_of_one(rows[0].name, name) for name in names)]
    return requirement_name(found[0].requirement) if len(found) == 1 else ""


def _declared_alike(module: str, declared: dict[str, list[Declared]]) -> str:
    """Return the one distribution that the project asks for whose name is the module's, or that with ``py``."""
    plain, forms = normal_name(module), _forms(module)
    found = sorted(n for n in declared if n in forms or n.replace("-", "") == plain.replace("-", ""))
    return requirement_name(declared[found[0]][0].requirement) if len(found) == 1 else ""


def _forms(name: str) -> tuple[str, ...]:
    """Return how a distribution may be called that brings a module, or is called like another one but for ``py``."""
    plain = normal_name(name)
    return plain, f"py{plain}", f"py-{plain}", f"python-{plain}", f"{plain}-python", f"{plain}-py", f"{plain}py"


def _is_declared(module: str, declared: dict[str, list[Declared]]) -> bool:
    return normal_name(module.split(".")[0]) in declared


def _line(one: Declared) -> AskedLine:
    extras = requirement_extras(one.requirement) if one.cell or not one.optional else ()
    return AskedLine(_place(one), _specifier(one), extras, _url(one), _marker(one), one.optional)


def _place(one: Declared) -> Place:
    return Place(one.file, one.line or 1, one.cell, text=one.requirement)


def _specifier(one: Declared) -> str:
    parsed = _parsed(one.requirement)
    return str(parsed.specifier) if parsed is not None else ""


def _url(one: Declared) -> str:
    parsed = _parsed(one.requirement) if "@" in one.requirement else None
    return parsed.url or "" if parsed is not None else ""


@cache
def _parsed(requirement: str) -> Requirement | None:
    from packaging.requirements import InvalidRequirement, Requirement

    try:
        return Requirement(requirement)
    except InvalidRequirement:
        return None


def _marker(one: Declared) -> str:
    parsed = _parsed(one.requirement)  # a URL may have a semicolon
    return str(parsed.marker or "") if parsed is not None else one.requirement.partition(";")[2].strip()


def python_of(code: Iterable[CodeNeeds], wanted: Sequence[tuple[str, Place]]) -> PythonWanted | None:
    """Return the Pythons that can run all of it, by what decides that most; None where nothing does."""
    from packaging.specifiers import InvalidSpecifier, SpecifierSet

    from kalyx.core.model import version_pair

    bounds = [(file.path, bound) for file in code for bound in file.bounds]
    pairs = {v: version_pair(v) or (0, 0) for v in {bound.version for _, bound in bounds}}
    oldest = max((b for b in bounds if b[1].is_oldest), key=lambda b: pairs[b[1].version], default=None)
    newest = min((b for b in bounds if not b[1].is_oldest), key=lambda b: pairs[b[1].version], default=None)
    parts = []
    for path, bound in filter(None, (oldest, newest)):
        cell = f", code cell {bound.cell}" if bound.cell else ""
        parts.append((f"{'>=' if bound.is_oldest else '<'}{bound.version}",
                      f"{bound.what} ({path}{cell}, line {bound.line})"))
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
