"""``kalyx enter``."""

from __future__ import annotations

import os
import sys

from kalyx.cli.common import context_for, print_answer
from kalyx.cli.options import print_error, printing
from kalyx.core.answers.enter import EnterAnswer, answer_enter, answer_leave
from kalyx.core.errors import WrongUsage
from kalyx.core.quoting import name_of_shell

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse

SUPPRESS = "==SUPPRESS=="  # argparse's own word for what its help leaves out


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``enter``."""
    parser.add_argument("env", nargs="?", metavar="ENV", help="the environment: its folder or its name")
    parser.add_argument("--shell", metavar="NAME", help="bash, zsh, fish, csh, tcsh, powershell, cmd, nu, xonsh or sh "
                        "(default: the one that started kalyx)")
    parser.add_argument("--start", action="store_true", help="start a new shell in it; its end brings you back")
    parser.add_argument("--leave", action="store_true", help="the line that brings back what was there before")
    parser.add_argument("--found", help=SUPPRESS)


def run(options: argparse.Namespace) -> str:
    """Print the line, or start a shell; return the status."""
    if (options.env is None) != options.leave or (options.leave and options.start):
        raise WrongUsage("Name an environment, or say --leave.", "kalyx enter lab; kalyx enter --leave")
    name = options.shell or shell_that_asks()
    if options.leave:
        return _print(options, answer_leave(name, os.environ))
    if options.start or options.found is not None:
        from kalyx.cli.enter_shell import check_started, start

        return check_started(options) if options.found is not None else start(options, name)
    return _print(options, answer_enter(context_for(None, options), options.env, name, os.environ))


def shell_that_asks() -> str:
    """Return the name of the shell that started us: the nearest process above that is one, else what SHELL names."""
    import psutil

    from kalyx.core.entering.shells import family_of

    try:
        for process in psutil.Process().parents()[:2]:
            words = [process.name(), *process.cmdline()[1:2]]
            found = next((w for w in words if family_of(w) is not None), None)
            if found is not None:
                return found
    except psutil.Error:  # it has gone, or is not ours to see
        pass
    own = os.environ.get("SHELL", "")
    return own if family_of(own) is not None else name_of_shell(sys.platform, os.environ)


def _print(options: argparse.Namespace, answer: EnterAnswer) -> str:
    """Print the page where a person reads it, the line alone where a shell does."""
    if options.json or sys.stdout is None or sys.stdout.isatty() or answer.findings:
        if answer.findings and not options.json:
            return _print_failure(options, answer)
        return print_answer(options, answer)
    for note in answer.notes:
        print_error(f"kalyx: {note.message}")
    with printing():
        sys.stdout.flush()
        sys.stdout.buffer.write(os.fsencode(answer.line) + b"\n")
        sys.stdout.buffer.flush()
    return answer.status


def _print_failure(options: argparse.Namespace, answer: EnterAnswer) -> str:
    """Print why it cannot be entered on standard error: a shell that reads the output gets nothing."""
    from kalyx.show.page import Page
    from kalyx.show.pages.enter import lay_out
    from kalyx.show.write import Writer

    page = Page(os.path.expanduser("~"), os.name == "nt", (), name_of_shell(sys.platform, os.environ))
    lay_out(page, answer, verbose=options.verbose)
    Writer(color="never" if not sys.stderr.isatty() else options.color, stream=sys.stderr).write(page)
    return answer.status
