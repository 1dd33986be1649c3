"""``kalyx snapshot``."""

from __future__ import annotations

import os
import socket
import time

from kalyx.cli.common import PROBE_FOLDER, asking_limit, print_answer, print_document, progress, this_machine
from kalyx.cli.report import redactor_for
from kalyx.core.answers.snapshot import answer_snapshot
from kalyx.core.errors import Refused
from kalyx.core.facts.seats.context import SeatContext
from kalyx.core.lean.record import replace
from kalyx.core.machine.recording import RecordingMachine

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse

LIMIT = 60.0  # seconds for one import


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``snapshot``."""
    parser.add_argument("--at", metavar="SEAT", default="shell", help="whose facts (default: shell)")
    parser.add_argument("--why", action="append", default=[], dest="modules", metavar="MODULE",
                        help="also import this there, and keep what was seen; may be given again")
    parser.add_argument("--to", metavar="FILE", help="where to write it (default: standard output)")
    parser.add_argument("--redact", action="store_true", help="without the names of your home folder, you and the host")
    parser.add_argument("--overwrite", action="store_true", help="replace a file that is there")


def run(options: argparse.Namespace) -> str:
    """Record, write and print; return the status."""
    from kalyx.core.changes.files import place_to_write, write_file
    from kalyx.show.snapshot_document import snapshot_document, written

    real, notes = this_machine()
    path = place_to_write(real, options.to) if options.to else ""
    if path and os.path.lexists(path) and not options.overwrite:
        raise Refused(f"{path} is there already, and is left as it is.", "Name another with --to, or say --overwrite.")
    machine = RecordingMachine(real, PROBE_FOLDER)
    progress("recording …")
    answer = answer_snapshot(
        lambda m: SeatContext(m, m.cwd, PROBE_FOLDER, asking_limit(options), notes=notes), machine, options.at,
        options.modules, options.timeout or LIMIT, host=socket.gethostname(),
        taken=time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()))
    redactor = redactor_for(real.home, whole=True) if options.redact else None
    answer = replace(answer, document=snapshot_document(answer, redactor))
    text = written(answer.document)
    if path:
        write_file(path, text.encode("ascii"))
        answer = replace(answer, path=path, bytes=len(text))
    if options.json or path:
        return print_answer(options, answer)
    print_document(text)
    return answer.status
