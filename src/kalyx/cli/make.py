"""``kalyx make``."""

from __future__ import annotations

from kalyx.cli.common import context_for, print_answer, progress
from kalyx.core.answers.make import MakeOptions, answer_make

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``make``."""
    parser.add_argument("folder", metavar="ENVDIR", help="the environment's folder, new or empty")
    parser.add_argument("--python", metavar="VERSION|PATH", help="which Python: 3.11, '>=3.9', or a path "
                        "(default: the shell's)")
    parser.add_argument("--put", action="append", default=[], metavar="REQ",
                        help="what to install; may be given again")
    parser.add_argument("--requirements", metavar="FILE", help="a requirements file to install")
    parser.add_argument("--like", metavar="ENV|FILE", help="the same packages as another environment has, or "
                        "as a file lists that kalyx packages --json printed")
    parser.add_argument("--anew", action="store_true", help="make the environment that is there again, with its "
                        "packages; it is kept for undo")
    parser.add_argument("--enrol", action="store_true", help="make it a notebook kernel too, and prove it")
    parser.add_argument("--ignore", action="store_true", help="have the version control of the checkout around it "
                        "ignore it")
    parser.add_argument("--dry-run", action="store_true", help="show the plan and stop")
    parser.add_argument("--yes", action="store_true", help="do not ask")


def run(options: argparse.Namespace) -> str:
    """Build and print; return the status."""
    wanted = MakeOptions(options.folder, options.python, tuple(options.put), options.requirements, options.like,
                         options.enrol, options.dry_run, options.anew, options.ignore)
    answer = answer_make(context_for(None, options), wanted, options.timeout or 60.0, progress)
    return print_answer(options, answer)
