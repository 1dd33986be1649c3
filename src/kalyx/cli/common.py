"""What the commands share: the machine, the seat finder, printing an answer."""

from __future__ import annotations

import argparse
import os
import sys

from kalyx.cli.options import print_error
from kalyx.core.facts.seats import SeatFinder
from kalyx.core.facts.wrappers import shell_environment
from kalyx.core.real_machine import RealMachine, own_command
from kalyx.core.record import TYPE_CHECKING

if TYPE_CHECKING:
    from typing import Any

__all__ = ["finder_for", "load_pages", "print_answer", "progress"]

PROBE_FOLDER = os.path.join(os.path.dirname(os.path.dirname(os.path.abspath(__file__))), "probe")


def finder_for(folder: str | None, options: argparse.Namespace) -> SeatFinder:
    """Return a seat finder for a folder (the working folder when None)."""
    machine = RealMachine()
    env, notes = shell_environment(machine, PROBE_FOLDER)
    if notes:
        machine = RealMachine(env)
    limit = min(options.timeout or 10.0, 10.0)
    return SeatFinder(machine, folder or machine.cwd, PROBE_FOLDER, limit, notes=tuple(notes))


def progress(text: str) -> None:
    """Say on standard error what takes a while, where somebody is watching."""
    if sys.stderr.isatty():
        print_error(text.replace(os.path.expanduser("~") + os.sep, "~" + os.sep))


def load_pages(options: argparse.Namespace, pages: str = "as_text") -> None:
    """Load what will print the answer, where there is time for it."""
    if options.json:
        from kalyx.show import as_json  # noqa: F401
    else:
        for name in (pages, "page", "write"):
            __import__(f"kalyx.show.{name}")


def print_answer(options: argparse.Namespace, answer: Any, *, pages: str = "as_text",
                 what: str = "") -> str:
    """Print a command's answer as JSON or text; return its status.

    The functions are found by the command's name, or by `what` where it has
    several answers: ``NAME_result`` in `kalyx.show.as_json`, ``NAME_page`` in
    the module of `pages`.
    """
    name, notes = what or options.command, getattr(answer, "notes", ())
    if options.json:
        from kalyx.show import as_json

        result = getattr(as_json, f"{name}_result")(answer)
        print(as_json.document(options.command, answer.status, result, notes))
        return str(answer.status)
    from kalyx.show.page import Page
    from kalyx.show.write import Writer

    page = Page(os.path.expanduser("~"), os.name == "nt", own_command())
    lay_out = getattr(__import__(f"kalyx.show.{pages}", fromlist=[name]), f"{name}_page")
    lay_out(page, answer, verbose=options.verbose)
    if options.quiet:
        page.lines = [line for line in page.lines if line.role.startswith("title")]
    Writer(color=options.color).write(page)
    return str(answer.status)
