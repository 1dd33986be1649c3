"""``kalyx changes``."""

from __future__ import annotations

from kalyx.cli.common import context_for, print_answer
from kalyx.core.answers.changes import answer_changes
from kalyx.core.errors import WrongUsage

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``changes``."""
    parser.add_argument("--forget", nargs="?", const="all", metavar="N",
                        help="delete for good what change N keeps for undo (without N: every one; old: those of more "
                        "than 30 days ago)")


def run(options: argparse.Namespace) -> str:
    """List, or forget, and print; return the status."""
    forget = options.forget
    if forget not in (None, "all", "old") and not (forget.isascii() and forget.isdecimal()):
        raise WrongUsage(f"{forget!r} is not the number of a change.", "kalyx changes lists them.")
    return print_answer(options, answer_changes(context_for(None, options), forget))
