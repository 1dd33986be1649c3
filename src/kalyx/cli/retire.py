"""``kalyx retire``."""

from __future__ import annotations

import sys

from kalyx.cli.common import context_for, print_answer
from kalyx.core.answers.changes import answer_retire, plan_retire
from kalyx.core.errors import Refused, WrongUsage

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse

    from kalyx.core.answers.changes import RetirePlan


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``retire``."""
    parser.add_argument("kernels", nargs="*", metavar="KERNEL", help="the kernel's name")
    parser.add_argument("--with-env", action="store_true", help="its environment too")
    parser.add_argument("--stale", action="store_true", help="all whose interpreter is gone")
    parser.add_argument("--anyway", action="store_true", help="also an environment that something uses")
    parser.add_argument("--yes", action="store_true", help="do not ask")
    parser.add_argument("--dry-run", action="store_true", help="show what would go and stop")


def run(options: argparse.Namespace) -> str:
    """Plan, ask, move aside and print; return the status."""
    if not options.kernels and not options.stale:
        raise WrongUsage("No kernel was named.", "kalyx retire NAME, or kalyx retire --stale; "
                         "kalyx kernels lists them.")
    context = context_for(None, options)
    plan = plan_retire(context, options.kernels, with_env=options.with_env, stale=options.stale,
                       anyway=options.anyway)
    if plan.kernels and not options.dry_run and not options.yes:
        _ask(plan)
    return print_answer(options, answer_retire(context, plan, dry_run=options.dry_run))


def _ask(plan: RetirePlan) -> None:
    """Have the person say yes.

    Raises:
        Refused: they did not, or cannot be asked.
    """
    what = ", ".join([*(f"the kernel {k.name} ({k.folder})" for k in plan.kernels),
                      *(f"the environment {e}" for e in plan.environments)])
    if not sys.stdin.isatty():
        raise Refused(f"This would take away {what}; nobody is there to be asked.",
                      "Say --yes to do it, --dry-run to see it. kalyx undo brings it back.")
    sys.stderr.write(f"Take away {what}? It can be undone. [y/N] ")
    sys.stderr.flush()
    if sys.stdin.readline().strip().lower() not in ("y", "yes"):
        raise Refused("Nothing was taken away.", "")
