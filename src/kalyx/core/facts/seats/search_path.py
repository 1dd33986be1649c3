"""The search path of a seat: as its interpreter told it, or as files say that it will be."""

from __future__ import annotations

from kalyx.core.facts.search_path.layers import PathFacts, classify_path, pythonpath_of
from kalyx.core.facts.search_path.predicted import SearchPath, read_search_path
from kalyx.core.facts.search_path.pth_files import link_lines

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files
    from kalyx.core.facts.seats.context import SeatFacts
    from kalyx.core.model import Launch, RunningPython

__all__ = ["path_of_seat"]


def path_of_seat(files: Files, facts: SeatFacts, *, start: str | None) -> SearchPath:
    """Return the search path of a seat that has an interpreter; `start` is the folder that it begins with, if any."""
    seat, examined = facts.seat, facts.examined
    assert seat.interpreter is not None and seat.launch is not None and examined is not None
    if facts.ran is not None:
        return _told(files, facts.ran, seat.launch, start)
    inner = examined.launched(seat.launch)
    if start == seat.launch.cwd:  # as with -c: where a wrapper goes to first
        start = inner.cwd
    return read_search_path(files, seat.interpreter, examined.stdlib, examined.config, inner.env, start=start,
                            cwd=inner.cwd, flags=inner.argv[1:], start_behind=inner.start_behind)


def _told(files: Files, python: RunningPython, launch: Launch, start: str | None) -> SearchPath:
    """Return the path that an interpreter told when it ran; without `start`, the folder of that kind is left out."""
    first = files.located(launch.start or python.cwd, python.cwd)
    pythonpath = () if python.flags.get("ignore_environment") else pythonpath_of(files, launch.env, launch.cwd)
    known = PathFacts(python.prefix, python.base_prefix, python.user_site, pythonpath, first, launch.start_behind)
    path = list(dict.fromkeys(files.located(entry, python.cwd) for entry in python.search_path))
    layers = classify_path(files, path, known)
    links = [line for x in layers if x.layer in ("env", "base", "user") for line in link_lines(files, x.path)]
    user = next((x.path for x in layers if x.layer == "user"), None)
    return SearchPath(tuple(x for x in layers if start is not None or x.layer != "start"), tuple(links), user)
