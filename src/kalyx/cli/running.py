"""``kalyx running``."""

from __future__ import annotations

import argparse

from kalyx.cli.common import finder_for, print_answer
from kalyx.core.answers.running import answer_running

KINDS = ("kernel", "server", "language-server", "script", "module", "command", "shell")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``running``."""
    parser.add_argument("--kind", choices=KINDS, help="only those of one kind")


def run(options: argparse.Namespace) -> str:
    """Answer and print; return the status."""
    answer = answer_running(finder_for(None, options), options.kind)

    def result() -> dict[str, object]:
        from kalyx.show.as_json import running_result
        return running_result(answer)

    def lay_out(page: object) -> None:
        from kalyx.show.inventory_text import running_page
        running_page(page, answer, verbose=options.verbose)  # type: ignore[arg-type]

    return print_answer(options, answer.status, result, lay_out)
