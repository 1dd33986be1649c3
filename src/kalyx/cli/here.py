"""``kalyx here``."""

from __future__ import annotations

from kalyx.cli.common import context_for, print_answer
from kalyx.cli.elsewhere import add_from, is_elsewhere, read_places
from kalyx.core.answers.here import answer_here

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``here``."""
    parser.add_argument("folder", nargs="?", metavar="FOLDER",
                        help="the folder to look at (default: the working folder)")
    parser.add_argument("--ask-shell", action="store_true",
                        help="also start your interactive shell and ask it for aliases and functions")
    add_from(parser)
    parser.add_argument("--running", action="store_true",
                        help="also the live Python processes that were started in the folder")


def run(options: argparse.Namespace) -> str:
    """Answer and print; return the status."""
    if is_elsewhere(options):
        from kalyx.core.answers.from_elsewhere import here_elsewhere

        return print_answer(options, here_elsewhere(*read_places(options)), what="elsewhere")
    answer = answer_here(context_for(options.folder, options), ask_shell=options.ask_shell,
                         running=options.running)
    return print_answer(options, answer)
