"""How far an environment has what code needs, by reading alone."""

from __future__ import annotations

import re

from kalyx.core.facts.native.builtin_modules import CompiledIn
from kalyx.core.facts.packaging.record_file import Record
from kalyx.core.facts.packaging.requirements import applies, is_met, marker_values, suits
from kalyx.core.facts.search_path.modules import EXTENSION
from kalyx.core.facts.search_path.predicted import usual_stdlib
from kalyx.core.model import Lack, version_pair
from kalyx.core.model.names import normal_name, requirement_extras, requirement_name
from kalyx.core.verdicts.fit.elsewhere import why_only_elsewhere
from kalyx.core.verdicts.fit.standard_modules import lacks_by_version
from kalyx.core.verdicts.fit.submodules import cannot_have
from kalyx.core.verdicts.seats.packages import unmet_requirements

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from kalyx.core.facts.environments.neighbours import Neighbours
    from kalyx.core.facts.files import Files
    from kalyx.core.model import Alternative, Distribution, Environment, Interpreter, Need, PythonWanted

__all__ = ["EnvironmentJudge"]

# Modules of the standard library that are of no use without a compiled part, which a build may have left out
_COMPILED_PARTS = {
    "tkinter": "_tkinter", "turtle": "_tkinter", "idlelib": "_tkinter", "sqlite3": "_sqlite3", "ssl": "_ssl",
    "lzma": "_lzma", "bz2": "_bz2", "ctypes": "_ctypes", "curses": "_curses", "readline": "readline", "zlib": "zlib"}
_TAG = re.compile(r"\.(?:cpython-|cp)(\d)(\d+)[a-z]*(?:-|$)|\.pypy(\d)(\d+)")


class EnvironmentJudge:
    """Holds the needs of some code, as they are by its `markers`, against one environment."""

    def __init__(self, files: Files, neighbours: Neighbours, environment: Environment) -> None:
        self.files = files
        self.neighbours = neighbours
        self.environment = environment
        interpreter = environment.interpreter
        self.interpreter = interpreter if interpreter is not None and interpreter.works else None
        self.version = (interpreter.version if interpreter else None) or environment.python_version or ""
        self.sites = neighbours.visible_sites(self.interpreter) if self.interpreter else neighbours.sites(environment)
        kind = self.interpreter.implementation if self.interpreter else None
        self.markers = marker_values(self.version or "3", kind or "cpython", files.platform)
        self._found: dict[str, Distribution | None] = {}
        self._lacking: dict[int, Lack | None] = {}
        self._standard: set[str] | None = None

    def python_fits(self, python: PythonWanted | None) -> bool:
        """Whether its Python can run the code; not where it is not known."""
        if self.interpreter is None or not self.version:
            return False
        return python is None or suits(python.specifier, self.version)

    def lacks(self, needs: Sequence[Need]) -> list[Lack]:
        """Return the needs that it does not meet, those alone that nothing makes optional."""
        spared = self.spared(needs)
        found: dict[tuple[str, str], Lack] = {}
        for need in needs:
            lack = self._lack(need) if not need.optional and need not in spared else None
            if lack is not None:
                found.setdefault((normal_name(lack.distribution or lack.module or ""), lack.because), lack)
        return list(found.values())

    def spared(self, needs: Sequence[Need]) -> list[Need]:
        """Return the needs that no line has there, as it has what they stand in for, or not what they go with."""
        by_module = {n.module: n for n in needs} if any(n.only_where for n in needs) else {}
        return [n for n in needs if n.is_spared(lambda one: self._is_there(one, by_module))]

    def _is_there(self, one: Alternative, needs: Mapping[str | None, Need]) -> bool:
        """Whether what another import stands in for can be imported, with the name that is wanted of it."""
        if one.module not in needs or self._lack(needs[one.module]) is not None or not suits(one.python, self.version):
            return False
        found = self._named(requirement_name(one.requirement)) if one.requirement else None
        return found is None or is_met(one.requirement, found.version) is not False

    def _lack(self, need: Need) -> Lack | None:
        if id(need) not in self._lacking:
            self._lacking[id(need)] = self._lack_of(need)
        return self._lacking[id(need)]

    def _lack_of(self, need: Need) -> Lack | None:
        if need.is_standard:
            return self._lack_of_standard(need)
        if need.by_conda:
            return self._lack_of_conda(need)
        name, wanted = need.distribution or "", need.specifier
        found = self._named(name) if name else None
        if need.module and not self._has(need.module):
            away = why_only_elsewhere(need, self.files.platform)
            if away is not None:
                return Lack(need.module, None, wanted, None, away.because)
            because = f"there is no module {need.module} in {self._place()}"
            if found is not None:
                because = f"{found.name} {found.version} is there, and does not bring {need.module}"
            return Lack(need.module, name or None, wanted, found.version if found else None, because)
        part = self._missing_part(need, found) if found is not None else None
        if part is not None:
            return part
        if need.module is None and found is None:
            return Lack(None, name, wanted, None, f"{name} is not in {self._place()}")
        if found is not None and wanted and is_met(f"{name}{wanted}", found.version) is False:
            asker = next((p for p in need.asked_by if p.text), None)
            by = f", which {asker.path} asks for" if asker else ""
            return Lack(need.module, name, wanted, found.version,
                        f"{found.name} {found.version} is there, and is not {wanted}{by}")
        return None

    def _missing_part(self, need: Need, found: Distribution) -> Lack | None:
        """Return what is imported of a distribution that its version is known not to have."""
        for part in need.parts:
            if is_met(f"{found.name}{part.specifier}", found.version) is False:
                cell = f", code cell {part.place.cell}" if part.place.cell else ""
                line = f"{part.place.path}{cell}, line {part.place.line}"
                return Lack(need.module, None if need.is_at_odds else need.distribution, need.specifier, found.version,
                            f"{found.name} {found.version} has no {part.name}, which {line}, imports: "
                            f"{found.name}{part.specifier} has it")
        for module, place in need.modules:
            if not found.editable and cannot_have(self.files, self.neighbours.reached_from(self.sites), module):
                cell = f", code cell {place.cell}" if place.cell else ""
                return Lack(need.module, None, need.specifier, found.version, f"{found.name} {found.version} has no "
                            f"module {module}, which {place.path}{cell}, line {place.line}, imports")
        return None

    def _lack_of_conda(self, need: Need) -> Lack | None:
        """Return a package of conda's that an environment of conda's lacks; others are not made of its packages."""
        name, m = need.distribution or "", self.files
        folder = m.path.join(self.environment.path, "conda-meta")
        records = m.names_in(folder) if self.environment.kind == "conda" else ()
        known = {normal_name(n.rsplit("-", 2)[0]) for n in records if n.endswith(".json")}
        if not known or normal_name(name) in known or self._named(name) is not None:
            return None
        return Lack(None, name, need.specifier, None, f"{name} is not in {self.environment.path}")

    def broken(self, needs: Sequence[Need]) -> list[Lack]:
        """Return what is there and cannot work: files that were installed are gone, or are for another Python."""
        found = []
        for need in needs:
            owner = self._owner(need) if need.module and not need.optional and not need.is_standard else None
            if owner is None or owner.editable:
                continue
            record = Record(self.files, owner)
            missing = record.missing()
            if missing:
                more = f" and {len(missing) - 1} more files are" if len(missing) > 1 else " is"
                found.append(Lack(need.module, owner.name, need.specifier, owner.version,
                                  f"{owner.name} {owner.version} is damaged: {record.absolute(missing[0])}{more} gone"))
                continue
            foreign = self._for_another(record)
            if foreign:
                found.append(Lack(need.module, owner.name, need.specifier, owner.version,
                                  f"{owner.name} {owner.version} was built for another Python: {foreign}"))
        return found

    def unmet(self, needs: Sequence[Need]) -> list[Lack]:
        """Return what is required by what is needed, by declared requirements all the way down, and is not there."""
        closure: dict[str, Distribution] = {}
        extras: dict[str, set[str]] = {}
        wanted = [(normal_name(n.distribution), n.extras) for n in needs
                  if not n.optional and not n.is_standard and n.distribution]
        while wanted:  # by name: of hundreds that are there, few are needed
            name, more = wanted.pop()
            if name in closure and extras[name].issuperset(more):
                continue
            one = self._named(name)
            if one is not None:
                closure[name] = one
                extras.setdefault(name, set()).update(more)
                asked = ("", *sorted(extras[name]))
                wanted += [(normal_name(requirement_name(r)), requirement_extras(r)) for r in one.requires
                           if applies(r, self.markers, asked)]
        found = []
        for owner, requirement, other in unmet_requirements(list(closure.values()), self.markers, extras):
            line = requirement.split(";")[0].strip()
            name = requirement_name(line)
            if other is None and self._named(name) is None and not self._has_by_other_name(line):
                found.append(Lack(None, name, line.removeprefix(name).strip(), None,
                                  f"{_as_asked(owner, extras)} requires {line}, which is not there"))
        return found

    def _has_by_other_name(self, requirement: str) -> bool:
        """Whether a module of the requirement's name is there, though no metadata names it so."""
        return self.neighbours.any_holds(self.sites, normal_name(requirement_name(requirement)).replace("-", "_"))

    # -- what is there ---------------------------------------------------------------------
    def _place(self) -> str:
        return self.sites[0] if self.sites else self.environment.path

    def _has(self, module: str) -> bool:
        """Whether a module is there; of a name that many share, each of its parts."""
        top, _, rest = module.partition(".")
        if not rest:
            return self.neighbours.any_holds(self.sites, top)
        m = self.files
        for site in self.neighbours.reached_from(self.sites):
            place = m.path.join(site, *module.split("."))
            if m.is_folder(place) or m.is_file(f"{place}.py") or any(
                    EXTENSION.match(n) and n.startswith(f"{module.rpartition('.')[2]}.")
                    for n in m.entries(m.path.dirname(place))):
                return True
            parent = m.path.dirname(place)
            if m.is_file(m.path.join(parent, "__init__.py")) and "." in rest:  # a name of a module, as like as not
                return True
        return False

    def _named(self, name: str) -> Distribution | None:
        if name not in self._found:
            found = (self.neighbours.named_in(s, name) for s in self.sites)
            self._found[name] = next((d for d in found if d is not None), None)
        return self._found[name]

    def _owner(self, need: Need) -> Distribution | None:
        assert need.module is not None
        top = need.module.split(".")[0]
        found = self._named(need.distribution) if need.distribution else None
        if found is not None and top in found.modules:
            return found
        owners = (self.neighbours.metadata_in(s).providing(top) for s in self.sites)
        return next((d for d in owners if d is not None), None)

    def _for_another(self, record: Record) -> str:
        """Return a compiled part that only another Python loads, and that has no twin for this one; mostly none."""
        if self.interpreter is None:
            return ""
        by_stem: dict[str, list[tuple[str, bool]]] = {}
        for row in record.rows:
            folder, _, file = row.rpartition("/")
            match = EXTENSION.match(file)
            if match:
                ours = self._is_for(match["tag"], self.interpreter)
                by_stem.setdefault(f"{folder}/{match['module']}", []).append((row, ours))
        foreign = next((rows for rows in by_stem.values() if not any(ours for _, ours in rows)), None)
        return str(record.absolute(foreign[0][0])) if foreign else ""

    def _is_for(self, tag: str, interpreter: Interpreter) -> bool:
        match = _TAG.match(tag)
        if match is None:  # no tag, abi3, or one that is not known
            return True
        is_pypy = match[3] is not None
        numbers = (int(match[3] or match[1]), int(match[4] or match[2]))
        return is_pypy == (interpreter.implementation == "pypy") and numbers == version_pair(self.version)

    # -- the standard library --------------------------------------------------------------
    def _lack_of_standard(self, need: Need) -> Lack | None:
        module = need.module or ""
        top = module.split(".")[0]
        away = why_only_elsewhere(need, self.files.platform)
        because = away.because if away is not None else (
            lacks_by_version(self.version, module) or self._lack_of_part(top))
        if not because or self.neighbours.any_holds(self.sites, top):  # a stand-in for what came later, or went
            return None
        return Lack(module, None, "", None, because)

    def _lack_of_part(self, top: str) -> str:
        """Say which module of the standard library this build, or this system's package, leaves out; mostly empty."""
        part = _COMPILED_PARTS.get(top, top if top in ("distutils", "ensurepip", "venv", "lib2to3") else "")
        if not part or self.interpreter is None:
            return ""
        if self._standard is None:
            self._standard = self._modules_of_standard(self.interpreter)
        if not self._standard or part in self._standard or part in CompiledIn(
                self.files, self.interpreter, self.files.env):
            return ""
        return f"the Python {self.version} in {self.interpreter.base_prefix} was made without {part}"


    def _modules_of_standard(self, interpreter: Interpreter) -> set[str]:
        """Return the names that its standard library has files of; none where that is not to be seen."""
        m = self.files
        folders = usual_stdlib(m, interpreter)
        if not any(m.names_in(f) for f in folders):
            return set()
        places = (p for f in folders for p in (f, m.path.join(f, "lib-dynload"), m.path.join(f, "DLLs")))
        return {n.split(".")[0] for place in places for n in m.names_in(place)}


def _as_asked(owner: Distribution, extras: Mapping[str, Iterable[str]]) -> str:
    """Return a distribution's name with the extras that it is asked for with, and its version."""
    more = ",".join(sorted(filter(None, extras.get(normal_name(owner.name), ()))))
    return f"{owner.name}{f'[{more}]' if more else ''} {owner.version}"
