"""Places elsewhere: a snapshot that was taken there, or what a beacon printed there. Nothing is run for any of them."""

from __future__ import annotations

import sys

from kalyx.core.answers.snapshots import is_snapshot, open_snapshot
from kalyx.core.carried.beacon import LEFT, block_of, told_by
from kalyx.core.carried.blocks import find_blocks
from kalyx.core.errors import NothingToJudge, Unreadable
from kalyx.core.facts.interpreters.environment import environment_of
from kalyx.core.facts.interpreters.examiner import Examined
from kalyx.core.facts.interpreters.pyvenv import find_venv_config
from kalyx.core.facts.seats.context import SeatContext, SeatFacts
from kalyx.core.facts.text_encoding import decode_text
from kalyx.core.lean.record import record
from kalyx.core.model import Launch, Note, Seat, TrailStep
from kalyx.core.verdicts.known import as_known

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from kalyx.core.carried.beacon import Told
    from kalyx.core.machine.interface import Machine
    from kalyx.core.model import Observation

__all__ = ["Elsewhere", "of_host", "place_named", "places_in", "read_told"]

BEGINS = "kalyx beacon"
TEXT_LIMIT = 64 * 1024 * 1024  # bytes


@record
class Elsewhere:
    """A place elsewhere. ``hosts`` are those that told the very same; ``observations`` are a beacon's, by request."""

    kind: str  # snapshot or beacon
    hosts: tuple[str, ...]
    ref: str
    context: SeatContext
    observations: Mapping[str, Observation] | None = None
    asked: tuple[str, ...] = ()  # the imports that were tried there


def read_told(machine: Machine, name: str) -> str:
    """Read a text that tells of places elsewhere; ``-`` is what is piped in.

    Raises:
        NothingToJudge: it cannot be read, or is too large.
    """
    if name == "-":
        data = sys.stdin.buffer.read(TEXT_LIMIT + 1)
        if len(data) > TEXT_LIMIT:
            raise NothingToJudge(f"What was piped in has more than {TEXT_LIMIT // 1_000_000} MB.", "Pipe in less.")
        return decode_text(data)
    try:
        return decode_text(machine.read_whole(machine.absolute(name), TEXT_LIMIT))
    except Unreadable as error:
        raise NothingToJudge(f"{name} cannot be read: {error.reason}.",
                             "Name a snapshot, a text with a beacon's block, or - for standard input.") from None


def places_in(text: str, name: str, probe_folder: str) -> tuple[list[Elsewhere], list[Note]]:
    """Return the places that a text tells of, and notes: when that was, or what of it could not be read.

    Raises:
        NothingToJudge: there is nothing in it, or nothing of it is whole.
    """
    if is_snapshot(text):
        found = open_snapshot(text, name, probe_folder)
        said = Note("snapshot-of", f"This is how {found.host} was when the snapshot was taken, {found.taken}.", name)
        return [Elsewhere("snapshot", (found.host,), found.ref, found.context, asked=found.asked)], [said]
    notes: list[Note] = []
    facts: dict[str, Told] = {}
    hosts: dict[str, list[str]] = {}
    blocks = find_blocks(text)
    for number, block in enumerate(blocks, 1):
        which = f"Block {number} of {len(blocks)} in {name}" if len(blocks) > 1 else f"The block in {name}"
        if block.damage:
            notes.append(Note("beacon-damaged", f"{which} is damaged: {block.damage}.", name))
            continue
        same = block_of(block.facts)
        try:
            told = facts[same] if same in facts else told_by(block.facts, probe_folder)
        except (ValueError, TypeError, RecursionError) as error:
            notes.append(Note("beacon-damaged", f"{which} tells what no beacon does: {error}.", name))
            continue
        facts[same] = told
        host = block.facts.get("host")
        hosts.setdefault(same, []).append(host if isinstance(host, str) and host else told.host)
    if not facts:
        raise NothingToJudge(_nothing(name, notes), "Have it printed again: kalyx beacon prints the cell.")
    places = [_place(facts[same], tuple(hosts[same]), probe_folder) for same in facts]
    notes += [Note("beacon-cut", f"The block of {p.hosts[0]} had no room for {_and(told.left)}.", name)
              for p, told in zip(places, facts.values(), strict=True) if told.left]
    return places, notes


def _and(left: Sequence[str]) -> str:
    words = [LEFT[word] for word in left if word in LEFT]
    return " and ".join(filter(None, [", ".join(words[:-1]), *words[-1:]]))


def _nothing(name: str, notes: Sequence[Note]) -> str:
    if not notes:
        return f"{name} holds no block that a beacon printed, and is no snapshot."
    several = f"None of the {len(notes)} blocks in {name} is whole: " if len(notes) > 1 else ""
    return several + notes[0].message


def _place(told: Told, hosts: tuple[str, ...], probe_folder: str) -> Elsewhere:
    """Return a place of what a beacon told; its one seat is the Python that ran it."""
    m, python = told.machine, told.python
    first = python.path[0] if python.path else None
    start = first if first and not m.is_within(first, python.base_prefix) and not m.is_within(
        first, python.prefix) else ""
    launch = Launch((python.executable,), m.env, python.cwd, start)
    steps = (TrailStep(1, f"a beacon was run by {python.executable}", None, None, python.executable),)
    environment = as_known(m, lambda: environment_of(m, told.interpreter), None)
    seat = Seat(f"beacon:{hosts[0]}", "beacon", hosts[0], told.interpreter, environment, steps, launch=launch)
    config = as_known(m, lambda: find_venv_config(m, python.executable), None)
    examined = Examined(told.interpreter, steps, config)
    context = SeatContext(m, python.cwd or "/", probe_folder, given=SeatFacts(seat, examined, ran=python))
    return Elsewhere("beacon", hosts, seat.ref, context, told.observations, tuple(told.observations))


def place_named(machine: Machine, name: str, probe_folder: str) -> Elsewhere | None:
    """Return the one place that a file tells of; None where a word names no file that does.

    Raises:
        NothingToJudge: it is damaged, or tells of several.
    """
    if not machine.is_file(machine.absolute(name)):
        return None
    text = read_told(machine, name) if _may_tell(machine, name) else ""
    if not is_snapshot(text) and BEGINS not in text:
        return None
    return of_host(places_in(text, name, probe_folder)[0], None)


def _may_tell(machine: Machine, name: str) -> bool:
    """Whether a file is worth reading for that: any text but one whose name says that it is something else."""
    return not name.lower().endswith((".py", ".toml", ".lock", ".yml", ".yaml", ".cfg", ".in"))


def of_host(places: Sequence[Elsewhere], host: str | None) -> Elsewhere:
    """Return the one place that a host's name means; without a name, the only one that there is.

    Raises:
        NothingToJudge: there is none of that name, or there are several and none is named.
    """
    if host is None and len(places) == 1:
        return places[0]
    found = [p for p in places if host is not None and host in p.hosts]
    if len(found) == 1:
        return found[0]
    known = ", ".join(dict.fromkeys(h for p in places for h in p.hosts))
    if host is None:
        raise NothingToJudge(f"{len(places)} places tell different things.", f"Name one with --host: {known}.")
    raise NothingToJudge(f"There is no host {host!r} among those that told something." if not found else
                         f"{host} told {len(found)} different things.", f"There are {known}.")
