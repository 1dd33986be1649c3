"""Parses the command line, runs the command, chooses the exit status."""

from __future__ import annotations

import os
import sys

from kalyx import __version__
from kalyx.cli.options import CannotPrint, Parser, UsageError, add_global_options, asks_for_json, print_error
from kalyx.cli.patience import Patience
from kalyx.core.errors import KalyxError, Refused, WrongUsage
from kalyx.core.quoting import join_words, name_of_shell

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

__all__ = ["run"]

# command: (module, one line of help); the module has add_arguments and run
COMMANDS = {
    "here": ("here", "which Python this shell and folder really use, and whether they agree"),
    "why": ("why", "why an import fails, or where it comes from when it works"),
    "envs": ("envs", "the environments and interpreters of this machine, their health, who uses them"),
    "packages": ("packages", "what a seat can import, layer by layer, and what hides what"),
    "running": ("running", "live Python processes: which interpreter, which environment, whose"),
    "kernels": ("kernels", "the registered notebook kernels: what each runs, and whether it is well"),
    "fit": ("fit", "which environments can run this notebook, script or project, and what each of the others lacks"),
    "contrast": ("contrast", "two environments, seats or lists of packages side by side, what matters first"),
    "weigh": ("weigh", "what takes the disk space, distribution by distribution, and what would go with what"),
    "mend": ("mend", "carry out the remedies of what is wrong, one after the other, until it is well"),
    "enrol": ("enrol", "make an environment a notebook kernel, and prove that it answers"),
    "retire": ("retire", "unregister a kernel, and its environment with it; undo brings it back"),
    "point": ("point", "have an editor's settings, or a notebook, use an environment"),
    "enter": ("enter", "the line that has this shell use an environment, and the way back; or a new shell in it"),
    "make": ("make", "build an environment with a wanted Python, fill it, enrol it, prove it"),
    "put": ("put", "install into the environment that a seat really uses, what that changes said before"),
    "ask": ("ask", "run a line of code exactly where a seat would run it; without code: who are you?"),
    "changes": ("changes", "what Kalyx changed"),
    "undo": ("undo", "take a change back"),
    "demo": ("demo", "the whole tour on made-up data; touches nothing of yours"),
}
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


LOOKING = ("here", "why", "envs", "packages", "running", "kernels", "ask", "fit", "contrast", "weigh")
OWN_SECONDS = 30.0  # for Kalyx's own work, beside five times what a child may take
CHILD_SECONDS = 60.0


class Overdue(KeyboardInterrupt):
    """Kalyx's own work has no end in sight: it ends as by Ctrl-C, and says so."""

    def __init__(self, seconds: float) -> None:
        super().__init__(f"{seconds} s")
        self.seconds = seconds


def bounded(options: Any) -> Any:
    """Set a bound on the time that a command which looks may take as a whole; return its options."""
    import _signal

    if options.command not in LOOKING or getattr(options, "prove", False) or not hasattr(_signal, "setitimer"):
        return options
    seconds = OWN_SECONDS + 5 * (options.timeout or CHILD_SECONDS)

    def end(*_: object) -> None:
        raise Overdue(seconds)

    try:
        _signal.signal(_signal.SIGALRM, end)
        _signal.setitimer(_signal.ITIMER_REAL, seconds)
    except ValueError:  # not in the main thread
        pass
    return options


class CommandParser(Parser):
    """The parser of one command, whose module is loaded when it is used: most runs need one of them."""

    def __init__(self, *args: Any, module: str, **more: Any) -> None:
        super().__init__(*args, **more)
        self._unloaded = module

    def _load(self) -> None:
        module, self._unloaded = self._unloaded, ""
        if module:
            add_global_options(self)
            load(module).add_arguments(self)

    def parse_known_args(self, *args: Any, **more: Any) -> Any:
        """Parse, with the command's own arguments."""
        self._load()
        return super().parse_known_args(*args, **more)


def build_parser() -> Parser:
    """Build the parser of the command line."""
    parser = Parser(prog="kalyx", description="Which Python is really used here, and why an "
                    "import fails in it.", allow_abbrev=False)
    parser.add_argument("--version", action="version", version=f"kalyx {__version__}")
    add_global_options(parser, top=True)
    commands = parser.add_subparsers(dest="command", metavar="COMMAND", parser_class=CommandParser,
                                     prog="kalyx")  # given, or a help formatter is loaded
    for name, (module, line) in COMMANDS.items():
        commands.add_parser(name, help=line, description=line[0].upper() + line[1:] + ".", allow_abbrev=False,
                            module=module)
    return parser


def load(module: str) -> Any:
    """Return the module of a command; not by `importlib`, whose own import takes longer."""
    return __import__(f"kalyx.cli.{module}", fromlist=["run"])


def run(argv: list[str]) -> int:
    """Run one command line and return its exit status; never lets a traceback through."""
    first = next((a for a in argv if not a.startswith("-")), None)
    command = first if first in COMMANDS else None
    if not argv:
        print(SHORT_HELP, end="")
        return 0
    try:
        options = build_parser().parse_args(argv)
        if options.command is None:
            raise UsageError("no command was given.", "kalyx --help lists them.")
        with Patience(options.command):
            status: str = load(COMMANDS[options.command][0]).run(bounded(options))
        return STATUS[status]
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

