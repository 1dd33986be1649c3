"""Which files of a large project are to be parsed, so that all together say what all files would.

Of many files that import the same, the first tells all there is to know, where it imports it in any case. The choice
is made by what files may import, as their texts tell, and then by what the first of them really import.
"""

from __future__ import annotations

from kalyx.core.lean.record import record
from kalyx.core.model import version_pair

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Hashable, Mapping, Sequence

    from kalyx.core.facts.source_code.code_needs import CodeNeeds
    from kalyx.core.facts.source_code.imports import ImportedName
    from kalyx.core.facts.source_code.scan import Scan

__all__ = ["Telling", "first_choice", "next_choice"]


@record
class Telling:
    """What counts of the files of a project.

    ``says`` gives what an import of a file, a module and a name or None, says of the needs of all; None where it says
    nothing, as it is of a module of one's own. ``is_firm`` tells whether one that was read says it in any case.
    ``counts`` tells whether a file has to run wherever the project does.
    """

    says: Callable[[str, str, str | None], Hashable | None]
    is_firm: Callable[[str, ImportedName], bool]
    counts: Callable[[str], bool]


def first_choice(paths: Sequence[str], scans: Mapping[str, Scan | None], parsed: Mapping[str, CodeNeeds],
                 telling: Telling) -> list[str]:
    """Return the files of which only a tree tells, and those that are the first to say something."""
    said: set[Hashable] = {None}
    for path, needs in parsed.items():
        said |= {telling.says(path, i.module, i.name) for i in needs.imports}
    chosen = []
    for path in (p for p in paths if p not in parsed):
        scan = scans.get(path)
        mine = {telling.says(path, module, name) for module, name, _ in scan.imports} if scan is not None else set()
        if scan is None or not mine <= said:
            chosen.append(path)
            said |= mine
    return chosen


def next_choice(paths: Sequence[str], scans: Mapping[str, Scan | None], parsed: Mapping[str, CodeNeeds],
                telling: Telling, most: int) -> list[str]:
    """Return the files that have to be parsed as well, now that some are; none where those tell all there is to know.

    What the parsed files say under a condition alone, or only in a comment, others may say in any case; and some may
    need a newer Python than what is known to be needed. Of each, the next `most` files that may are returned.
    """
    firm: set[Hashable] = {None}  # what is said in any case
    newest = (0, 0)
    for path, needs in parsed.items():
        firm |= {telling.says(path, i.module, i.name) for i in needs.imports if telling.is_firm(path, i)}
        if telling.counts(path):
            newest = max([newest, *(version_pair(b.version) for b in needs.bounds if b.is_oldest)])
    left = [(path, scan) for path in paths if path not in parsed and (scan := scans.get(path)) is not None]
    times: dict[Hashable, int] = {}
    chosen = []
    for path, scan in left:
        mine = {telling.says(path, module, name) for module, name, is_tried in scan.imports if not is_tried}
        for said in mine - firm:
            times[said] = times.get(said, 0) + 1
            if times[said] <= most:
                chosen.append(path)
    newer = sorted((version_pair(scan.newest), path) for path, scan in left
                   if version_pair(scan.newest) > newest and telling.counts(path))
    return list(dict.fromkeys([*chosen, *(path for _, path in newer[-most:])]))
