"""``kalyx undo``."""

from __future__ import annotations

from kalyx.cli.common import context_for, print_answer
from kalyx.core.answers.changes import answer_undo

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``undo``."""
    parser.add_argument("number", nargs="?", type=int, metavar="N",
                        help="the change to take back (default: the latest)")
    parser.add_argument("--yes", action="store_true", help="do not ask")


def run(options: argparse.Namespace) -> str:
    """Take back and print; return the status."""
    return print_answer(options, answer_undo(context_for(None, options), options.number))
