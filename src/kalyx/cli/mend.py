"""``kalyx mend``."""

from __future__ import annotations

import sys

from kalyx.cli.common import context_for, print_answer, progress
from kalyx.cli.options import print_error
from kalyx.cli.patience import asking
from kalyx.core.answers.mend import MOST_ROUNDS, MendOptions, answer_mend
from kalyx.core.errors import WrongUsage
from kalyx.core.quoting import name_of_shell

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse

    from kalyx.core.answers.mend import MendRound

LIMIT = 60.0  # seconds for one import


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``mend``."""
    parser.add_argument("what", nargs="*", metavar="WHAT",
                        help="a module, a file or a folder, as why takes it (default: what here finds wrong)")
    parser.add_argument("--at", metavar="SEAT", help="the seat where it is to work (default: shell); "
                        "without WHAT: mend what is wrong with that seat itself")
    parser.add_argument("--choose", metavar="LETTERS", default="",
                        help="the remedy to take, by its letter: of the first round, the second, ...")
    parser.add_argument("--dry-run", action="store_true", help="show what the first round would do and stop")
    parser.add_argument("--yes", action="store_true", help="do not ask; what would break something is not done")
    parser.add_argument("--rounds", type=int, default=MOST_ROUNDS, metavar="N",
                        help=f"how many remedies at most (default: {MOST_ROUNDS})")


def run(options: argparse.Namespace) -> str:
    """Mend, and print; return the status."""
    if not options.choose.isalpha() and options.choose:
        raise WrongUsage(f"{options.choose!r} are no letters of remedies.", "kalyx why shows them: a, b, c.")
    if options.rounds < 1:
        raise WrongUsage("At least one round is needed.", "Say --dry-run to see what it would do.")
    wanted = MendOptions(tuple(options.what), options.at, options.choose.lower(), options.yes, options.dry_run,
                         options.rounds, options.timeout or LIMIT)
    is_watched = sys.stdin is not None and sys.stdin.isatty() and not options.json
    ask = (lambda one: True) if options.yes else _ask if is_watched else None
    return print_answer(options, answer_mend(lambda: context_for(None, options), wanted, ask, progress))


def _ask(one: MendRound) -> bool:
    """Show what a round would do, and have the person say yes or no."""
    import os

    from kalyx.show.page import Page, clean
    from kalyx.show.pages.mend import lay_out_round
    from kalyx.show.write import Writer

    page = Page(os.path.expanduser("~"), os.name == "nt", (), name_of_shell(sys.platform, os.environ))
    lay_out_round(page, one)
    with asking():
        Writer(color="never" if not sys.stderr.isatty() else "auto", stream=sys.stderr).write(page)
        question = "It would break what is said above. Do it all the same?" if one.plan.breaks else "Do it?"
        print_error(clean(f"{question} It can be undone. [y/N] "), end="")
        sys.stderr.flush()
        return sys.stdin.readline().strip().lower() in ("y", "yes")
