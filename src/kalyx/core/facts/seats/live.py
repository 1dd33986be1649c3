"""The seat of a running Python that told of itself from inside: the kernel in which Kalyx was asked."""

from __future__ import annotations

from kalyx.core.facts.search_path.predicted import read_search_path
from kalyx.core.facts.seats.context import SeatFacts
from kalyx.core.lean.record import replace
from kalyx.core.model import THIS_KERNEL, Launch, TrailStep

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.model import LivePython

__all__ = ["added_folders", "live_ref", "started_path", "within"]

# The flags by which a Python is started like another one: the first covers what stands behind it
_FLAGS = (("isolated", "-I"), ("ignore_environment", "-E"), ("no_user_site", "-s"), ("no_site", "-S"))


def live_ref(live: LivePython) -> str:
    """Return how the seat of a running Python is named."""
    return f"process:{live.pid}"


def _live_seat(context: SeatContext, live: LivePython) -> SeatFacts:
    """Return the seat of a running Python: its program, with the variables and the folder that it has now."""
    m, python = context.machine, live.python
    step = TrailStep(0, f"the kernel, process {live.pid}, says that it runs {python.executable}", None, None,
                     python.executable)
    examined = context.examiner.examine(python.executable, python.cwd or m.cwd)
    first = python.path[0] if python.path else ""
    start = "" if any(m.is_within(first, p) for p in (python.prefix, python.base_prefix) if p) else first
    launch = Launch((python.executable, *_flags(live)), m.env, python.cwd or m.cwd, start,
                    start_behind="" in python.path[1:] and python.path[0] != "")
    facts = context.facts_of(live_ref(live), "process", THIS_KERNEL, examined, [step], launch,
                             is_led=False)
    return replace(facts, ran=python, live=live)


def within(context: SeatContext, live: LivePython) -> SeatContext:
    """Return the same context, asked from within a running Python."""
    return context.but(live=_live_seat(context, live))


def _flags(live: LivePython) -> list[str]:
    given = [flag for name, flag in _FLAGS if live.python.flags.get(name)]
    return [flag for flag in given if flag not in ("-E", "-s")] if "-I" in given else given


def added_folders(files: Files, facts: SeatFacts) -> list[tuple[str, bool]]:
    """Return the folders on the path of a running Python that its files do not put there (True: at its front)."""
    assert facts.live is not None
    python, known = facts.live.python, {files.key(p) for p in started_path(files, facts)}
    path = [files.located(p, python.cwd) for p in python.path if p]
    own = next((n for n, p in enumerate(path) if files.key(p) in known), len(path))
    added = [(p, n < own) for n, p in enumerate(path) if files.key(p) not in known and p != python.cwd]
    return [*reversed([x for x in added if x[1]]), *[x for x in added if not x[1]]]  # each is put before the last


def started_path(files: Files, facts: SeatFacts) -> list[str]:
    """Return the search path that the interpreter of a running Python would have if it were started now."""
    seat, examined = facts.seat, facts.examined
    if seat.interpreter is None or seat.launch is None or examined is None:
        return []
    path = read_search_path(files, seat.interpreter, examined.stdlib, examined.config, seat.launch.env, start=None,
                            cwd=seat.launch.cwd, flags=seat.launch.argv[1:])
    return [layer.path for layer in path.layers]
