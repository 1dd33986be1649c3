"""Parses the command line, runs the command, chooses the exit status."""

from __future__ import annotations

import os
import sys

from kalyx import __version__
from kalyx.cli.bound import Bound, Overdue
from kalyx.cli.commands import COMMANDS, EXAMPLES, GROUPS
from kalyx.cli.completion import SHELLS, attach, complete, is_asked_for, shell_code
from kalyx.cli.options import (
    CannotPrint,
    Parser,
    UsageError,
    add_global_options,
    as_written,
    asks_for_json,
    nearest,
    print_error,
)
from kalyx.cli.patience import Patience
from kalyx.core.errors import KalyxError, Refused, WrongUsage
from kalyx.core.quoting import join_words, name_of_shell

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

__all__ = ["run"]

STATUS = {"ok": 0, "problem": 1, "error": 2, "unknown": 3}
SHORT_HELP = """\
kalyx says which Python is really used here, and why an import fails in it.

  kalyx here                 which interpreter and environment do this shell, editor and
                             these notebooks use, and do they agree?
  kalyx why pandas           why does this import fail (or where does it come from)?
                             --at notebook:FILE, script:FILE, kernel:NAME, env:NAME, python:PATH
  kalyx enrol .venv          make this environment a notebook kernel, and prove that it works

  kalyx demo                 see all of it on made-up data
  kalyx COMMAND --help       more on each
"""


class CommandParser(Parser):
    """The parser of one command, which is set up, and its module loaded, when it is used: a run needs one of them."""

    def __init__(self, *, module: str, **given: Any) -> None:
        self._unloaded = module
        self._given: dict[str, Any] | None = given
        if is_asked_for():  # what completes looks at all of them
            self._set_up()

    def _set_up(self) -> None:
        given, self._given = self._given, None
        if given is not None:
            super().__init__(**given)

    def load(self, *, everywhere: bool = True) -> CommandParser:
        """Set it up, where that was not done yet, with the command's own arguments and those of all; return itself."""
        self._set_up()
        module, self._unloaded = self._unloaded, ""
        if module:
            if everywhere:
                add_global_options(self)
            load(module).add_arguments(self)
            rows = EXAMPLES[self.prog.split()[-1]]
            width = max(len(line) for line, _ in rows)
            self.epilog = "\n".join(["examples:", *[f"  {line:<{width}}  {what}" if width < 48 else
                                                    f"  {line}\n      {what}" for line, what in rows]])
            if is_asked_for():
                attach(self)
        return self

    def parse_known_args(self, *args: Any, **more: Any) -> Any:
        """Parse, with the command's own arguments."""
        self.load()
        return super().parse_known_args(*args, **more)


class MainParser(Parser):
    """The parser of the command line, whose help has the commands in their groups."""

    commands: dict[str, CommandParser]

    def format_help(self) -> str:
        """Return the help: commands in groups, then the options."""
        import textwrap

        column, formatter = max(map(len, COMMANDS)) + 4, self._get_formatter()
        rows = [f"usage: {self.prog} COMMAND [...]", "", str(self.description), ""]
        for group, names in GROUPS.items():
            rows += [f"{group}:", *[textwrap.fill(f"  {name:<{column - 2}}{COMMANDS[name][1]}", formatter._width,
                                                  subsequent_indent=" " * column) for name in names], ""]
        for section in self._action_groups:
            shown = [a for a in section._group_actions if a.dest != "command"]
            if shown:
                formatter.start_section(section.title)
                formatter.add_arguments(shown)
                formatter.end_section()
        return "\n".join([*rows, formatter.format_help().rstrip(), "", "kalyx COMMAND --help says more of each, with "
                          "examples."]) + "\n"


def build_parser() -> MainParser:
    """Build the parser of the command line."""
    parser = MainParser(prog="kalyx", description="Which Python is really used here, and why an "
                        "import fails in it.", allow_abbrev=False)
    parser.add_argument("--version", action="version", version=f"kalyx {__version__}", help="print the version")
    parser.add_argument("--completion", choices=SHELLS, metavar="SHELL",
                        help="print what bash, zsh or fish reads to complete kalyx")
    add_global_options(parser, top=True)
    commands = parser.add_subparsers(dest="command", metavar="COMMAND", parser_class=CommandParser,
                                     prog="kalyx")  # given, or a help formatter is loaded
    for name, (module, line) in COMMANDS.items():
        commands.add_parser(name, help=line, description=line[0].upper() + line[1:] + ".", allow_abbrev=False,
                            module=module, formatter_class=as_written)
    parser.commands = commands.choices
    return parser


def parse(argv: list[str]) -> Any:
    """Return the options of a command line.

    Raises:
        UsageError: it is none; with what was meant, where that is near.
    """
    parser = build_parser()
    if is_asked_for():
        for word in os.environ.get("COMP_LINE", "").split():
            if word in parser.commands:  # what completes looks at all arguments before anything is parsed
                parser.commands[word].load()
        complete(parser)
    options, unknown = parser.parse_known_args(argv)
    if unknown:
        own = parser.commands[options.command].load() if options.command else parser
        word = unknown[0].partition("=")[0]
        known = [s for action in own._actions for s in action.option_strings]
        raise UsageError(f"{own.prog} has no option {word}." if word.startswith("-") else
                         f"{own.prog} takes no further word: {' '.join(unknown)}.",
                         (nearest(word, known) if word.startswith("-") else "") or f"{own.prog} --help says more.")
    return options


def load(module: str) -> Any:
    """Return the module of a command; not by `importlib`, whose own import takes longer."""
    return __import__(f"kalyx.cli.{module}", fromlist=["run"])


def run_command(argv: list[str]) -> int:
    """Run one command line and return its exit status."""
    if not argv and not is_asked_for():
        print(SHORT_HELP, end="")
        return 0
    options = parse(argv)
    if options.completion:
        print(shell_code(options.completion))
        return 0
    if options.command is None:
        raise UsageError("no command was given.", "kalyx --help lists them.")
    with Patience(options.command), Bound(options):
        status: str = load(COMMANDS[options.command][0]).run(options)
    return STATUS[status]


def run(argv: list[str]) -> int:
    """Run one command line and return its exit status; never lets a traceback through."""
    first = next((a for a in argv if not a.startswith("-")), None)
    command = first if first in COMMANDS else None
    try:
        return run_command(argv)
    except SystemExit as done:  # help, or the version, was printed
        return done.code if isinstance(done.code, int) else 0
    except UsageError as error:
        return report_error(argv, command, "error", error.message, error.hint)
    except KalyxError as error:
        return report_error(argv, command, _status_of(error), error.message, error.hint)
    except Overdue as error:
        return report_error(argv, command, "unknown", f"Kalyx did not come to an end within {error.seconds:g} s.",
                            "Name a smaller part, or give it longer with --timeout.")
    except KeyboardInterrupt as error:
        return 128 + getattr(error, "number", 2)
    except CannotPrint as error:
        silence()
        print_error(f"kalyx: The answer could not be written: {error}.")
        return STATUS["unknown"]
    except BrokenPipeError:
        silence()
        return 0
    except RecursionError:
        return report_error(argv, command, "unknown", "Something is nested too deeply to be read.",
                            "Name a smaller part of it.")
    except ModuleNotFoundError as error:
        return report_error(argv, command, "unknown", f"Kalyx's own installation lacks {error.name}.", install_again())
    except Exception as error:  # a mistake of ours: still a sentence, and how to see more
        if os.environ.get("KALYX_DEBUG"):
            raise
        last = traceback_line(error)
        return report_error(argv, command, "unknown", f"Kalyx made a mistake: {type(error).__name__}: "
                            f"{error} ({last}).", "KALYX_DEBUG=1 shows all of it; please report it.")


def install_again() -> str:
    """Say how to install Kalyx again."""
    line = (sys.executable, "-m", "pip", "install", "--force-reinstall", "kalyx")
    return "Install Kalyx again: " + join_words(line, name_of_shell(sys.platform, os.environ))


def silence() -> None:
    """Have what is left to be printed go nowhere: it could not be written."""
    try:
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
    except OSError:
        pass


def traceback_line(error: Exception) -> str:
    """Return file and line where an exception was raised."""
    where = error.__traceback__
    while where is not None and where.tb_next is not None:
        where = where.tb_next
    if where is None:
        return "nowhere"
    return f"{os.path.basename(where.tb_frame.f_code.co_filename)}, line {where.tb_lineno}"


def _status_of(error: KalyxError) -> str:
    if isinstance(error, WrongUsage):
        return "error"
    return "problem" if isinstance(error, Refused) else "unknown"


def report_error(argv: list[str], command: str | None, status: str, message: str,
                 hint: str) -> int:
    """Say what went wrong, as text or as a document."""
    if asks_for_json(argv):
        from kalyx.cli.common import print_document
        from kalyx.show.as_json import document

        print_document(document(command or "", status, {"message": message, "hint": hint}))
    else:
        from kalyx.show.page import clean

        print_error(f"kalyx: {clean(message)}" + (f"\n       {clean(hint)}" if hint else ""))
    return STATUS[status]

