"""Carries one remedy out: its edits and moves, Kalyx's own commands, or pip, conda and venv; all in the journal."""

from __future__ import annotations

import os

from kalyx.core.answers.own_commands import do_own_command
from kalyx.core.answers.pip_changes import run_watched
from kalyx.core.answers.put import PIP_LIMIT, what_pip_said
from kalyx.core.changes.carry_out import do_edits, do_file_command, is_file_command, rewritten_files
from kalyx.core.changes.journal import RETIRED, journal_folder
from kalyx.core.errors import Refused
from kalyx.core.facts.interpreters.environment import is_environment, name_of, prefix_of
from kalyx.core.facts.interpreters.installation import read_interpreter
from kalyx.core.model import Environment

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from kalyx.core.changes.entry import Entry
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.machine.interface import Machine
    from kalyx.core.model import Remedy

__all__ = ["do_remedy"]


def do_remedy(context: SeatContext, entry: Entry, remedy: Remedy, limit: float,
              progress: Callable[[str], object] = bool) -> None:
    """Carry out one remedy as a part of a change. `limit`: seconds for what it starts to prove itself.

    Raises:
        KalyxError: it failed; what it had changed is taken back.
    """
    machine, own = context.machine, context.machine.own_command
    if remedy.argv and own == remedy.argv[:len(own)]:
        do_own_command(context, entry, remedy.argv[len(own):], limit, progress)
        return
    if remedy.kind == "edit":
        do_edits(entry, remedy)
        return
    if is_file_command(remedy.argv):
        kept = os.path.join(journal_folder(machine), f"{entry.change.number:06d}.kept", RETIRED,
                            str(len(entry.change.actions)))
        do_file_command(entry, remedy.argv, kept)
        return
    env = {**machine.env, **remedy.env, "PIP_DISABLE_PIP_VERSION_CHECK": "1"}
    files = rewritten_files(remedy.argv)
    if files:
        _rewrite(machine, entry, remedy, files)
        return
    words = _words(remedy.argv)
    into = [words[n + 1] for n, word in enumerate(words[:-1]) if word == "--target"]
    ran, changed = run_watched(machine, entry, _changed_by(machine, words), None,
                               lambda: machine.run(remedy.argv, env=env, cwd=remedy.cwd, limit=PIP_LIMIT),
                               everything=os.path.basename(remedy.argv[0]).startswith("conda"), more=into,
                               in_place="pip" not in words)
    if ran.status != 0:
        if changed:
            entry.take_back_last()
        raise Refused(f"It failed: {what_pip_said(context, ran)[0]}", "What it had changed was taken back.")


def _rewrite(machine: Machine, entry: Entry, remedy: Remedy, files: Sequence[str]) -> None:
    """Have a line of code write files anew, which are kept before."""
    watched = entry.installing(os.path.dirname(files[0]), [], None, files, links=False)
    try:
        ran = machine.run(remedy.argv, env={**machine.env, **remedy.env}, cwd=remedy.cwd, limit=PIP_LIMIT)
    finally:
        changed = entry.was_installed(watched)
    if ran.status != 0:
        if changed:
            entry.take_back_last()
        raise Refused(f"It failed: {ran.complaint() or ran.why_not}", "What it had changed was taken back.")


def _words(argv: Sequence[str]) -> list[str]:
    """Return the words of a command line, of one that a shell is given too."""
    if tuple(argv[:2]) == ("sh", "-c"):
        import shlex

        return shlex.split(argv[2])
    return list(argv)


def _changed_by(machine: Machine, words: list[str]) -> Environment:
    """Return the environment that a command line changes: that of the last program in it that is one's interpreter."""
    m = machine
    if "venv" in words:  # the folder stands last, and may be no environment any more
        return Environment(m.absolute(words[-1]), name_of(m, words[-1]), "venv", None, None)
    if "--python" in words[:-1]:  # one pip works for another interpreter, or environment
        words = [words[words.index("--python") + 1]]
    program = _installing_program(machine, words)
    folders = [w for w in words if m.path.isabs(w) and m.is_folder(w) and is_environment(m, w)]
    if not folders and not program:
        raise Refused(f"Which environment {words[0]} changes cannot be told, so that it could not be taken back.",
                      "Run it yourself.")
    prefix = folders[-1] if folders else prefix_of(m, program)
    kind = "conda" if m.exists(m.path.join(prefix, "conda-meta")) else "venv"
    version = read_interpreter(m, program, None).version if program and not m.is_file(
        m.path.join(prefix, "pyvenv.cfg")) else None
    return Environment(prefix, name_of(m, prefix), kind, None, version)  # type: ignore[arg-type]


def _installing_program(machine: Machine, words: Sequence[str]) -> str:
    """Return the interpreter that a command line has install something; empty where there is none."""
    m = machine
    if len(words) == 1:
        return words[0] if m.is_file(words[0]) else ""
    for number, word in enumerate(words[:-1]):
        if word == "-m" and words[number + 1] in ("pip", "ensurepip"):
            before = [w for w in words[:number] if m.path.isabs(w) and m.is_file(w)]
            return before[-1] if before else ""
    return ""
