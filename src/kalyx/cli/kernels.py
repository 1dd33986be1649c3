"""``kalyx kernels``."""

from __future__ import annotations

from kalyx.cli.common import context_for, print_answer
from kalyx.cli.elsewhere import add_from
from kalyx.core.answers.kernels import answer_kernels
from kalyx.core.errors import WrongUsage
from kalyx.core.lean.record import replace

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse

    from kalyx.core.model import Note


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``kernels``."""
    parser.add_argument("--server", metavar="ENV",
                        help="as the notebook server of this environment sees them")
    parser.add_argument("--stale", action="store_true", help="only those whose interpreter is gone")
    add_from(parser, through=False)
    parser.add_argument("--prove", action="store_true",
                        help="start each, and have it say who it is")


def run(options: argparse.Namespace) -> str:
    """List and print; return the status."""
    context = context_for(None, options)
    notes: list[Note] = []
    if options.files:
        from kalyx.cli.elsewhere import one_place

        place, notes = one_place(options)
        if place.kind != "snapshot" or options.prove:
            raise WrongUsage("Kernels are told by a snapshot alone, and cannot be started from it.",
                             "kalyx kernels --from SNAPSHOT")
        context = place.context
    answer = answer_kernels(context, server=options.server, stale=options.stale,
                            proven=options.prove, limit=options.timeout or 60.0)
    return print_answer(options, replace(answer, notes=(*answer.notes, *notes)), elsewhere=bool(options.files))
