"""``kalyx point``."""

from __future__ import annotations

from kalyx.cli.common import context_for, print_answer, progress
from kalyx.core.answers.point import PointOptions, answer_point

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse

LIMIT = 60.0  # seconds for a kernel to start and answer


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``point``."""
    parser.add_argument("env", metavar="ENV", help="the environment: its folder or its name")
    parser.add_argument("--file", action="append", default=[], metavar="FILE", dest="files",
                        help="an editor's settings file, which may be a new one, or a notebook; may be given again "
                        "(default: the settings that here shows for the working folder)")
    parser.add_argument("--with-kernel-package", action="store_true",
                        help="for a notebook: put the kernel package into the environment first, if it has none")
    parser.add_argument("--dry-run", action="store_true", help="show what would be written and stop")
    parser.add_argument("--yes", action="store_true", help="do not ask")


def run(options: argparse.Namespace) -> str:
    """Point, and print; return the status."""
    wanted = PointOptions(tuple(options.files), options.dry_run, options.with_kernel_package)
    return print_answer(options, answer_point(context_for(None, options), options.env, wanted,
                                              options.timeout or LIMIT, progress))
