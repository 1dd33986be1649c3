"""Which imports of a file run: by its Python and system, and by how what is tried before them went."""

from __future__ import annotations

from kalyx.core.facts.packaging.requirements import applies, marker_values
from kalyx.core.facts.source_code.imports import tried_in
from kalyx.core.lean.record import replace

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from kalyx.core.facts.source_code.imports import ImportedName
    from kalyx.core.model import Interpreter, Observation, Place

__all__ = ["imports_at", "without_fallbacks"]


def imports_at(imports: Iterable[ImportedName], interpreter: Interpreter | None, platform: str
               ) -> tuple[ImportedName, ...]:
    """Return imports, those as guarded that do not run with an interpreter on a platform, or where it is not known."""
    if interpreter is None or not interpreter.version:
        values = {}
    else:
        values = marker_values(interpreter.version, interpreter.implementation or "cpython", platform)
    return tuple(i if not i.marker or i.guard == "typing" or (values and applies(f"x; {i.marker}", values))
                 else replace(i, guard="try") for i in imports)


def without_fallbacks(files: Iterable[tuple[str, Sequence[ImportedName]]], asked: Mapping[str, tuple[Place, ...]],
                      seen: Mapping[str, Observation]) -> dict[str, tuple[Place, ...]]:
    """Mark an import of some files as guarded where the ``try`` that it depends on went the other way."""
    spared: set[tuple[str, int, int | None]] = set()
    for path, imports in files:
        for item in imports:
            if not all(_failed(tried_in(imports, item, tried), seen) == tried.fails for tried in item.only_where):
                spared.add((path, item.line, item.cell))
    return {request: tuple(replace(p, guard="try") if (p.path, p.line, p.cell) in spared else p
                           for p in places) for request, places in asked.items()}


def _failed(imports: Sequence[ImportedName], seen: Mapping[str, Observation]) -> bool:
    return any(seen[r].outcome != "imports" for i in imports for r in (i.module, i.request) if r in seen)
