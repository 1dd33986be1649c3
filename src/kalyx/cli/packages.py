"""``kalyx packages``."""

from __future__ import annotations

from kalyx.cli.common import context_for, print_answer
from kalyx.cli.elsewhere import add_from, is_elsewhere, one_place
from kalyx.cli.within import default_seat
from kalyx.core.answers.packages import answer_packages

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse

LAYERS = ("start", "pythonpath", "stdlib", "env", "base", "user", "link", "other")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``packages``."""
    parser.add_argument("--at", metavar="SEAT", help="whose packages (default: shell)")
    add_from(parser)
    parser.add_argument("--layer", choices=LAYERS, help="only those of one layer")
    parser.add_argument("--name", metavar="PATTERN", help="only those of this name; * stands for any")
    parser.add_argument("--module", metavar="NAME", help="which distribution provides this module?")
    parser.add_argument("--conflicts", action="store_true",
                        help="declared requirements that are not met by what is installed")
    parser.add_argument("--size", action="store_true", help="the bytes of each")


def run(options: argparse.Namespace) -> str:
    """Answer and print; return the status."""
    wanted = {"layer": options.layer, "name": options.name, "module": options.module, "conflicts": options.conflicts}
    if is_elsewhere(options):
        from kalyx.core.answers.from_elsewhere import packages_elsewhere

        place, notes = one_place(options)
        return print_answer(options, packages_elsewhere(place, options.at, notes, **wanted), what="elsewhere")
    answer = answer_packages(context_for(None, options), options.at or default_seat(), sizes=options.size, **wanted)
    return print_answer(options, answer)
