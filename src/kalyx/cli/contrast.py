"""``kalyx contrast``."""

from __future__ import annotations

from kalyx.cli.common import context_for, print_answer
from kalyx.cli.elsewhere import add_from, is_elsewhere, read_places
from kalyx.cli.options import printing
from kalyx.core.answers.contrast import answer_contrast, requirement_lines
from kalyx.core.errors import WrongUsage

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse

    from kalyx.core.answers.elsewhere import Elsewhere


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``contrast``."""
    parser.add_argument("sides", nargs="*", metavar="A B", help="two of: a seat, an environment, a list of "
                        "requirements, a lock file, a snapshot, what a beacon printed, or what kalyx packages --json, "
                        "pip or conda printed of an environment")
    add_from(parser)
    parser.add_argument("--as-requirements", action="store_true", help="print the lines for pip that make B like A")


def run(options: argparse.Namespace) -> str:
    """Answer and print; return the status."""
    sides: list[str | Elsewhere] = list(options.sides)
    if is_elsewhere(options):
        sides += read_places(options)[0]
    if len(sides) != 2:
        raise WrongUsage(f"There are {len(sides)} to hold against each other, and not two.",
                         "kalyx contrast A B, or kalyx contrast A --from FILE")
    answer = answer_contrast(context_for(None, options), *sides, as_requirements=options.as_requirements)
    if options.as_requirements and not options.json:
        with printing():
            print("\n".join(requirement_lines(answer)))
        return answer.status
    return print_answer(options, answer)
