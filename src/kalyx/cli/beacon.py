"""``kalyx beacon``."""

from __future__ import annotations

from kalyx.cli.common import PROBE_FOLDER, print_answer
from kalyx.cli.options import printing
from kalyx.core.answers.beacon import beacon_cell

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``beacon``."""
    parser.add_argument("modules", nargs="*", metavar="MODULE", help="what it is to import there; package:name for "
                        "'from package import name'")


def run(options: argparse.Namespace) -> str:
    """Print the cell as it is, so that it can be copied or piped; return the status."""
    answer = beacon_cell(PROBE_FOLDER, options.modules)
    if options.json:
        return print_answer(options, answer)
    with printing():
        print(answer.cell, end="")
    return answer.status
