"""``kalyx report``."""

from __future__ import annotations

import os
import time

from kalyx.cli.common import context_for, print_answer, progress
from kalyx.core.answers.report import ReportAnswer, gather
from kalyx.core.errors import Refused

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse

    from kalyx.core.redaction import Redactor

NAME = "kalyx-report.html"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``report``."""
    parser.add_argument("folder", nargs="?", metavar="FOLDER",
                        help="the folder to report on (default: the working folder)")
    parser.add_argument("--to", metavar="FILE", default=NAME, help=f"where to write it (default: {NAME})")
    parser.add_argument("--redact", action="store_true", help="without the names of your home folder, you and the host")
    parser.add_argument("--overwrite", action="store_true", help="replace a file that is there")
    parser.add_argument("--open", action="store_true", help="show it in the browser then")


def run(options: argparse.Namespace) -> str:
    """Gather, write and print; return the status."""
    from kalyx.core.changes.files import place_to_write, write_file
    from kalyx.show.html.report import render

    context = context_for(options.folder, options)
    path = place_to_write(context.machine, options.to)
    if os.path.lexists(path) and not options.overwrite:
        raise Refused(f"{path} is there already, and is left as it is.", "Name another with --to, or say --overwrite.")
    found = gather(context, progress)
    when = time.strftime("%Y-%m-%d %H:%M")
    data = render(found, context.machine.own_command, context.machine.home, when,
                  redactor_for(context.machine.home) if options.redact else None).encode("utf-8", "replace")
    write_file(path, data)
    if options.open:
        import webbrowser
        from pathlib import Path

        webbrowser.open(Path(path).as_uri())
    return print_answer(options, ReportAnswer(path, len(data), found.findings, found.notes))


def redactor_for(home: str, *, whole: bool = False) -> Redactor:
    """Return what takes the names of this person and machine out of texts.

    With `whole` the home folder becomes another whole path, so that a document can still be judged by its paths.
    """
    import getpass
    import socket

    from kalyx.core.redaction import Redactor

    try:
        user = getpass.getuser()
    except (OSError, KeyError, ImportError):  # the system has no name for it
        user = ""
    another = os.path.join(os.path.dirname(home.rstrip("/\\")), "user")  # the folders above it stay what they are
    return Redactor(home, user, socket.gethostname(), another if whole else "~")
