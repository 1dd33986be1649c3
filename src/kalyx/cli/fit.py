"""``kalyx fit``."""

from __future__ import annotations

from kalyx.cli.common import context_for, print_answer, progress
from kalyx.core.answers.fit import answer_fit

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse

LIMIT = 60.0  # seconds for the imports of one environment


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``fit``."""
    parser.add_argument("paths", nargs="+", metavar="PATH", help="a script, a notebook or a folder")
    parser.add_argument("--prove", action="store_true", help="import everything in each environment that fits")
    parser.add_argument("--in", action="append", default=[], dest="only", metavar="ENV",
                        help="look at this environment alone; may be given again")


def run(options: argparse.Namespace) -> str:
    """Answer and print; return the status."""
    answer = answer_fit(context_for(None, options), options.paths, only=options.only, prove=options.prove,
                        limit=options.timeout or LIMIT, progress=progress)
    return print_answer(options, answer)
