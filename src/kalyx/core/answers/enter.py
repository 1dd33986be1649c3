"""``enter``: the line that has this shell use an environment; the one that brings back what was before."""

from __future__ import annotations

from kalyx.core.answers.named_environment import environment_named
from kalyx.core.entering.lines import lines_to_enter, lines_to_leave
from kalyx.core.entering.shells import SHELLS, family_of, plain_name
from kalyx.core.entering.variables import KEPT, read_kept
from kalyx.core.errors import WrongUsage
from kalyx.core.facts.environments.activation import conda_hooks
from kalyx.core.lean.record import record
from kalyx.core.model import Note

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.entering.shells import Shell
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.model import Environment, Finding

__all__ = ["EnterAnswer", "answer_enter", "answer_leave", "known_shell"]


@record
class EnterAnswer:
    """The line for a shell, and the one that leaves again. ``environment`` is None for leaving.

    ``was`` is the folder of the environment that is left; ``script`` the environment's own, where it is read.
    """

    environment: Environment | None
    shell: Shell
    shell_name: str
    line: str
    leave: str
    was: str = ""
    script: str | None = None
    findings: tuple[Finding, ...] = ()
    notes: tuple[Note, ...] = ()

    @property
    def status(self) -> str:
        """Whether the line can be used."""
        return "problem" if self.findings else "ok"


def known_shell(name: str) -> Shell:
    """Return the shell that a name means.

    Raises:
        WrongUsage: it is not known.
    """
    shell = family_of(name)
    if shell is None:
        raise WrongUsage(f"{name!r} is no shell that Kalyx knows.",
                         f"Say --shell with one of: bash, zsh, tcsh, {', '.join(SHELLS)}.")
    return shell


def answer_enter(context: SeatContext, name: str, shell_name: str, before: Mapping[str, str]) -> EnterAnswer:
    """Return the line that has a shell with the variables `before` enter an environment.

    Raises:
        WrongUsage: the shell is not known.
        NothingToJudge: there is no such environment.
        Refused: no line can do it.
    """
    shell, shown = known_shell(shell_name), plain_name(shell_name)
    environment, _, findings = environment_named(context, name)
    if findings:
        return EnterAnswer(environment, shell, shown, "", "", findings=findings)
    entry = lines_to_enter(context.machine, environment, shell, before)
    hooks = conda_hooks(context.machine, environment.path) if environment.kind == "conda" else []
    notes = [Note("hook-not-run", f"{path} belongs to it and is not run: what it sets is not set.", path)
             for path in hooks]
    return EnterAnswer(environment, shell, shown, entry.line, entry.leave, script=entry.script, notes=tuple(notes))


def answer_leave(shell_name: str, now: Mapping[str, str]) -> EnterAnswer:
    """Return the line that brings back what a shell had before it entered.

    Raises:
        WrongUsage: the shell is not known.
        NothingToJudge: it has entered nothing.
    """
    kept = read_kept(now.get(KEPT, ""))
    shell = known_shell(shell_name)
    return EnterAnswer(None, shell, plain_name(shell_name), lines_to_leave(shell, now), "",
                       was=kept.folder if kept else now.get("VIRTUAL_ENV", ""))
