"""Two projects that bring one module: which of them lies there now, and which was meant."""

from __future__ import annotations

from kalyx.core.facts.packaging.requirements import applies
from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.lean.record import record
from kalyx.core.model import Evidence, Finding
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.tables import import_names
from kalyx.core.verdicts.causes.damaged.suspects import suspects, what_broke
from kalyx.core.verdicts.remedies import pip

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Distribution
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["two_projects"]


@record
class _Clash:
    """A file that two distributions have installed: whose it is now, and whose it was."""

    file: str
    now: Distribution
    before: Distribution


def two_projects(case: Case, failure: Failure | None) -> Finding | None:
    """Find that the failing file is another project's than the one that was meant: the later wrote over the earlier.

    None where no file has two owners, or where the one that lies there is the one that is asked for.
    """
    clash = next(_clashes(case, failure), None)
    if clash is None:
        return None
    asked = _asked_for(case)
    if normal_name(clash.now.name) in asked:
        return None  # somebody counts on what lies there: to take it out would break that
    meant = asked.get(normal_name(clash.before.name)) or _by_table(case, failure, clash)
    m, now, before = case.files, clash.now, clash.before
    name = top_level(m.path.relpath(clash.file, now.location).replace("\\", "/").split("/")[0])
    return Finding.error(
        "mixed-install", "certain" if meant else "likely",
        f"Both {now.name} {now.version} and {before.name} {before.version} bring the module {name}, and {now.name} "
        f"wrote over the files of {before.name}.",
        (Evidence(f"RECORD of {now.name} has this file as it is", clash.file),
         Evidence(f"RECORD of {before.name} has it otherwise: it was written over", before.metadata),
         *([meant] if meant else []), *what_broke(case)),
        pip.take_turns(case, now, f"{before.name}=={before.version}", "whose files it wrote over"))


def _clashes(case: Case, failure: Failure | None) -> Iterator[_Clash]:
    """Yield the failing files that one distribution has as they are, and another in the same folder otherwise."""
    for file in suspects(case, failure):
        now = case.distributions.of(file)
        row = case.distributions.record(now).row_of(file) if now is not None and not now.editable else None
        if now is None or row is None or case.distributions.record(now).difference(row):
            continue
        layer = next((x for x in case.modules.layers if x.path == now.location), None)
        shelf = case.distributions.metadata_in(layer) if layer is not None else None
        for other in shelf.bringing(top_level(row.split("/")[0])) if shelf is not None else ():
            theirs = case.distributions.record(other)
            if normal_name(other.name) != normal_name(now.name) and theirs.row_of(file) and theirs.difference(row):
                yield _Clash(file, now, other)


def _asked_for(case: Case) -> dict[str, Evidence]:
    """Return which distributions are asked for by name, and by whom: the project first, then what is installed."""
    found: dict[str, Evidence] = {}
    markers = case.distributions.markers
    project = case.distributions.project
    for declared in project.declared if project is not None else ():
        if applies(declared.requirement, markers):
            found.setdefault(declared.name, Evidence(f"the project asks for it: {declared.requirement}", declared.file,
                                                     declared.line))
    for distribution in case.distributions.all():
        for line in distribution.requires:
            if applies(line, markers):
                found.setdefault(normal_name(requirement_name(line)), Evidence(
                    f"{distribution.name} {distribution.version} declares: {line}", distribution.metadata))
    return found


def _by_table(case: Case, failure: Failure | None, clash: _Clash) -> Evidence | None:
    """Return what the table of names says, where it has the module for the one that was written over."""
    module = failure.top if failure is not None else top_level(case.obs.module)
    known = import_names.distribution_for(module)
    if known is None or normal_name(known) != normal_name(clash.before.name):
        return None
    return Evidence(f"{module} belongs to {known} in the table of well-known names that Kalyx ships")
