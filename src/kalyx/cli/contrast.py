"""``kalyx contrast``."""

from __future__ import annotations

from kalyx.cli.common import context_for, print_answer
from kalyx.cli.options import printing
from kalyx.core.answers.contrast import answer_contrast, requirement_lines

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``contrast``."""
    parser.add_argument("a", metavar="A", help="a seat, an environment, a list of requirements, a lock file, or what "
                        "kalyx packages --json printed")
    parser.add_argument("b", metavar="B", help="the other one")
    parser.add_argument("--as-requirements", action="store_true", help="print the lines for pip that make B like A")


def run(options: argparse.Namespace) -> str:
    """Answer and print; return the status."""
    answer = answer_contrast(context_for(None, options), options.a, options.b, as_requirements=options.as_requirements)
    if options.as_requirements and not options.json:
        with printing():
            print("\n".join(requirement_lines(answer)))
        return answer.status
    return print_answer(options, answer)
