"""The seats of interpreters and environments that are named outright."""

from __future__ import annotations

from kalyx.core.errors import AmbiguousName, NothingToJudge
from kalyx.core.facts.interpreters.environment import is_environment, prefix_of, python_in
from kalyx.core.facts.interpreters.path_lookup import find_on_path
from kalyx.core.model import Launch, TrailStep

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.seats.context import SeatContext, SeatFacts

__all__ = ["env_seat", "find_environment", "python_seat"]


def python_seat(context: SeatContext, path: str) -> SeatFacts:
    """Return the seat of an interpreter that is named outright."""
    m = context.machine
    full = m.absolute(path)
    if m.path.sep not in path and not m.exists(full):
        found = find_on_path(m, path, first_only=True)
        full = found[0].path if found else full
    context.examiner.trust.distrust(m.path.dirname(full))
    examined = context.examiner.examine(full, m.cwd)
    return context.facts_of(f"python:{full}", "python", full, examined, [], Launch((full,), m.env, m.cwd))


def env_seat(context: SeatContext, name: str, *, is_led: bool = True) -> SeatFacts:
    """Return the seat of an environment, by path or name; without `is_led`, whatever the variables here say.

    Raises:
        NothingToJudge: there is none.
        AmbiguousName: several carry the name.
    """
    m = context.machine
    prefix = find_environment(context, name)
    program = python_in(m, prefix)
    context.examiner.trust.distrust(prefix)
    examined = context.examiner.examine(program, m.cwd)
    step = TrailStep(0, f"the environment {prefix} starts {program}", prefix, None, program)
    return context.facts_of(f"env:{prefix}", "env", m.path.basename(prefix), examined, [step],
                            Launch((program,), m.env, m.cwd), is_led=is_led)


def find_environment(context: SeatContext, name: str) -> str:
    """Return the prefix of the environment that a name or path means.

    Raises:
        NothingToJudge: there is none.
        AmbiguousName: several carry the name.
    """
    m, name = context.machine, name.removeprefix("env:")
    path = m.absolute(name)
    if m.is_file(path) and m.path.basename(m.path.dirname(path)).lower() in ("bin", "scripts"):
        path = prefix_of(m, path)
    if m.is_folder(path) and (is_environment(m, path) or m.exists(python_in(m, path))):
        return path
    for fold in (str, str.lower):
        hits = [e for e in context.environments() if fold(e.name) == fold(name)]
        hits = hits or [e for e in context.environments()
                        if fold(e.name.split("/")[0]) == fold(name) and "/" in e.name]
        if len(hits) == 1:
            return hits[0].path
        if hits:
            raise AmbiguousName(name, [f"env:{e.path}" for e in hits])
    if m.is_folder(path):
        raise NothingToJudge(f"{path} is a folder, but no environment: it has neither "
                             "pyvenv.cfg nor conda-meta nor an interpreter.",
                             "Name the environment's own folder.")
    raise NothingToJudge(f"There is no environment {name!r} among the "
                         f"{len(context.environments())} known here.",
                         "Give the path of its folder.")
