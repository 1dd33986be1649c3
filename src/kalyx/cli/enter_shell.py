"""``kalyx enter --start``: a new shell in an environment, which says where it is."""

from __future__ import annotations

import os

from kalyx.cli.common import context_for
from kalyx.cli.options import print_error
from kalyx.cli.patience import asking
from kalyx.core.answers.enter import known_shell
from kalyx.core.answers.named_environment import environment_named
from kalyx.core.entering.lines import variables_of
from kalyx.core.entering.new_shell import new_shell
from kalyx.core.entering.shells import plain_name
from kalyx.core.errors import Refused
from kalyx.core.facts.interpreters.environment import program_folder
from kalyx.core.facts.interpreters.path_lookup import find_on_path
from kalyx.core.facts.shells.start_files import read_at_start, who_puts_first
from kalyx.core.machine.terminal import hand_over

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse

    from kalyx.core.machine.interface import Machine
    from kalyx.core.model import Environment

__all__ = ["check_started", "start"]


def start(options: argparse.Namespace, name: str) -> str:
    """Start a shell in the environment, and wait for its end; return the status.

    Raises:
        Refused: the environment cannot be entered, or the shell not be started.
    """
    known_shell(name)
    context = context_for(None, options)
    environment, _, findings = environment_named(context, options.env)
    if findings:
        raise Refused(f"{environment.path} cannot be entered: {findings[0].because}", "kalyx envs says more.")
    machine, before = context.machine, dict(os.environ)
    program = _program(machine, name)
    variables = variables_of(machine, environment, before)
    env = {**before, **{k: v for k, v in variables.items() if v is not None}}
    for gone in (k for k, v in variables.items() if v is None):
        env.pop(gone, None)
    folder = machine.make_folder()
    try:
        check = (*machine.own_command, "enter", environment.path, "--shell", plain_name(program), "--found")
        own = [f for f in read_at_start(machine, plain_name(program)) if machine.is_file(f)]
        new = new_shell(program, folder, program_folder(machine, environment.path), environment.name, check, before,
                        own)
        for file, text in new.files.items():
            with open(os.path.join(folder, file), "w", encoding="utf-8", errors="surrogateescape") as out:
                out.write(text)
        with asking():  # it is the person's turn
            hand_over(new.argv, {**env, **new.env})
    except OSError as error:
        raise Refused(f"{program} cannot be started: {error.strerror}.", "Name another one with --shell.") from None
    finally:
        machine.remove_folder(folder)
    return "ok"


def check_started(options: argparse.Namespace) -> str:
    """Say in a new shell where it is, and what its start-up files had put before that; return the status."""
    context = context_for(None, options)
    environment, _, _ = environment_named(context, options.env)
    _say(context.machine, environment, options.shell or "", options.found)
    return "ok"


def _program(machine: Machine, name: str) -> str:
    """Return the program of the shell that is to be started: the one that is named, or the person's own."""
    own = os.environ.get("SHELL", "")
    if "/" in name or "\\" in name:
        return name
    if plain_name(own) == plain_name(name):
        return own
    found = find_on_path(machine, plain_name(name), first_only=True)
    return found[0].path if found else name


def _say(machine: Machine, environment: Environment, shell: str, found: str) -> None:
    from kalyx.show.page import Page, clean

    short = Page(machine.home).short
    own = program_folder(machine, environment.path)
    if found and machine.path.dirname(found) != own:
        by = who_puts_first(machine, shell, found)
        where = f"{short(by.path or '')}, line {by.line}, puts" if by is not None else "The shell's start-up files put"
        print_error(f"! {where} another Python first, {short(found)}: the environment was put before it again.")
        if by is not None:
            print_error(f"    {clean(by.says)}")
    version = f"Python {environment.python_version}, " if environment.python_version else ""
    print_error(f"{clean(environment.name)}: {version}{short(environment.path)}. exit brings you back.")
