"""Parts that a package has dropped or brought, by the table of well-known ones, and where they are now."""

from __future__ import annotations

import ast
import re

from kalyx.core.facts.packaging.requirements import is_met
from kalyx.core.lean.record import record
from kalyx.core.model import Evidence, Remedy
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.tables import import_names, moved_names
from kalyx.core.verdicts.reading.absence import asked_near_home
from kalyx.core.verdicts.remedies import pip
from kalyx.core.verdicts.remedies.source_edits import as_import, asking_place, change_line
from kalyx.core.verdicts.remedies.versions import pinned

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Distribution, Edit, Place
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["Moved", "find_moved"]


@record
class Moved:
    """A part of a package: the versions that have it, and what to import instead; empty where nothing is."""

    part: str
    versions: str
    now: str

    @property
    def came_later(self) -> bool:
        """Whether older versions lack it, and not newer ones."""
        return ">" in self.versions

    def evidence(self) -> Evidence:
        """Say what the table says."""
        where = f", and it is {_as_code(self.now)} now" if self.now else ""
        return Evidence(f"{self.versions} has it{where}, by the table of well-known parts that Kalyx ships")

    def remedies(self, case: Case, failure: Failure) -> list[Remedy]:
        """Return what to do where the person's own code asks: write what it is now, or have the version."""
        if self.came_later:
            return [*pip.install(case, pinned(case, self.versions), why=", in a version that has it")]
        back = pip.install(case, pinned(case, self.versions), why=(
            f", in a version that has it, if there is one for Python {case.python.short_version}"))
        if not asked_near_home(case, failure):
            return []
        return [*self._written(case, failure), *back]

    def _written(self, case: Case, failure: Failure) -> list[Remedy]:
        if not self.now:
            return []
        todo: list[Remedy] = []
        top = re.split(r"[.:]", self.now)[0]
        if top != "builtins" and not case.modules.candidates(top) and not case.modules.is_builtin(top):
            name = import_names.distribution_for(top) or top
            todo += pip.install(case, name, why=f", which has {_as_code(self.now)}")
        place = asking_place(case, failure)
        changed = _line_now(place, self.part, self.now) if place else None
        edit: Edit | None = change_line(case, place, changed) if place and changed else None
        if edit is None:
            by_hand = Remedy(f"Write: {as_import(self.now)}", "manual", changes="the import in your code")
            return [by_hand, *todo]
        old, new = (p.rpartition(":")[2] for p in (self.part, self.now))
        further = f"; and {new} in place of {old} further down" if ":" in self.part and old != new else ""
        return [Remedy(f"Write: {changed}{further}", "edit", edits=(edit,), changes=edit.path), *todo]


def find_moved(case: Case, failure: Failure, owner: Distribution | None) -> Moved | None:
    """Return what the table knows of a part that the installed version of its package has not."""
    if owner is None:
        return None
    for part in (f"{failure.module}:{failure.name}", f"{failure.module}.{failure.name}") if failure.name else (
            failure.module,):
        said = moved_names.moved_part(part)
        if said is not None and normal_name(requirement_name(said[0])) == normal_name(owner.name) \
                and is_met(said[0], owner.version) is False:
            return Moved(part, *said)
    return None


def _as_code(part: str) -> str:
    return part.replace("builtins:", "").replace(":", ".")


def _line_now(place: Place, part: str, now: str) -> str | None:
    """Return the line as it has to be now; None where it is no plain import, or no plain use, of the part."""
    module, _, name = part.partition(":")
    to_module, _, to_name = now.partition(":")
    try:
        tree = ast.parse(place.text)
    except (SyntaxError, ValueError):
        tree = ast.Module([], [])
    statement = tree.body[0] if len(tree.body) == 1 else None
    if isinstance(statement, ast.ImportFrom) and not statement.level:
        return _from_now(statement, module, name, to_module, to_name)
    if isinstance(statement, ast.Import) and len(statement.names) == 1 and not name and not to_name:
        alias = statement.names[0]
        if alias.name == module or alias.name.startswith(module + "."):
            known_as = f" as {alias.asname}" if alias.asname else ""
            return f"import {to_module}{alias.name[len(module):]}{known_as}"
    if not name or isinstance(statement, ast.Import):
        return None
    used = re.findall(rf"\b[A-Za-z_]\w*\.{name}\b", place.text)
    if len(set(used)) != 1 or (to_module not in (module, "builtins")):
        return None
    new = to_name if to_module == "builtins" else used[0].rpartition(".")[0] + "." + to_name
    return re.sub(rf"\b{re.escape(used[0])}\b", new, place.text)


def _from_now(statement: ast.ImportFrom, module: str, name: str, to_module: str, to_name: str) -> str | None:
    """Return a ``from`` import as it has to be now."""
    alias, whole = statement.names[0], statement.module or ""
    if whole == module and not name and not to_name:  # a module with the same names in it, elsewhere
        return ast.unparse(ast.ImportFrom(to_module, statement.names, 0))
    if len(statement.names) != 1:
        return None
    if name and to_name and whole == module and alias.name == name:
        return ast.unparse(ast.ImportFrom(to_module, [ast.alias(to_name, alias.asname)], 0))
    if name or to_name or f"{whole}.{alias.name}" != module:
        return None
    parent, _, last = to_module.rpartition(".")
    known_as = alias.asname or (alias.name if alias.name != last else None)
    new = ast.alias(last, known_as)
    return ast.unparse(ast.ImportFrom(parent, [new], 0) if parent else ast.Import([new]))
