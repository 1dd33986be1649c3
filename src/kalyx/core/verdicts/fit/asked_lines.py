"""What a project's lines ask for of a distribution, put together; which of them count depends on the environment."""

from __future__ import annotations

from kalyx.core.facts.packaging.requirements import applies, are_compatible
from kalyx.core.lean.record import replace

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

    from kalyx.core.model import Need

__all__ = ["needs_at", "of_lines"]


def of_lines(need: Need) -> Need:
    """Return a need with the versions, the extras and the place that its lines ask for, all together.

    Where no version is in all of their bounds, and has the parts that code imports, the bounds of the lines stay.
    """
    specifiers = dict.fromkeys(line.specifier for line in need.lines if line.specifier)
    is_choice = all(line.is_optional for line in need.lines) and not are_compatible(specifiers)
    asked = "" if is_choice else ",".join(specifiers)
    parts = [part.specifier for part in need.parts]
    is_at_odds = not are_compatible([asked, *parts])
    specifier = asked if is_at_odds else ",".join(dict.fromkeys(filter(None, [asked, *parts])))
    places = tuple(place for place in need.asked_by if not place.text)
    return replace(need, specifier=specifier, asked_by=(*places, *(line.place for line in need.lines)),
                   extras=tuple(sorted({extra for line in need.lines for extra in line.extras})),
                   url=next((line.url for line in need.lines if line.url), ""), is_at_odds=is_at_odds)


def needs_at(needs: Iterable[Need], markers: Mapping[str, str]) -> list[Need]:
    """Return what is needed where the markers (PEP 508) have these values."""
    found = []
    for need in (_reached_at(need, markers) for need in needs):
        counting = tuple(line for line in need.lines if _holds(line.marker, markers))
        if counting or need.module is not None:
            found.append(need if counting == need.lines else of_lines(replace(need, lines=counting)))
    return found


def _reached_at(need: Need, markers: Mapping[str, str]) -> Need:
    """Return a need by those of its lines of code that run there; where none does, it is optional."""
    if not any(one.marker for line in need.only_where for one in line):
        return need
    running = [line for line in need.only_where if all(_holds(one.marker, markers) for one in line)]
    left = [tuple(one for one in line if not one.marker) for line in running]
    return replace(need, only_where=tuple(dict.fromkeys(left)) if all(left) else (),
                   optional=need.optional or not running)


def _holds(marker: str, markers: Mapping[str, str]) -> bool:
    return not marker or applies(f"x; {marker}", markers)
