"""What an installation breaks without a word in metadata: imports that worked, parts built for another version."""

from __future__ import annotations

from kalyx.core.answers.why.module import explain
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.imports.trial import observe_imports
from kalyx.core.facts.search_path.modules import EXTENSION
from kalyx.core.lean.record import record
from kalyx.core.model import Evidence, Finding, Remedy, version_pair
from kalyx.core.model.names import normal_name, requirement_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.seats.context import SeatContext, SeatFacts
    from kalyx.core.model import Distribution, Observation

__all__ = ["Step", "broken_now", "built_for_older", "dependents_of", "try_imports"]

MOST_TRIED = 30  # modules
IMPORT_LIMIT = 60.0  # seconds, for all of them
MOST_READ = 64 * 1024 * 1024  # bytes of a compiled part
# The module by which compiled parts ask for numpy's C interface, as numpy 2 calls it and as numpy 1 did
_OF_2, _OF_1 = b"numpy._core._multiarray_umath", b"numpy.core._multiarray_umath"


@record
class Step:
    """One distribution that an installation would change.

    ``action`` is added, upgraded, downgraded or replaced.
    """

    name: str
    action: str
    before: str | None
    after: str


def dependents_of(before: Sequence[Distribution], steps: Sequence[Step]) -> list[str]:
    """Return a module of each distribution that requires something which would be replaced by another version."""
    changed = {normal_name(s.name) for s in steps if s.before is not None and s.before != s.after}
    found = [d for d in before if d.hidden_by is None and normal_name(d.name) not in changed
             and any(normal_name(requirement_name(r)) in changed for r in d.requires)]
    modules = [next((m for m in d.modules if not m.startswith("_")), "") for d in found]
    return [m for m in modules if m][:MOST_TRIED]


def try_imports(context: SeatContext, facts: SeatFacts, modules: Sequence[str]) -> Mapping[str, Observation]:
    """Try the imports of modules at a seat, in a child of its own; nothing where it cannot be started."""
    if not modules or facts.seat.launch is None:
        return {}
    return observe_imports(context.machine, facts.seat.launch, facts.seat.interpreter, context.examiner.probe_folder,
                           modules, IMPORT_LIMIT)


def broken_now(context: SeatContext, facts: SeatFacts, before: Mapping[str, Observation]) -> list[Finding]:
    """Return why modules that could be imported before cannot be imported now."""
    worked = [m for m, seen in before.items() if seen.outcome == "imports"]
    after = try_imports(context, facts, worked)
    found: list[Finding] = []
    neighbours = Neighbours(context.machine, context)
    for module in worked:
        seen = after.get(module)
        if seen is not None and seen.outcome != "imports":
            found += explain(context, facts, (module, None), seen, neighbours).causes[:1]
    return found


def built_for_older(files: Files, before: Sequence[Distribution], steps: Sequence[Step]) -> list[Finding]:
    """Return the distributions whose compiled parts were built for numpy 1, where numpy 2 would come; their metadata
    often does not say so.
    """
    step = next((s for s in steps if normal_name(s.name) == "numpy" and version_pair(s.after)[0] >= 2), None)
    if step is None or version_pair(step.before)[0] >= 2:
        return []
    replaced = {normal_name(s.name) for s in steps}
    found: list[Finding] = []
    for d in before:
        part = _part_for_1(files, d) if d.hidden_by is None and normal_name(d.name) not in replaced else None
        if part is not None:
            found.append(Finding.warning(
                "binary-mismatch", "certain",
                f"{d.name} {d.version} was built for numpy 1, and numpy {step.after} would be installed.",
                (Evidence("this compiled part asks for numpy's C interface by its name in numpy 1 alone", part),
                 Evidence(f"pip would install numpy {step.after}")),
                (Remedy("Ask for numpy<2 as well, or for a newer version of that package.", "manual",
                        changes="what is asked for"),)))
    return found


def _part_for_1(files: Files, distribution: Distribution) -> str | None:
    """Return a compiled part of a distribution that knows numpy's C interface by its old name alone."""
    from kalyx.core.errors import Unreadable
    from kalyx.core.facts.packaging.record_file import Record

    if not any(normal_name(requirement_name(r)) == "numpy" for r in distribution.requires):
        return None
    record = Record(files, distribution)
    for row in record.code:
        if EXTENSION.match(row.rpartition("/")[2]):
            try:
                data = files.read_bytes(record.absolute(row), MOST_READ)
            except Unreadable:
                continue
            if _OF_1 in data and _OF_2 not in data:
                return record.absolute(row)
    return None
