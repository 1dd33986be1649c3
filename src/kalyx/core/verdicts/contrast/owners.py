"""Whose a module is that code imports: by what the distributions of two sides list, else by the table."""

from __future__ import annotations

from functools import cache

from kalyx.core.errors import NotRecorded
from kalyx.core.facts.packaging.record_file import Record
from kalyx.core.model.names import normal_name
from kalyx.core.tables.import_names import distribution_for, is_shared

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    from kalyx.core.facts.files import Files
    from kalyx.core.model import Distribution, Side

__all__ = ["Owners"]


class Owners:
    """The distributions of some sides, by the modules that they bring."""

    def __init__(self, files: Files, sides: Iterable[Side]) -> None:
        self._files = files
        self._listed: set[str] = set()
        self._by_module: dict[str, list[Distribution]] = {}
        for one in (d for side in sides for d in side.listed.values()):
            self._listed.add(normal_name(one.name))
            for module in one.whole.modules if one.whole else ():
                self._by_module.setdefault(module, []).append(one.whole)  # type: ignore[arg-type]  # it is there
        self.of = cache(self._of)

    def are_several(self, name: str) -> bool:
        """Whether a top-level name is shared by distributions, each with a part of it (PEP 420)."""
        return is_shared(name) or len({normal_name(d.name) for d in self._by_module.get(name, ())}) > 1

    def _of(self, module: str, name: str | None) -> Sequence[str]:
        """Return the names, in the form that compares, of what brings a module, or the module `name` in it."""
        top = module.partition(".")[0]
        there = self._by_module.get(top, ())
        if not self.are_several(top) and there:
            return [normal_name(there[0].name)]
        parts = {normal_name(d.name): self._part_of(d, module, name) for d in there}
        most = max(parts.values(), default=0)
        if most:
            return sorted(n for n, count in parts.items() if count == most)
        # a list, or files that are not known here
        known = distribution_for(module) or distribution_for(f"{module}.{name}" if name else module) or top
        return sorted({normal_name(known)} & self._listed)

    def _part_of(self, one: Distribution, module: str, name: str | None) -> int:
        try:
            return Record(self._files, one).part_of(module, name)
        except NotRecorded:
            return 0
