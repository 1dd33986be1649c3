"""Undoes what a wrapper did to our own environment on the way to starting Kalyx.

Where ``kalyx`` itself is started by a version manager's wrapper script, PATH
and some variables are no longer the shell's: the wrapper has put the chosen
interpreter's folder first. Judging that would be judging the wrapper's child.
"""

from __future__ import annotations

import re

from kalyx.core.facts.interpreters.examiner import Examiner
from kalyx.core.facts.interpreters.path_lookup import find_on_path
from kalyx.core.lean.record import record
from kalyx.core.model import Note

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.machine.interface import Machine

__all__ = ["WRAPPERS", "WrapperTraces", "shell_environment"]


@record
class WrapperTraces:
    """What one kind of wrapper leaves behind.

    ``marks`` are variables that only exist inside a call of it, ``root`` the
    variable of its folder, ``entries`` the PATH entries below that folder that
    it puts in front, ``version`` the variable that it sets to its choice, which
    a person may have set as well.
    """

    marks: tuple[str, ...]
    root: str
    entries: str
    version: str


WRAPPERS: tuple[WrapperTraces, ...] = (
    WrapperTraces(("PYENV_DIR", "PYENV_HOOK_PATH", "_PYENV_INSTALL_PREFIX"), "PYENV_ROOT",
                  r"versions/[^/]+/bin|libexec|plugins/[^/]+/bin", "PYENV_VERSION"),
)


def shell_environment(machine: Machine, probe_folder: str) -> tuple[dict[str, str], list[Note]]:
    """Return the variables as the shell has them, and a note when they were not ours."""
    env = dict(machine.env)
    for traces in WRAPPERS:
        if all(mark in env for mark in traces.marks) and env.get(traces.root):
            return _undo(machine, env, traces, probe_folder)
    return env, []


def _undo(machine: Machine, env: dict[str, str], traces: WrapperTraces,
          probe_folder: str) -> tuple[dict[str, str], list[Note]]:
    added = re.compile(re.escape(env[traces.root].rstrip("/")) + "/(" + traces.entries + ")")
    entries = env.get("PATH", "").split(machine.path_separator)
    left_out = []
    while entries and added.fullmatch(entries[0]):
        left_out.append(entries.pop(0))
    for mark in traces.marks:
        del env[mark]
    env["PATH"] = machine.path_separator.join(entries)
    chosen = env.pop(traces.version, None)
    if chosen is not None and not _chooses_by_itself(machine, env, chosen, probe_folder):
        env[traces.version] = chosen  # a person set it: without it the choice is another
    return env, [Note("started-by-wrapper", "Kalyx was itself started by a wrapper script; what it "
                      f"had put in front of PATH was left out: {', '.join(left_out)}.")]


def _chooses_by_itself(machine: Machine, env: dict[str, str], chosen: str,
                       probe_folder: str) -> bool:
    """Whether the wrapper picks the same version when the variable is not set."""
    for name in ("python", "python3"):
        found = find_on_path(machine, name, env["PATH"], first_only=True)
        if found:
            examiner = Examiner(machine, machine.cwd, probe_folder)
            interpreter = examiner.examine(found[0].path, machine.cwd, env=env).interpreter
            return chosen.split(":")[0] in interpreter.path.split("/")
    return False
