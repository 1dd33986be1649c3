"""What the commands share: the machine, the seat context, printing an answer."""

from __future__ import annotations

import os
import sys

from kalyx.cli.options import print_error, printing
from kalyx.cli.within import asked_within
from kalyx.core.answers.this_machine import ASKING_LIMIT, PROBE_FOLDER, open_machine, unread_notes
from kalyx.core.errors import NOT_RECORDED
from kalyx.core.facts.seats.context import SeatContext
from kalyx.core.lean.record import replace
from kalyx.core.machine.local import RealMachine, own_command
from kalyx.core.quoting import name_of_shell

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse
    from collections.abc import Sequence
    from typing import Any

    from kalyx.core.machine.interface import Machine
    from kalyx.core.model import Note

__all__ = ["PROBE_FOLDER", "asking_limit", "context_for", "load_pages", "looked_at", "print_answer", "print_document",
           "progress", "this_machine"]


def context_for(folder: str | None, options: argparse.Namespace, **more: Any) -> SeatContext:
    """Return what finding seats needs, seen from a folder (the working folder when None)."""
    machine, notes = this_machine()
    context = SeatContext(machine, folder or machine.cwd, PROBE_FOLDER, asking_limit(options), notes=notes, **more)
    asked = asked_within()
    return context if asked is None else asked.context(context)


def this_machine() -> tuple[RealMachine, tuple[Note, ...]]:
    """Return the machine that Kalyx runs on, and what is to be said of its variables."""
    machine, notes = open_machine()
    looked_at(machine)
    return machine, notes


def asking_limit(options: argparse.Namespace) -> float:
    """Return the seconds that an interpreter may take to say who it is."""
    return min(options.timeout or ASKING_LIMIT, ASKING_LIMIT)


def looked_at(machine: Machine) -> None:
    """Have what could not be read of a machine said beside the answer."""
    _looked_at.append(machine)


_looked_at: list[Machine] = []
MOST_SHOWN = 3  # things that were not recorded


def with_unread(answer: Any, name: str) -> Any:
    """Return an answer with a note for what is there and could not be read, unless it says so itself."""
    troubles = {path: why for machine in _looked_at for path, why in machine.troubles.items()}
    unknown = [question for question, why in troubles.items() if why == NOT_RECORDED]
    if unknown and hasattr(answer, "notes"):
        answer = replace(answer, notes=(*answer.notes, not_recorded(unknown)))
        troubles = {path: why for path, why in troubles.items() if why != NOT_RECORDED}
    if not troubles or not hasattr(answer, "notes"):
        return answer
    from kalyx.show import as_json

    result = getattr(as_json, f"{name}_result")(answer)
    said = as_json.document(name, answer.status, result, answer.notes)
    notes = unread_notes(troubles, lambda path: as_json.quoted(path) in said)
    return replace(answer, notes=(*answer.notes, *notes))


def not_recorded(questions: Sequence[str]) -> Note:
    """Say what of a machine elsewhere could not be found out."""
    from kalyx.core.model import Note

    more = f", and {len(questions) - MOST_SHOWN} more" if len(questions) > MOST_SHOWN else ""
    return Note("not-recorded", f"Not known of the other machine, and left out of what is judged: "
                f"{'; '.join(questions[:MOST_SHOWN])}{more}.")


def progress(text: str) -> None:
    """Say on standard error what takes a while, where somebody is watching."""
    if sys.stderr.isatty():
        from kalyx.show.page import clean

        print_error(clean(text.replace(os.path.expanduser("~") + os.sep, "~" + os.sep)))


def load_pages(options: argparse.Namespace) -> None:
    """Load what will print the answer, where there is time for it."""
    if options.json:
        from kalyx.show import as_json  # noqa: F401
    else:
        from kalyx.show import page, write  # noqa: F401

        _page_of(options.command)


def _page_of(name: str) -> Any:
    """Return the module of a command's page, which is named as the command."""
    return __import__(f"kalyx.show.pages.{name}", fromlist=["lay_out"])


def print_document(text: str) -> None:
    """Print a JSON document: in UTF-8, whatever the terminal or PYTHONIOENCODING wants of texts."""
    with printing():
        sys.stdout.flush()
        sys.stdout.buffer.write(text.encode("utf-8") + b"\n")
        sys.stdout.buffer.flush()


def print_answer(options: argparse.Namespace, answer: Any, *, what: str = "", elsewhere: bool = False) -> str:
    """Print a command's answer as JSON or text; return its status.

    The functions are found by the command's name, or by `what` where it has several answers:
    ``NAME_result`` in `kalyx.show.as_json`, ``lay_out`` in `kalyx.show.pages.NAME`. With `elsewhere` it is of another
    machine, where nothing can be carried out from here.
    """
    name = what or options.command
    answer = with_unread(answer, name)
    notes = getattr(answer, "notes", ())
    if options.json:
        from kalyx.show import as_json

        result = getattr(as_json, f"{name}_result")(answer)
        print_document(as_json.document(options.command, answer.status, result, notes))
        return str(answer.status)
    from kalyx.show.page import Page
    from kalyx.show.write import Writer

    home = "" if elsewhere or name == "elsewhere" else os.path.expanduser("~")  # another machine's are shown whole
    page = Page(home, os.name == "nt", own_command(), name_of_shell(sys.platform, os.environ))
    page.elsewhere, within = elsewhere, asked_within()
    page.in_cell = within is not None and not elsewhere
    _page_of(name).lay_out(page, answer, verbose=options.verbose)
    if options.quiet:
        page.lines = [line for line in page.lines if line.role.startswith("title")]
    if within is not None:
        within.pages.append(page)
        return str(answer.status)
    with printing():
        Writer(color=options.color).write(page)
    return str(answer.status)
