"""``here``, ``why`` and ``packages`` of places elsewhere: judged by what was recorded or told there.

Places that say the same are one. What was neither recorded nor told is "could not find out".
"""

from __future__ import annotations

from kalyx.core.answers.here import HereAnswer, answer_here
from kalyx.core.answers.packages import answer_packages
from kalyx.core.answers.why.module import WhyAnswer, answer_why, explain, parse_request
from kalyx.core.answers.why.without_running import answer_without_run
from kalyx.core.errors import KalyxError, NotRecorded, WrongUsage
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.lean.record import record, replace
from kalyx.core.model import Agreement, ImportReport, Note, Places, hosts_label
from kalyx.core.verdicts.known import report_unknown
from kalyx.core.verdicts.seats.judge_seat import judge_seat

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence
    from typing import Any

    from kalyx.core.answers.elsewhere import Elsewhere
    from kalyx.core.answers.packages import PackagesAnswer
    from kalyx.core.model import Finding, Observation, Seat

__all__ = ["ElsewhereAnswer", "here_elsewhere", "packages_elsewhere", "why_elsewhere"]

LIMIT = 60.0  # seconds; nothing is waited for, as nothing is run


@record
class ElsewhereAnswer:
    """The answers of places: each with the hosts that gave it, the most frequent first."""

    command: str
    answers: tuple[tuple[Places, HereAnswer | WhyAnswer | PackagesAnswer], ...]
    notes: tuple[Note, ...] = ()

    @property
    def status(self) -> str:
        """Whether anything is wrong anywhere; ``unknown`` where nothing is, and something could not be found out."""
        found = {answer.status for _, answer in self.answers}
        return next((s for s in ("problem", "unknown") if s in found), "ok" if found else "unknown")

    @property
    def places(self) -> tuple[Places, ...]:
        """Who said what, in the order of the answers."""
        return tuple(places for places, _ in self.answers)


def here_elsewhere(places: Sequence[Elsewhere], notes: Sequence[Note] = ()) -> ElsewhereAnswer:
    """Judge the seats of each place."""
    def answer(place: Elsewhere) -> HereAnswer:
        if place.kind == "snapshot":
            return answer_here(place.context)
        seat = _judged(place)
        agreement = Agreement(True, ((seat.ref,),)) if seat.environment else Agreement(None)
        return HereAnswer(place.context.folder, (seat,), agreement, ())

    return _grouped("here", places, answer, lambda a: [_seat_key(s) for s in a.seats], notes)


def packages_elsewhere(place: Elsewhere, at: str | None, notes: Sequence[Note], **more: object) -> ElsewhereAnswer:
    """Say what the seat of a place can import; `more` as `answer_packages` takes it.

    Raises:
        NothingToJudge: there is no such seat.
        NotRecorded: what it takes was neither recorded nor told.
    """
    answer = answer_packages(place.context, at or place.ref, **more)  # type: ignore[arg-type]
    hosts = list(place.hosts)
    places = Places(hosts[0], hosts_label(hosts), len(hosts))
    return ElsewhereAnswer("packages", ((places, replace(answer, notes=())),), (*notes, *answer.notes))


def why_elsewhere(places: Sequence[Elsewhere], requests: Sequence[str], at: str | None,
                  notes: Sequence[Note] = ()) -> ElsewhereAnswer:
    """Explain imports at each place; without `requests` all that were tried there.

    Raises:
        WrongUsage: nothing is asked for, or a request is no module name.
    """
    for request in requests:
        parse_request(request)
    if not requests and not any(p.asked for p in places):
        raise WrongUsage("Name a module: none was imported there.", "kalyx why pandas --from FILE")
    return _grouped("why", places, lambda p: _why(p, list(requests or p.asked), at), _why_key, notes)


def _why(place: Elsewhere, requests: Sequence[str], at: str | None) -> WhyAnswer:
    found = [_observed(place, r, at) or _read(place, r, at) for r in requests]
    notes = tuple(dict.fromkeys(n for answer in found for n in answer.notes))
    return WhyAnswer(found[0].seat, tuple(r for answer in found for r in answer.imports), notes)


def _observed(place: Elsewhere, request: str, at: str | None) -> WhyAnswer | None:
    """Explain an import that was tried there; None where it was not."""
    if place.kind == "snapshot":
        try:
            return answer_why(place.context, [request], at or place.ref, LIMIT)
        except NotRecorded:
            return None
    seen = (place.observations or {}).get(":".join(filter(None, parse_request(request))))
    facts = place.context.given
    if seen is None or facts is None:
        return None
    facts = replace(facts, seat=_judged(place))
    try:
        report = explain(place.context, facts, parse_request(request), seen, Neighbours(place.context.machine))
    except NotRecorded as unknown:
        report_unknown(place.context.machine, unknown)
        report = _seen_alone(facts.seat, seen)
    return WhyAnswer(facts.seat, (_for_elsewhere(report),))


def _seen_alone(seat: Seat, seen: Observation) -> ImportReport:
    """Return what an import did, where no more can be told of it."""
    error = {"type": seen.error.type, "message": seen.error.message} if seen.error else None
    return ImportReport(seen.module, seen.name, seat.ref, seat.interpreter,
                        "imports" if seen.outcome == "imports" else "fails", error, seen.origin)


def _read(place: Elsewhere, request: str, at: str | None) -> WhyAnswer:
    """Say what the rest tells of an import that was not tried there."""
    module, name = parse_request(request)
    how = f"kalyx beacon {request}" if place.kind == "beacon" else f"kalyx snapshot --why {request}"
    note = Note("not-observed", f"{request} was not imported on {place.hosts[0]}; {how} has it tried there.")
    try:
        answer = answer_without_run(place.context, [request], at or place.ref)
        return replace(answer, imports=tuple(map(_for_elsewhere, answer.imports)), notes=(note,))
    except NotRecorded:
        seat = place.context.given.seat if place.context.given else _seat_of(place, at)
        return WhyAnswer(seat, (ImportReport(module, name, seat.ref, seat.interpreter, "unknown"),), (note,))


def _seat_of(place: Elsewhere, at: str | None) -> Seat:
    from kalyx.core.facts.seats.finder import find_seat

    return find_seat(place.context, at or place.ref).seat


def _judged(place: Elsewhere) -> Seat:
    facts = place.context.given
    assert facts is not None
    return judge_seat(facts, place.context.machine, Neighbours(place.context.machine))


def _for_elsewhere(report: ImportReport) -> ImportReport:
    """Return a report whose remedies are for a machine on which Kalyx may not be."""
    return replace(report, causes=tuple(_without_own_commands(f) for f in report.causes))


def _without_own_commands(finding: Finding) -> Finding:
    """Say of remedies that are Kalyx's own commands that they are to be carried out there."""
    return replace(finding, remedies=tuple(
        replace(r, kind="manual", argv=(), do=f"{r.do.rstrip('.')}, with Kalyx installed there.")
        if r.argv[:1] == ("kalyx",) else r for r in finding.remedies))


# -- which say the same ------------------------------------------------------------------------
def _grouped(command: str, places: Sequence[Elsewhere], answer: Callable[[Elsewhere], Any],
             key: Callable[..., object], notes: Sequence[Note]) -> ElsewhereAnswer:
    groups: dict[str, tuple[Any, list[str]]] = {}
    for place in places:
        try:
            found = answer(place)
        except KalyxError as error:
            notes = (*notes, Note("not-told", f"{hosts_label(list(place.hosts))}: {error.message}"))
            continue
        notes = (*notes, *(n for n in found.notes if n not in notes))
        same = repr((place.kind, key(found)))
        groups.setdefault(same, (replace(found, notes=()), []))[1].extend(place.hosts)
    ordered = sorted(groups.values(), key=lambda g: -len(g[1]))
    return ElsewhereAnswer(command, tuple((Places(hosts[0], hosts_label(hosts), len(hosts)), found)
                                 for found, hosts in ordered), tuple(notes))


def _seat_key(seat: Seat) -> object:
    return (seat.interpreter, seat.environment.path if seat.environment else None,
            [f.because for f in seat.all_findings])


def _why_key(answer: WhyAnswer) -> object:
    return [(r.request, r.outcome, r.error, r.origin, r.interpreter, r.distribution.version if r.distribution else None,
             [(c.cause, c.because) for c in r.causes]) for r in answer.imports]
