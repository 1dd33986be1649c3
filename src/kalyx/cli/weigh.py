"""``kalyx weigh``."""

from __future__ import annotations

import gc

from kalyx.cli.common import context_for, print_answer, progress
from kalyx.core.answers.weigh import answer_weigh, answer_weigh_envs
from kalyx.core.changes.files import place_to_write
from kalyx.core.errors import Refused, WrongUsage
from kalyx.core.lean.record import replace

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse

MOST = 20


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``weigh``."""
    parser.add_argument("--at", metavar="SEAT", default="shell", help="whose environment (default: shell)")
    parser.add_argument("--envs", action="store_true", help="all environments, and what is in several")
    parser.add_argument("--plot", metavar="FILE", help="draw it, to a file that ends in .png, .svg or .pdf")
    parser.add_argument("--overwrite", action="store_true", help="draw over a file that is there already")
    parser.add_argument("--most", type=int, default=MOST, metavar="N", help=f"rows to show (default: {MOST})")


def run(options: argparse.Namespace) -> str:
    """Weigh, draw and print; return the status."""
    if options.most < 1:
        raise WrongUsage("At least one row is shown.", "Say --most 5.")
    if options.plot and not options.plot.lower().endswith((".png", ".svg", ".pdf")):
        raise WrongUsage(f"{options.plot} ends in none of .png, .svg and .pdf.", "Name a file that does.")
    if options.plot and options.envs:
        raise WrongUsage("--plot draws one environment.", "Leave --envs out, and name the environment with --at.")
    gc.disable()  # a hundred thousand entries are no circles, and looking for some among them takes as long as all else
    context = context_for(None, options)
    if options.envs:
        everything = answer_weigh_envs(context, most=options.most, progress=progress)
        return print_answer(options, everything, what="weigh_envs")
    place = place_to_write(context.machine, options.plot) if options.plot else ""
    if place and context.machine.is_there(place) and not options.overwrite:
        raise Refused(f"{place} is there already.", "Say --overwrite, or name another file.")
    answer = answer_weigh(context, options.at, most=options.most, progress=progress)
    if place:
        from kalyx.show.plots.rectangles import draw

        draw(answer, place)
        answer = replace(answer, plot=place)
    return print_answer(options, answer)
