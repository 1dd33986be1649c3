"""Options that every command takes, and errors that keep to the contract."""

from __future__ import annotations

import argparse
import os
import sys

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable
    from typing import Any, NoReturn

__all__ = ["CannotPrint", "Parser", "UsageError", "add_global_options", "as_written", "asks_for_json", "nearest",
           "print_error", "printing"]


class CannotPrint(Exception):
    """The answer could not be written: the device is full, or there is none."""


class printing:  # noqa: N801 - it reads as what is done inside
    """A block that prints: what goes wrong with the output is `CannotPrint`; a reader that has gone is none."""

    def __enter__(self) -> None:
        if sys.stdout is None:
            raise CannotPrint("standard output is closed")

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, _: object) -> None:
        if isinstance(error, (OSError, ValueError)) and not isinstance(error, (BrokenPipeError, UnicodeError)):
            raise CannotPrint(getattr(error, "strerror", None) or str(error)) from None


class UsageError(Exception):
    """Wrong usage, with the parser's short usage line as a hint."""

    def __init__(self, message: str, hint: str) -> None:
        super().__init__(message)
        self.message = message
        self.hint = hint


def formatter(prog: str) -> argparse.HelpFormatter:
    """Return a help formatter of the terminal's width.

    Given one, argparse does not load the module that would find it out, each
    time that an argument is added.
    """
    try:
        columns = int(os.environ.get("COLUMNS") or os.get_terminal_size().columns)
    except (OSError, ValueError):
        columns = 80
    return argparse.HelpFormatter(prog, width=max(40, columns - 2))


def as_written(prog: str) -> argparse.HelpFormatter:
    """Return a help formatter that leaves the lines of examples as they are."""
    return argparse.RawDescriptionHelpFormatter(prog, width=formatter(prog)._width)


class Parser(argparse.ArgumentParser):
    """An argument parser that raises instead of printing, so that --json gets its document."""

    def __init__(self, *args: Any, **more: Any) -> None:
        more.setdefault("formatter_class", formatter)
        super().__init__(*args, **more)

    def error(self, message: str) -> NoReturn:
        raise UsageError(message, f"{self.prog} --help says more.")

    def _check_value(self, action: argparse.Action, value: Any) -> None:
        """Name what is nearest to a word that is none of those which an argument takes."""
        if action.choices is not None and value not in action.choices:
            if action.dest == "command":
                meant = nearest(str(value), action.choices, "kalyx ")
                raise UsageError(f"there is no command {str(value)!r}.", meant or f"{self.prog} --help lists them.")
            what = "/".join(action.option_strings) or str(action.metavar)
            raise UsageError(f"argument {what}: {value!r} is none of {', '.join(map(str, action.choices))}.",
                             nearest(str(value), action.choices) or f"{self.prog} --help says more.")
        super()._check_value(action, value)


def nearest(word: str, known: Iterable[object], before: str = "") -> str:
    """Return a question whether another word was meant; empty where none is near."""
    import difflib

    names = [str(k) for k in known]
    found = difflib.get_close_matches(word.lower(), names, 1, 0.6) or [n for n in names if len(word) > 2
                                                                       and n.startswith(word)][:1]
    return f"Did you mean {before}{found[0]}?" if found else ""


def seconds(text: str) -> float:
    """Parse a positive number of seconds."""
    try:
        value = float(text)
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text!r} is not a number of seconds") from None
    if not 0 < value <= 86400:
        raise argparse.ArgumentTypeError("a time limit is more than 0 and at most 86400 s")
    return value


def add_global_options(parser: argparse.ArgumentParser, *, top: bool = False) -> None:
    """Add the options that stand before or after the command."""
    group = parser.add_argument_group("everywhere")
    group.add_argument("--json", action="store_true", default=False if top else
                       argparse.SUPPRESS, help="print one JSON document")
    group.add_argument("--color", choices=("auto", "always", "never"),
                       default="auto" if top else argparse.SUPPRESS, help="when to use colour")
    group.add_argument("--quiet", action="store_true", default=False if top else
                       argparse.SUPPRESS, help="print the first line of the answer only")
    group.add_argument("--verbose", action="store_true", default=False if top else
                       argparse.SUPPRESS, help="print everything that is known")
    group.add_argument("--timeout", type=seconds, metavar="S", default=None if top else
                       argparse.SUPPRESS, help="seconds that an import or a kernel may take")


def asks_for_json(argv: list[str]) -> bool:
    """Whether --json is among the arguments, also where they cannot be parsed."""
    return "--json" in argv[: argv.index("--") if "--" in argv else len(argv)]


def print_error(message: str, end: str = "\n") -> None:
    """Print to standard error, whatever its encoding."""
    stream = sys.stderr
    encoding = stream.encoding or "ascii"
    stream.write(message.encode(encoding, "backslashreplace").decode(encoding) + end)
