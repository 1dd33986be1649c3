"""The machine that Kalyx runs on, with the variables of its shell; and what of it could not be read."""

from __future__ import annotations

import os

from kalyx.core.errors import ONLY_IN_PART
from kalyx.core.facts.interpreters.version_managers import shell_environment
from kalyx.core.machine.local import RealMachine
from kalyx.core.model import Note

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Mapping

__all__ = ["ASKING_LIMIT", "PROBE_FOLDER", "open_machine", "unread_notes"]

PROBE_FOLDER = os.path.join(os.path.dirname(os.path.dirname(os.path.dirname(os.path.abspath(__file__)))), "probe")
ASKING_LIMIT = 10.0  # seconds that an interpreter may take to say who it is
MOST_UNREAD = 20     # notes about what could not be read


def open_machine() -> tuple[RealMachine, tuple[Note, ...]]:
    """Return the machine that Kalyx runs on, and what is to be said of its variables."""
    machine = RealMachine()
    env, notes = shell_environment(machine, PROBE_FOLDER)
    return (RealMachine(env) if notes else machine), tuple(notes)


def unread_notes(troubles: Mapping[str, str], is_said: Callable[[str], bool]) -> list[Note]:
    """Say of what is there and could not be read why, path by path, but of what an answer says itself."""
    missing = [(path, why) for path, why in troubles.items() if why.startswith(ONLY_IN_PART) or not is_said(path)]
    notes = [Note("unread", f"{path} could be read {why}." if why.startswith(ONLY_IN_PART) else
                  f"{path} could not be read: {why}.", path) for path, why in missing[:MOST_UNREAD]]
    if len(missing) > MOST_UNREAD:
        notes.append(Note("unread", f"Nor could {len(missing) - MOST_UNREAD} other files and folders."))
    return notes
