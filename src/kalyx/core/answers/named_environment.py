"""The environment that somebody named to use it, and what keeps it from being used."""

from __future__ import annotations

from kalyx.core.errors import NothingToJudge
from kalyx.core.facts.interpreters.environment import name_of
from kalyx.core.facts.seats.environment import env_seat, find_environment
from kalyx.core.lean.record import replace
from kalyx.core.model import Environment
from kalyx.core.verdicts.seats.interpreter import interpreter_broken, interpreter_gone

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.model import Finding, Interpreter
    from kalyx.core.model.kinds import EnvironmentKind

__all__ = ["environment_named"]


def environment_named(context: SeatContext, name: str) -> tuple[Environment, Interpreter | None, tuple[Finding, ...]]:
    """Return the environment that a name means, its interpreter, and the findings that keep it from being used.

    Where there are none, the interpreter is one that works, and the environment has it.

    Raises:
        NothingToJudge: there is no such environment, or nothing in it that could be an interpreter.
        AmbiguousName: several carry the name.
    """
    m = context.machine
    facts = env_seat(context, name, is_led=False)  # it is to be used from elsewhere, with other variables
    broken = interpreter_gone(facts, m) or interpreter_broken(facts, m)
    environment, interpreter = facts.seat.environment, facts.seat.interpreter
    if broken is not None:
        prefix = find_environment(context, name)
        kind: EnvironmentKind = "conda" if m.is_folder(m.path.join(prefix, "conda-meta")) else "venv"
        return environment or Environment(prefix, name_of(m, prefix), kind, None, None), interpreter, (broken,)
    if environment is None or interpreter is None:
        raise NothingToJudge(f"{name} has no interpreter that could be used.", "Name an environment with a Python.")
    return replace(environment, interpreter=interpreter), interpreter, ()
