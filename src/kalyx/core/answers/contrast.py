"""``contrast``: two environments, seats or lists of packages side by side, the differences that matter first."""

from __future__ import annotations

import re

from kalyx.core.answers.elsewhere import place_named
from kalyx.core.answers.put import read_installed, read_layers
from kalyx.core.errors import NothingToJudge, NotRecorded
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.packaging.direct_reference import reference_to
from kalyx.core.facts.packaging.package_lists import is_package_list, read_package_list
from kalyx.core.facts.packaging.requirements import marker_values
from kalyx.core.facts.seats.finder import find_seat
from kalyx.core.facts.source_code.needs import read_needs
from kalyx.core.facts.source_code.source_files import find_sources
from kalyx.core.lean.record import record, replace
from kalyx.core.model import Listed, Note, Place, Remedy, Side
from kalyx.core.model.names import OWN_TOOLS, normal_name, requirement_name
from kalyx.core.verdicts.contrast.brought_along import brought_along
from kalyx.core.verdicts.contrast.compare import compare, findings_of, left_out
from kalyx.core.verdicts.contrast.owners import Owners
from kalyx.core.verdicts.fit.own_modules import OwnModules
from kalyx.core.verdicts.seats.judge_seat import judge_seat

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from kalyx.core.answers.elsewhere import Elsewhere
    from kalyx.core.facts.files import Files
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.model import Contrasted, Distribution, Finding

__all__ = ["ContrastAnswer", "answer_contrast", "requirement_lines", "side_of_seat"]


@record
class ContrastAnswer:
    """Both sides and their differences. ``lines`` are asked for instead of it: what makes B like A."""

    a: Side
    b: Side
    differences: Contrasted
    findings: tuple[Finding, ...]
    remedies: tuple[Remedy, ...]
    notes: tuple[Note, ...] = ()
    as_requirements: bool = False

    @property
    def same_python(self) -> bool:
        """Whether both run the same version, or one has none to compare."""
        return self.a.python is None or self.b.python is None or self.a.python == self.b.python

    @property
    def same_platform(self) -> bool:
        """Whether both are on the same platform, or one has none to compare."""
        words = zip((self.a.platform or "").split(), (self.b.platform or "").split(), strict=False)
        return all(a == b for a, b in words)  # of some only the system is known, and not the processor

    @property
    def same(self) -> bool:
        """Whether nothing differs."""
        d = self.differences
        return self.same_python and self.same_platform and not (
            d.only_a or d.only_b or d.differ or d.path_only_a or d.path_only_b or d.variables)

    @property
    def status(self) -> str:
        """Whether they differ."""
        return "ok" if self.same or self.as_requirements else "problem"


def answer_contrast(context: SeatContext, a: str | Elsewhere, b: str | Elsewhere, *, as_requirements: bool = False
                    ) -> ContrastAnswer:
    """Hold two sides against each other: each by its name, or a place elsewhere. Nothing of them is run.

    Raises:
        NothingToJudge: one is not there, or cannot be told.
    """
    side_a, side_b = _sides(context, a, b)
    imported = _imported_here(context, side_a, side_b)
    found = compare(side_a, side_b, imported)
    findings = findings_of(side_a, side_b, found, imported)
    remedies = _remedies(context.machine, side_a, side_b, found)
    notes = [*context.notes, *_left_out(side_a, side_b), *_left_out(side_b, side_a), *_brought(side_a, side_b),
             *_brought(side_b, side_a)]
    return ContrastAnswer(side_a, side_b, found, tuple(findings), tuple(remedies), tuple(notes), as_requirements)


def _left_out(side: Side, other: Side) -> list[Note]:
    names = left_out(side, other)
    says = f"{side.label} lists packages of conda's that may be no Python, and were not compared: {_some(names)}."
    return [Note("not-compared", says, side.ref)] if names else []


def _brought(asked: Side, other: Side) -> list[Note]:
    names = sorted(other.listed[name].name for name in brought_along(asked, other) if name in other.listed)
    says = f"{other.label} has what {asked.label} brings along, too, which is no difference: {_some(names)}."
    return [Note("brought-along", says, asked.ref)] if names else []


def _some(names: Sequence[str], most: int = 8) -> str:
    return ", ".join(names[:most]) + (f" and {len(names) - most} more" if len(names) > most else "")


def _sides(context: SeatContext, a: str | Elsewhere, b: str | Elsewhere) -> tuple[Side, Side]:
    """Return both sides; of a list what is for the Python and system of the other, where that is no list."""
    m = context.machine
    if isinstance(a, str) and place_named(m, a, context.probe_folder) is None and is_package_list(m, a):
        side = _side(context, b)
        return read_package_list(m, a, side.markers), side
    side = _side(context, a)
    return side, _side(context, b, side.markers)


def _side(context: SeatContext, name: str | Elsewhere, markers: Mapping[str, str] | None = None) -> Side:
    m = context.machine
    place = place_named(m, name, context.probe_folder) if isinstance(name, str) else name
    if place is not None:
        try:
            side = side_of_seat(place.context, place.ref)
        except NotRecorded as error:
            raise NothingToJudge(f"What {place.hosts[0]} has cannot be told: {error.message}", error.hint) from None
        host = place.hosts[0]
        return replace(side, kind=place.kind, ref=place.ref if place.kind == "beacon" else f"snapshot:{host}",
                       label=host if place.kind == "beacon" else f"{side.label} on {host}")
    assert isinstance(name, str)
    if is_package_list(m, name):
        return read_package_list(m, name, markers or {})
    return side_of_seat(context, name)


def side_of_seat(context: SeatContext, name: str) -> Side:
    """Return a seat or environment as a side.

    Raises:
        NothingToJudge: it is not there, or what it can import cannot be told.
    """
    m = context.machine
    looking = context.beside(name).but(asks_when_read=False)
    facts = find_seat(looking, name)
    seat = judge_seat(facts, m, Neighbours(m, looking))
    interpreter = seat.interpreter
    if interpreter is None or not interpreter.works or seat.launch is None or facts.examined is None:
        found = next((f.because for f in seat.findings if f.is_problem), "it has no interpreter.")
        raise NothingToJudge(f"What {seat.ref} can import cannot be told: {(facts.why_untold or found).rstrip('.')}.",
                             "Name another seat.")
    layers = read_layers(looking, facts)
    installed = [d for d in read_installed(looking, facts) if d.hidden_by is None]
    listed = {normal_name(d.name): _listed(m, d) for d in installed}
    prefixes = tuple(p for p in (interpreter.prefix, interpreter.base_prefix) if p)
    platform = f"{m.platform} {m.processor()}".strip()
    return Side(seat.ref, "seat", seat.label, listed, interpreter.version, platform, prefixes,
                tuple(x.path for x in layers if x.layer in ("pythonpath", "user", "link", "other")),
                dict(seat.launch.env),
                marker_values(interpreter.version or "3", interpreter.implementation or "cpython", m.platform))


def _listed(files: Files, one: Distribution) -> Listed:
    where = reference_to(files, one)
    return Listed(one.name, one.version or None, origin=where.origin, asked_as=where.asked_as, whole=one,
                  requirement=where.line if where.origin else f"{one.name}=={one.version}")


def _imported_here(context: SeatContext, a: Side, b: Side) -> dict[str, Place]:
    """Return the distributions that the code of the folder imports, each with the first line that does."""
    m = context.machine
    files, _ = find_sources(m, context.folder)
    owners = Owners(m, (a, b))
    found: dict[str, Place] = {}
    own = OwnModules(m, [context.folder])
    for file in read_needs(m, files, context.folder):
        is_own = own.beside(file)
        for item in file.imports:
            if item.module.startswith(".") or is_own(item.module, item.name, owners.are_several):
                continue
            for name in owners.of(item.module, item.name):
                guard = item.guard or ("try" if item.marker else "")
                found.setdefault(name, Place(file.path, item.line, item.cell, guard))
    return found


def requirement_lines(answer: ContrastAnswer) -> list[str]:
    """Return the lines that pip takes to make B like A; what is in B alone stands in comments."""
    changed = {normal_name(d.name) for d in answer.differences.differ}
    wanted = [*answer.differences.only_a, *(d for n, d in sorted(answer.a.listed.items()) if n in changed)]
    lines = [_line(d) if _is_one_line(d) else f"# {d.name}: where it is from cannot be written in a line"
             for one in wanted for d in one.either or (one,)
             if normal_name(d.name) not in OWN_TOOLS or d.version is None]
    alone = [f"# in {answer.b.label} alone: {d.name} {d.shown}" for d in answer.differences.only_b
             if normal_name(d.name) not in OWN_TOOLS]
    return [*lines, *alone]


def _is_one_line(one: Listed) -> bool:
    """Whether what gives a distribution again is one line, and nothing in it says more to pip than that."""
    says = one.requirement
    is_told = requirement_name(one.name) == one.name and bool(says or one.specifier or not one.origin)
    return is_told and says.isprintable() and not re.search(r"\s--?\w", says)


def _line(one: Listed) -> str:
    marker = f"; {one.marker}" if one.marker and ";" not in one.requirement else ""
    return (one.requirement or f"{one.name}{one.specifier}") + marker


def _remedies(files: Files, a: Side, b: Side, found: Contrasted) -> list[Remedy]:
    """Return the command that brings B what A has."""
    changed = {normal_name(d.name) for d in found.differ}
    wanted = [d for one in (*found.only_a, *(d for n, d in a.listed.items() if n in changed))
              for d in one.either or (one,) if normal_name(d.name) not in OWN_TOOLS and _is_one_line(d)]
    lines = [_line(d) for d in wanted]
    if b.kind != "seat" or not lines or any(line.startswith("-") for line in lines):
        return []
    return [Remedy(f"Put into {b.label} what {a.label} has.", "command", undoable=True,
                   argv=(*files.own_command, "put", *lines, "--at", b.ref),
                   changes=f"adds or changes {len(lines)} distribution{'s' if len(lines) != 1 else ''} in {b.label}")]
