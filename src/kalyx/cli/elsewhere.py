"""The options by which a command answers for places elsewhere: ``--from``, ``--through``, ``--host``."""

from __future__ import annotations

from kalyx.cli.common import PROBE_FOLDER, looked_at, progress, this_machine
from kalyx.core.errors import NothingToJudge, WrongUsage

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse
    from collections.abc import Sequence

    from kalyx.core.answers.elsewhere import Elsewhere
    from kalyx.core.model import Note

__all__ = ["add_from", "is_elsewhere", "one_place", "read_places"]

LIMIT = 60.0  # seconds that a command of --through may take


def add_from(parser: argparse.ArgumentParser, *, through: bool = True) -> None:
    """Add the options to a command's parser; without `through` only that which reads."""
    parser.add_argument("--from", action="append", default=[], dest="files", metavar="FILE",
                        help="for another machine: a snapshot of it, or a text with what a beacon printed there; "
                        "- for what is piped in")
    if through:
        parser.add_argument("--through", action="append", default=[], metavar="COMMAND",
                            help="for wherever this command starts Python that reads a program from its input, such as "
                            "'ssh node7 python3 -'; may be given again")
    parser.add_argument("--host", metavar="NAME", help="only what this host has told")


def is_elsewhere(options: argparse.Namespace) -> bool:
    """Whether a command is to answer for places elsewhere."""
    return bool(options.files or getattr(options, "through", ()))


def read_places(options: argparse.Namespace, modules: Sequence[str] = ()) -> tuple[list[Elsewhere], list[Note]]:
    """Return the places that the options name, and what is to be said of those that told nothing.

    Raises:
        NothingToJudge: nothing was told, a file cannot be read, or there is no host of that name.
        WrongUsage: a command is none.
    """
    from kalyx.core.answers.elsewhere import of_host, places_in, read_told

    machine, _ = this_machine()
    texts: list[tuple[str, str]] = []
    notes: list[Note] = []
    through = getattr(options, "through", [])
    if through:
        from kalyx.core.answers.beacon import beacon_cell, run_through

        progress(f"asking through {len(through)} command{'s' if len(through) > 1 else ''} …")
        limit = options.timeout or LIMIT
        text, notes = run_through(machine, through, beacon_cell(PROBE_FOLDER, modules).cell, limit)
        if "[kalyx beacon" in text:
            texts.append((text, "what came back"))
        elif not options.files:
            raise NothingToJudge(" ".join(n.message for n in notes), "Try the command by hand: it has to start Python, "
                                 "and hand on what it reads.")
    texts += [(read_told(machine, name), name) for name in options.files]
    places: list[Elsewhere] = []
    for text, name in texts:
        found, more = places_in(text, name, PROBE_FOLDER)
        places += found
        notes += more
    if options.host:
        places = [of_host(places, options.host)]
    for place in places:
        looked_at(place.context.machine)
    return places, notes


def one_place(options: argparse.Namespace, modules: Sequence[str] = ()) -> tuple[Elsewhere, list[Note]]:
    """Return the one place that the options name.

    Raises:
        NothingToJudge: there are several, and none is named.
        WrongUsage: as `read_places`.
    """
    from kalyx.core.answers.elsewhere import of_host

    places, notes = read_places(options, modules)
    if not places:
        raise WrongUsage("Nothing was named.", "Say --from FILE or --through COMMAND.")
    return of_host(places, None), notes
