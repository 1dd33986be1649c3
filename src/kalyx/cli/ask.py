"""``kalyx ask``."""

from __future__ import annotations

from kalyx.cli.common import context_for, print_answer
from kalyx.core.answers.ask import answer_ask
from kalyx.core.errors import NothingToJudge, Unreadable, WrongUsage

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse

LIMIT = 60.0  # seconds


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``ask``."""
    parser.add_argument("seats", nargs="+", metavar="SEAT",
                        help="where to run it; several are shown side by side")
    parser.add_argument("code", nargs="?", metavar="CODE",
                        help="the code to run (default: who are you?)")
    parser.add_argument("--code-file", metavar="FILE", help="a file that holds the code")
    parser.add_argument("--anyway", action="store_true", help="also where the process is another user's")


def run(options: argparse.Namespace) -> str:
    """Ask and print; return the status."""
    context = context_for(None, options, anyway=options.anyway)
    seats, code = list(options.seats), options.code
    if options.code_file is not None:
        if code is not None:
            seats.append(code)
        try:
            code = context.machine.read_text(context.machine.absolute(options.code_file))
        except Unreadable as error:
            raise NothingToJudge(error.message, "Name a file with code.") from None
    elif code is None and len(seats) > 1 and not _is_seat(seats[-1]):
        code = seats.pop()
    elif code is not None and _is_seat(code):
        seats, code = [*seats, code], None
    if not seats:
        raise WrongUsage("No seat was named.", "kalyx ask shell, kalyx ask notebook:FILE 'CODE'.")
    return print_answer(options, answer_ask(context, seats, code, options.timeout or LIMIT))


def _is_seat(word: str) -> bool:
    """Whether a word reads as a seat and not as code."""
    from kalyx.core.facts.seats.finder import KINDS

    kind, colon, _ = word.partition(":")
    return (bool(colon) and kind in KINDS) or word == "shell" or word.endswith((".ipynb", ".py")) \
        or (word.startswith(("/", "./", "../", "~")) and " " not in word)
