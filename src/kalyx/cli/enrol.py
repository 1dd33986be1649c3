"""``kalyx enrol``."""

from __future__ import annotations

import argparse

from kalyx.cli.common import finder_for, print_answer
from kalyx.core.answers.enrol import answer_enrol

LIMIT = 60.0  # seconds for a kernel to start and answer


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``enrol``."""
    parser.add_argument("env", metavar="ENV", help="the environment: its folder or its name")
    parser.add_argument("--name", metavar="N", help="the kernel's name (default: the environment's)")
    parser.add_argument("--label", metavar="L", help="what the kernel menu shows")
    parser.add_argument("--overwrite", action="store_true", help="replace a kernel of that name")
    parser.add_argument("--dry-run", action="store_true", help="show the plan and stop")


def run(options: argparse.Namespace) -> str:
    """Register, prove and print; return the status."""
    answer = answer_enrol(finder_for(None, options), options.env, options.name, options.label,
                          overwrite=options.overwrite, dry_run=options.dry_run,
                          limit=options.timeout or LIMIT)
    return print_answer(options, answer)
