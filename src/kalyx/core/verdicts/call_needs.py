"""What calls of a file need beyond what it imports, as notes: who declares it, and whether it is here."""

from __future__ import annotations

import re

from kalyx.core.facts.packaging.requirements import applies, is_met
from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.model import Note
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.tables import import_names
from kalyx.core.verdicts.remedies.shell_lines import command_line

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.facts.late_imports.call_sites import CallNeed
    from kalyx.core.model import Distribution

__all__ = ["notes_of_calls"]


def notes_of_calls(case: Case, path: str, calls: Sequence[CallNeed]) -> list[Note]:
    """Return a note for each thing that calls of a file need: what is not here first.

    What a library requires anyhow is said only where it is not here.
    """
    grouped: dict[tuple[str, tuple[str, ...]], list[CallNeed]] = {}
    for call in calls:
        tops = tuple(dict.fromkeys(m if _is_there(case, top_level(m)) else top_level(m) for m in call.need.modules))
        grouped.setdefault((call.library, tops), []).append(call)
    lacking, here = [], []
    for (library, modules), group in grouped.items():
        owner = case.distributions.of(case.modules.file_of(library))
        there = [m for m in modules if _is_there(case, m)]
        fit = [m for m in there if not _too_old(case, owner, m)]
        if fit:
            here += _that_is_here(case, path, group, owner, fit[0])
        else:
            lacking.append(_that_lacks(case, path, group, owner, modules, there))
    return [*lacking, *here]


def _is_there(case: Case, module: str) -> bool:
    return case.modules.is_builtin(module) or case.modules.file_of(module) is not None


def _too_old(case: Case, owner: Distribution | None, module: str) -> bool:
    """Whether what is here is of a version that the extra of the library does not take."""
    installed = case.distributions.of(case.modules.file_of(module))
    declared = _declared(case, owner, module)
    return bool(installed and declared and is_met(declared[0], installed.version) is False)


def _declared(case: Case, owner: Distribution | None, module: str) -> tuple[str, str] | None:
    """Return the requirement, without its marker, by which a library asks for a module, and its extra.

    The extra is empty for what it requires anyhow; an extra that asks for least comes first. None where it
    declares nothing of it.
    """
    if owner is None:
        return None
    installed = case.distributions.of(case.modules.file_of(top_level(module)))
    names = {_plain(top_level(module)), _plain(import_names.distribution_for(module) or module),
             *([_plain(installed.name)] if installed else [])}
    lines = [r for r in owner.requires if _plain(requirement_name(r)) in names]
    if not lines and installed is None:  # what brings it elsewhere on this machine may have another name
        names = {_plain(e.name) for e in case.elsewhere.having(top_level(module)) if e.name}
        lines = [r for r in owner.requires if _plain(requirement_name(r)) in names]
    for line in lines:
        if applies(line, case.distributions.markers):
            return line.split(";")[0].strip(), ""
    size = {e: sum(1 for r in owner.requires if _is_under(r, e)) for e in owner.extras}
    under = [(size[e], e, line) for e in owner.extras for line in lines
             if applies(line, case.distributions.markers, (e,))]
    if not under:
        return None
    _, extra, line = min(under)
    return line.split(";")[0].strip(), extra


def _plain(name: str) -> str:
    """Return a name as it is compared within one library's own requirements: sheet-kit brings sheetkit."""
    return normal_name(name).replace("-", "")


def _is_under(requirement: str, extra: str) -> bool:
    return bool(re.search(rf"extra\s*==\s*['\"]{re.escape(extra)}['\"]", requirement))


def _that_is_here(case: Case, path: str, group: Sequence[CallNeed], owner: Distribution | None,
                  module: str) -> list[Note]:
    declared = _declared(case, owner, module)
    if declared is not None and not declared[1]:
        return []  # it came with the library
    installed = case.distributions.of(case.modules.file_of(module))
    what = f"{installed.name} {installed.version}" if installed else str(case.modules.file_of(module))
    return [Note("call-needs", f"{_calls(path, group)} {module}, which is here: {what}.", path)]


def _that_lacks(case: Case, path: str, group: Sequence[CallNeed], owner: Distribution | None,
                modules: Sequence[str], there: Sequence[str]) -> Note:
    """Say what is not here, who asks for it, and what puts it here."""
    need, library = group[0].need, f"{owner.name} {owner.version}" if owner else group[0].library
    found = next((d for d in (_declared(case, owner, m) for m in modules) if d), None)
    if found:
        requirement, extra = found
        says = f"{library} declares {requirement} " + (f"under its extra {extra}" if extra else "as a requirement")
    else:
        guess = import_names.distribution_for(modules[0])
        requirement, extra = guess or top_level(modules[0]), ""
        says = f"{library} declares nothing of it" + (
            "" if guess else "; that the distribution has the module's name is a guess")
    old = [d for m in there if (d := case.distributions.of(case.modules.file_of(m)))]
    state = f"is here as {old[0].name} {old[0].version}: too old" if old else "is not here" \
        if len(modules) == 1 else "are not here"
    at = () if case.seat.kind == "shell" else ("--at", case.seat.ref)
    line = command_line(case.files, ("kalyx", "put", requirement.replace(" ", ""), *at))
    place = f"the table that Kalyx ships says so of what {need.file} has in line {need.line}" if need.from_table \
        else f"it is asked for in {need.file}, line {need.line}"
    which = f"{', '.join(modules[:-1])} or {modules[-1]}" if len(modules) > 1 else modules[0]
    return Note("call-needs", f"{_calls(path, group)} {which}, which {state}: {place}, and {says}. To put "
                f"it here: {line}", path)


def _calls(path: str, group: Sequence[CallNeed]) -> str:
    """Name the calls: "report.py, line 5: pandas.read_excel(...) needs"."""
    first = group[0]
    name = path.replace("\\", "/").rsplit("/", 1)[-1]
    cell = f", code cell {first.cell}" if first.cell else ""
    others = list(dict.fromkeys(c.line for c in group if c.cell == first.cell and c.line != first.line))
    more = f" (lines {', '.join(map(str, others))} too)" if len(others) > 1 else f" (line {others[0]} too)" \
        if others else ""
    return f"{name}{cell}, line {first.line}{more}: {first.says} needs"
