"""What a remedy would change, worked out before it is carried out: for an installation, what pip says."""

from __future__ import annotations

import json

from kalyx.core.answers.put import action_between, plan_steps, read_installed, what_pip_said, would_lose
from kalyx.core.answers.put_checks import Step
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.seats.finder import find_seat
from kalyx.core.lean.record import record, replace
from kalyx.core.verdicts.seats.judge_seat import judge_seat

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.model import Distribution, Finding, Remedy

__all__ = ["Plan", "installed_at", "plan_of", "what_happened"]

PLAN_LIMIT = 600.0  # seconds
_TOO_OLD = ("this pip is too old to say beforehand what it will change; all that the environment has is kept, so that "
            "undo is complete")


@record
class Plan:
    """The distributions that would change, whose requirements that would break, and why it cannot be done."""

    steps: tuple[Step, ...] = ()
    breaks: tuple[Finding, ...] = ()
    trouble: str = ""
    untold: str = ""  # why what would change is not known


def plan_of(context: SeatContext, at: str | None, remedy: Remedy) -> Plan:
    """Return what a remedy would change; an empty plan where it is no installation, or pip cannot say beforehand."""
    argv = list(remedy.argv)
    if argv[:2] == ["conda", "install"]:
        return _plan_of_conda(context, argv)
    if remedy.kind != "command" or "install" not in argv or "pip" not in argv:
        return Plan()
    place = argv.index("install") + 1
    line = [*argv[:place], "--dry-run", "--quiet", "--report", "-", *argv[place:]]
    env = {**context.machine.env, **remedy.env, "PIP_DISABLE_PIP_VERSION_CHECK": "1"}
    ran = context.machine.run(line, env=env, cwd=remedy.cwd, limit=PLAN_LIMIT)
    if ran.status != 0:
        said, _ = what_pip_said(context, ran)
        return Plan(untold=_TOO_OLD) if "no such option" in said else Plan(trouble=f"pip cannot install it: {said}")
    try:
        items = json.loads(ran.text())["install"]
        names = [(str(i["metadata"]["name"]), str(i["metadata"]["version"])) for i in items]
    except (ValueError, KeyError, TypeError):
        return Plan()
    facts = find_seat(context, at or "shell") if "--target" not in argv else None
    if facts is None or facts.seat.interpreter is None or not facts.seat.interpreter.works:
        return Plan(tuple(Step(n, "added", None, v) for n, v in names))
    facts = replace(facts, seat=judge_seat(facts, context.machine, Neighbours(context.machine, context)))
    before = read_installed(context, facts)
    steps = plan_steps(before, names)
    return Plan(tuple(steps), tuple(would_lose(context, facts, before, steps, [f"{n}=={v}" for n, v in names])))


def installed_at(context: SeatContext, at: str | None, remedy: Remedy) -> list[Distribution]:
    """Return what a seat can import, where a remedy installs something; else nothing."""
    if remedy.kind != "command" or "pip" not in " ".join(remedy.argv):
        return []
    facts = find_seat(context, at or "shell")
    works = facts.seat.interpreter is not None and facts.seat.interpreter.works
    return read_installed(context, facts) if works else []


def what_happened(before: Sequence[Distribution], after: Sequence[Distribution]) -> Plan:
    """Return what an installation did, where nobody had to be told beforehand."""
    was = {d.name: d.version for d in before if d.hidden_by is None}
    now = {d.name: d.version for d in after if d.hidden_by is None}
    steps = [Step(n, action_between(was.get(n), v), was.get(n), v) for n, v in now.items() if was.get(n) != v]
    return Plan((*steps, *(Step(n, "removed", v, "") for n, v in was.items() if n not in now)))


def _plan_of_conda(context: SeatContext, argv: list[str]) -> Plan:
    """Return what conda says that it would link and unlink, by its own dry run."""
    ran = context.machine.run([*argv, "--dry-run", "--json"], limit=PLAN_LIMIT)
    try:
        said = json.loads(ran.text())
        if not said.get("success", ran.status == 0):
            return Plan(trouble=f"conda cannot install it: {said.get('message') or said.get('error')}")
        new, old = ({str(p["name"]): str(p["version"]) for p in said.get("actions", {}).get(k, ())}
                    for k in ("LINK", "UNLINK"))
    except (ValueError, KeyError, TypeError, AttributeError):
        return Plan() if ran.status == 0 else Plan(trouble=f"conda cannot install it: {ran.complaint() or ran.why_not}")
    return Plan(tuple(Step(n, action_between(old.get(n), v), old.get(n), v) for n, v in new.items()))
