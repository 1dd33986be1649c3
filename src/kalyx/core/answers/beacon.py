"""``beacon``: a program that says elsewhere what Kalyx has to know, and running it there through other commands."""

from __future__ import annotations

import os
import shlex

from kalyx.core.answers.why.module import parse_request
from kalyx.core.errors import WrongUsage
from kalyx.core.lean.record import record
from kalyx.core.model import Note

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.machine.interface import Machine
    from kalyx.core.machine.results import RunResult

__all__ = ["BeaconAnswer", "beacon_cell", "run_through"]

NOTHING_ASKED = "    ASKED = []\n"
MOST_SHOWN = 200  # characters of a complaint


@record
class BeaconAnswer:
    """The cell, and what it will import."""

    cell: str
    modules: tuple[str, ...]
    notes: tuple[Note, ...] = ()

    @property
    def status(self) -> str:
        """Always ``ok``."""
        return "ok"


def beacon_cell(probe_folder: str, modules: Sequence[str]) -> BeaconAnswer:
    """Return the cell that tries some imports.

    Raises:
        WrongUsage: one is no module's name.
    """
    wanted = [":".join(filter(None, parse_request(m))) for m in modules]
    with open(os.path.join(probe_folder, "beacon.py"), encoding="ascii") as file:
        cell = file.read()
    assert cell.count(NOTHING_ASKED) == 1
    asked = NOTHING_ASKED.replace("[]", f"[{', '.join(map(_quoted, dict.fromkeys(wanted)))}]")
    return BeaconAnswer(cell.replace(NOTHING_ASKED, asked), tuple(wanted))


def _quoted(name: str) -> str:
    """Return a name as a string of Python in ASCII, which version 2 reads too."""
    return '"' + name.encode("ascii", "backslashreplace").decode("ascii") + '"'


def run_through(machine: Machine, commands: Sequence[str], cell: str, limit: float) -> tuple[str, list[Note]]:
    """Run a cell through commands, each of which starts Python somewhere; return all that was printed, and notes.

    Raises:
        WrongUsage: a command cannot be split into words, or is empty.
    """
    words = [_words(command, machine.platform) for command in commands]
    results = machine.feed(words, cell.encode("ascii"), limit)
    notes = [note for command, ran in zip(commands, results, strict=True) if (note := _trouble(command, ran, limit))]
    return "\n".join(ran.text() for ran in results), notes


def _words(command: str, platform: str) -> list[str]:
    try:
        words = shlex.split(command, posix=platform != "win32")
    except ValueError as error:
        raise WrongUsage(f"--through {command!r} cannot be split into words: {error}.", "Close its quotes.") from None
    if not words:
        raise WrongUsage("--through needs a command.", "--through 'ssh node7 python3 -'")
    return [w[1:-1] if platform == "win32" and len(w) > 1 and w[0] == w[-1] == '"' else w for w in words]


def _trouble(command: str, ran: RunResult, limit: float) -> Note | None:
    """Say what became of a command that did not end well, or of which nothing came back."""
    answered = b"[kalyx beacon" in ran.out
    if ran.status is None:
        says = f"could not be started: {ran.why_not}"
    elif ran.timed_out:
        says = f"had not ended after {limit:g} s" + ("; what came until then was read" if answered else "")
    elif ran.status != 0 or not answered:
        how = f"ended with status {ran.status}" if ran.status else "ended, and no beacon's block came back"
        says = how + (f": {_complaint(ran)}" if _complaint(ran) else "")
        if not answered and ran.status:
            says += "; no beacon's block came back"
    else:
        return None
    return Note("through-failed", f"{command} {says}.")


def _complaint(ran: RunResult) -> str:
    """Return what a command said last: to standard error, else to standard output."""
    said = ran.complaint() or next((x for x in reversed(ran.text().split("\n")) if x.strip()), "")
    return said.strip()[:MOST_SHOWN].rstrip(".") if "kalyx beacon" not in said else ""
