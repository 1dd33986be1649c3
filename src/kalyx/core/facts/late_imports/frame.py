"""Where reading stands: the names that are known, what is needed so far."""

from __future__ import annotations

from kalyx.core.facts.late_imports.values import UNKNOWN, Guarded, Need

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.late_imports.source_module import SourceModule
    from kalyx.core.facts.late_imports.values import Code, Value

__all__ = ["Frame", "one_of"]


def one_of(needs: Sequence[Need]) -> Need:
    """Return the need of whichever of these is met."""
    modules = tuple(dict.fromkeys(m for need in needs for m in need.modules))
    return Need(modules, needs[0].file, needs[0].line)


class Frame:
    """The state of reading one function, or the top of a file."""

    def __init__(self, module: SourceModule, code: Code | None = None) -> None:
        self.module = module
        self.code = code
        self.names: dict[str, Value] = {}
        self.needs: list[Need] = []
        self.returns: list[Value] = []
        self.ended = ""
        self.is_sure = True
        self.there: frozenset[str] = frozenset()  # modules that were asked for before the code came here
        self.without: list[tuple[str, Value]] = []  # what is given back where a module is absent
        self.instead: list[tuple[Need, int]] = []  # without these reading goes on; and how much was needed before

    def fork(self) -> Frame:
        """Return a frame that knows the same, and needs nothing yet."""
        other = Frame(self.module, self.code)
        other.names = dict(self.names)
        other.is_sure = self.is_sure
        other.there = self.there
        return other

    def add(self, need: Need) -> None:
        """Note what is needed, where it is sure that the code comes here."""
        if self.is_sure:
            self.needs.append(need)

    def take(self, other: Frame) -> None:
        """Go on from where a fork has come to."""
        self.names = other.names
        self.needs += other.needs if self.is_sure else []
        self.returns += other.returns
        self.is_sure = self.is_sure and other.is_sure
        self.there |= other.there
        self.without += other.without
        self.instead += [(need, len(self.needs)) for need, _ in other.instead]

    def settle(self, end: str) -> str:
        """Say what is needed of that without which reading went on, by what came of that; return how it ends."""
        for first, place in reversed(self.instead):
            later = self.needs[place:]
            del self.needs[place:]
            if end == "raises":
                self.needs.append(first)
                end = "returns"
            elif later:
                self.needs.append(one_of([first, later[0]]))
        self.instead = []
        return end

    def merge(self, others: Sequence[Frame]) -> None:
        """Know what all of these know alike."""
        first, *rest = others
        self.names = {name: value if all(o.names.get(name, UNKNOWN) == value for o in rest) else UNKNOWN
                      for name, value in first.names.items()}

    def remember(self, need: Need, there: Frame, absent: Frame) -> None:
        """Note in `there` which names depend on whether a module can be imported."""
        for name in {*there.names, *absent.names}:
            one, other = there.names.get(name, UNKNOWN), absent.names.get(name, UNKNOWN)
            if one != other:
                there.names[name] = Guarded(need.modules[0], other, one)
