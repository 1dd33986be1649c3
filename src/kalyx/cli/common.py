"""What the commands share: the machine, the seat finder, printing an answer."""

from __future__ import annotations

import argparse
import os
from collections.abc import Callable

from kalyx.core.facts.seats import SeatFinder
from kalyx.core.facts.wrappers import shell_environment
from kalyx.core.machine import RealMachine, own_command
from kalyx.core.model import Note
from kalyx.core.record import TYPE_CHECKING

if TYPE_CHECKING:
    from typing import Any

__all__ = ["finder_for", "print_answer"]

PROBE_FOLDER = os.path.join(os.path.dirname(os.path.dirname(os.path.abspath(__file__))), "probe")


def finder_for(folder: str | None, options: argparse.Namespace) -> SeatFinder:
    """Return a seat finder for a folder (the working folder when None)."""
    machine = RealMachine()
    env, notes = shell_environment(machine, PROBE_FOLDER)
    if notes:
        machine = RealMachine(env)
    limit = min(options.timeout or 10.0, 10.0)
    return SeatFinder(machine, folder or machine.cwd, PROBE_FOLDER, limit, notes=tuple(notes))


def print_answer(options: argparse.Namespace, status: str, result: Callable[[], dict[str, Any]],
                 lay_out: Callable[[Any], None], notes: tuple[Note, ...] = ()) -> str:
    """Print an answer as JSON or text; return its status."""
    if options.json:
        from kalyx.show.as_json import document

        print(document(options.command, status, result(), notes))
        return status
    from kalyx.show.page import Page
    from kalyx.show.write import Writer

    page = Page(os.path.expanduser("~"), os.name == "nt", own_command())
    lay_out(page)
    if options.quiet:
        page.lines = [line for line in page.lines if line.role.startswith("title")]
    Writer(color=options.color).write(page)
    return status
