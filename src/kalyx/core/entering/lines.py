"""The line that enters an environment in a shell, and the one that leaves it again."""

from __future__ import annotations

from kalyx.core.entering.variables import KEPT, Kept, entered_variables, read_kept, write_kept
from kalyx.core.errors import NothingToJudge, Refused, Unreadable
from kalyx.core.facts.interpreters.environment import program_folder
from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.entering.shells import Shell
    from kalyx.core.facts.files import Files
    from kalyx.core.model import Environment

__all__ = ["LinesFor", "lines_to_enter", "lines_to_leave", "variables_of"]

# what the scripts of some versions leave behind
LEFT_OVER = ("_OLD_VIRTUAL_PATH", "_OLD_VIRTUAL_PYTHONHOME", "_OLD_VIRTUAL_PS1", "_OLD_FISH_PROMPT_OVERRIDE")


@record
class LinesFor:
    """How an environment is entered: the line, the one that leaves it, the environment's own script if that is read."""

    line: str
    leave: str
    script: str | None = None


def variables_of(files: Files, environment: Environment, before: Mapping[str, str],
                 script: str | None = None) -> dict[str, str | None]:
    """Return all variables that a shell has or lacks once it has entered: what was there before is one of them."""
    changed = entered_variables(files, environment, before)
    kept = Kept({name: before.get(name) for name in (*changed, *_more(changed, before), KEPT)}, _depth(before),
                script is not None, environment.path)
    return {**changed, KEPT: write_kept(kept)}


def _more(changed: Mapping[str, object], before: Mapping[str, str]) -> list[str]:
    """Return what an activation script may change beside what entering changes; a prompt, where it is for all."""
    return [name for name in ("PYTHONHOME", "VIRTUAL_ENV", "VIRTUAL_ENV_PROMPT", *(["PS1"] if "PS1" in before else []))
            if name not in changed]


def _depth(before: Mapping[str, str]) -> int:
    kept = read_kept(before.get(KEPT, ""))
    return kept.depth + 1 if kept is not None else 0


def lines_to_enter(files: Files, environment: Environment, shell: Shell, before: Mapping[str, str]) -> LinesFor:
    """Return the line that enters an environment: by its own script where nothing is active and that script is right.

    Raises:
        Refused: no line can do it.
    """
    _refuse_impossible(files, environment, shell)
    script = _script(files, environment, shell, before)
    variables = variables_of(files, environment, before, script)
    depth = _depth(before)
    if script is not None:
        steps = [shell.set(KEPT, variables[KEPT]), *([shell.keep.format(n=depth)] if shell.keep else []),
                 shell.source.format(path=shell.quote(script))]
    else:
        steps = [shell.set(name, value) for name, value in variables.items() if value is not None or name in before]
        steps += [shell.keep.format(n=depth)] if shell.keep else []
        if shell.show:
            label = "".join(c if c.isalnum() or c in " ._/+-@" else "_" for c in environment.name)
            steps.append(shell.show.format(n=depth, label=shell.quote(f"({label}) ")))
        if shell.refresh:
            steps.append(shell.refresh)
    after = {**before, **variables}
    return LinesFor(shell.between.join(steps), lines_to_leave(shell, {k: v for k, v in after.items() if v is not None}),
                 script)


def lines_to_leave(shell: Shell, now: Mapping[str, str]) -> str:
    """Return the line that brings back what a shell had before it entered an environment.

    Raises:
        NothingToJudge: it has not entered any.
    """
    kept = read_kept(now.get(KEPT, ""))
    if kept is None:
        if now.get("VIRTUAL_ENV") and shell.deactivate and KEPT not in now:
            return shell.deactivate.format()
        raise NothingToJudge("This shell has entered no environment." if KEPT not in now else
                             f"What was there before cannot be read any more from {KEPT}.",
                             "Open a new shell, if it is to be as before.")
    steps = []
    if kept.script and shell.deactivate:
        steps = [shell.deactivate.format(), *[shell.set(name, None) for name in LEFT_OVER]]
    if shell.hide and (shell.keep or not kept.script):
        steps.append(shell.hide.format(n=kept.depth))
    steps += [shell.set(name, value) for name, value in kept.variables.items()]
    if shell.refresh:
        steps.append(shell.refresh)
    return shell.between.join(steps)


def _refuse_impossible(files: Files, environment: Environment, shell: Shell) -> None:
    path = environment.path
    if files.path_separator in path.removeprefix(files.path.splitdrive(path)[0]):
        raise Refused(f"{path} cannot be entered: its name has {files.path_separator!r} in it, which divides PATH.",
                      f"Start {environment.interpreter.path if environment.interpreter else path} by its whole path.")
    if any(c in path for c in {"cmd": '%"\n', "csh": "\n", "xonsh": "$"}.get(shell.name, "")):
        raise Refused(f"{path} cannot be entered: {shell.name} has no way to write its name.",
                      "Use another shell, or move the environment.")


def _script(files: Files, environment: Environment, shell: Shell, before: Mapping[str, str]) -> str | None:
    """Return the environment's own script for a shell, where it does no more and no less than it should."""
    m, prefix = files, environment.path
    plain = all(c.isalnum() or c in "/\\:._-+ " for c in prefix)  # others are not safe in all of their versions
    if environment.kind != "venv" or not shell.script or not plain:
        return None
    if any(before.get(name) for name in (KEPT, "VIRTUAL_ENV", "CONDA_PREFIX")):
        return None
    script = str(m.path.join(program_folder(m, prefix), shell.script))
    try:
        text = m.read_text(script, 65_536)
    except Unreadable:
        return None
    return script if shell.name == "powershell" or prefix in text else None
