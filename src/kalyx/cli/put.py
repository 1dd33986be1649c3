"""``kalyx put``."""

from __future__ import annotations

from kalyx.cli.common import context_for, print_answer, progress
from kalyx.core.answers.put import answer_put

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``put``."""
    parser.add_argument("requirements", nargs="+", metavar="REQ", help="what to install, as pip takes it")
    parser.add_argument("--at", metavar="SEAT", default="shell",
                        help="the seat into whose environment it goes (default: shell)")
    parser.add_argument("--dry-run", action="store_true", help="show what would change and stop")
    parser.add_argument("--anyway", action="store_true",
                        help="install also what breaks an installed package's requirement")
    parser.add_argument("--yes", action="store_true", help="do not ask")


def run(options: argparse.Namespace) -> str:
    """Plan, install and print; return the status."""
    answer = answer_put(context_for(None, options), options.requirements, options.at, dry_run=options.dry_run,
                        anyway=options.anyway, progress=progress)
    return print_answer(options, answer)
