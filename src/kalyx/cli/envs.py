"""``kalyx envs``."""

from __future__ import annotations

from kalyx.cli.common import context_for, print_answer
from kalyx.core.answers.envs import answer_envs

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``envs``."""
    parser.add_argument("folders", nargs="*", metavar="FOLDER", help="also look in and below these")
    parser.add_argument("--under", metavar="FOLDER", help="only those that lie in or below FOLDER")
    parser.add_argument("--kind", choices=("venv", "conda", "base"), help="only those of one kind")
    parser.add_argument("--python", metavar="SPEC", help="only those whose Python fits, as in '>=3.9'")
    parser.add_argument("--has", metavar="REQ", help="only those that have it, as in 'NAME>=1'")
    parser.add_argument("--size", action="store_true", help="the bytes of each")


def run(options: argparse.Namespace) -> str:
    """Answer and print; return the status."""
    answer = answer_envs(context_for(None, options), options.folders, under=options.under,
                         kind=options.kind, python=options.python, has=options.has,
                         sizes=options.size)
    return print_answer(options, answer)
