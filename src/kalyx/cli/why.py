"""``kalyx why``."""

from __future__ import annotations

import argparse

from kalyx.cli.common import finder_for, print_answer
from kalyx.core.answers.why import answer_why
from kalyx.core.errors import WrongUsage

LIMIT = 60.0  # seconds for one import


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``why``."""
    parser.add_argument("modules", nargs="+", metavar="MODULE",
                        help="a module as in an import; package:name for 'from package import name'")
    parser.add_argument("--at", metavar="SEAT", default="shell",
                        help="where to try it: shell (default), notebook:FILE, script:FILE, "
                        "kernel:NAME, env:NAME-or-PATH, python:PATH, editor:FILE, or a bare word")


def run(options: argparse.Namespace) -> str:
    """Answer and print; return the status."""
    for word in options.modules:
        if word.endswith((".py", ".ipynb")):
            raise WrongUsage(f"{word!r} is a file, and why explains modules.",
                             f"Name the module: kalyx why MODULE --at {word}")
    answer = answer_why(finder_for(None, options), options.modules, options.at,
                        options.timeout or LIMIT)
    return print_answer(options, answer)
