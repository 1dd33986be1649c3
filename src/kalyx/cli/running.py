"""``kalyx running``."""

from __future__ import annotations

from kalyx.cli.common import context_for, print_answer
from kalyx.core.answers.running import answer_running

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse

KINDS = ("kernel", "server", "language-server", "script", "module", "command", "shell")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``running``."""
    parser.add_argument("--kind", choices=KINDS, help="only those of one kind")
    parser.add_argument("--under", metavar="FOLDER",
                        help="only those whose folder or interpreter lies below this one")


def run(options: argparse.Namespace) -> str:
    """Answer and print; return the status."""
    answer = answer_running(context_for(None, options), options.kind, options.under)
    return print_answer(options, answer)
