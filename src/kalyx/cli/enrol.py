"""``kalyx enrol``."""

from __future__ import annotations

import re

from kalyx.cli.common import context_for, print_answer
from kalyx.core.answers.enrol import SCOPES, EnrolOptions, answer_enrol
from kalyx.core.errors import WrongUsage

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse

LIMIT = 60.0  # seconds for a kernel to start and answer


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``enrol``."""
    parser.add_argument("env", metavar="ENV", help="the environment: its folder or its name")
    parser.add_argument("--name", metavar="N", help="the kernel's name (default: the environment's)")
    parser.add_argument("--label", metavar="L", help="what the kernel menu shows")
    parser.add_argument("--for", choices=SCOPES, default="me", dest="scope",
                        help="register it for you (default), in the environment, or for everyone")
    parser.add_argument("--into", metavar="FOLDER", help="register it in this data folder instead")
    parser.add_argument("--set", action="append", default=[], metavar="KEY=VALUE", dest="variables",
                        help="a variable that the kernel starts with; may be given again")
    parser.add_argument("--bare", action="store_true",
                        help="do not set PATH and the variables that activation sets")
    parser.add_argument("--with-kernel-package", action="store_true",
                        help="put the kernel package into the environment first, if it has none")
    parser.add_argument("--overwrite", action="store_true", help="replace a kernel of that name")
    parser.add_argument("--dry-run", action="store_true", help="show the plan and stop")
    parser.add_argument("--yes", action="store_true", help="do not ask")


def run(options: argparse.Namespace) -> str:
    """Register, prove and print; return the status."""
    wanted = EnrolOptions(options.name, options.label, options.scope, options.into, _variables(options.variables),
                     options.bare, options.overwrite, options.dry_run, options.with_kernel_package)
    return print_answer(options, answer_enrol(context_for(None, options), options.env, wanted,
                                              options.timeout or LIMIT))


def _variables(words: list[str]) -> dict[str, str]:
    """Read ``KEY=VALUE`` words.

    Raises:
        WrongUsage: one is none.
    """
    found = {}
    for word in words:
        name, equals, value = word.partition("=")
        if not equals or not re.fullmatch(r"[A-Za-z_]\w*", name):
            raise WrongUsage(f"{word!r} sets no variable.", "Write --set NAME=VALUE.")
        found[name] = value
    return found
