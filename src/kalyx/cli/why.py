"""``kalyx why``."""

from __future__ import annotations

import os

from kalyx.cli.common import context_for, load_pages, print_answer
from kalyx.cli.elsewhere import add_from, is_elsewhere, read_places
from kalyx.cli.within import default_seat
from kalyx.core.answers.why.module import answer_why
from kalyx.core.errors import WrongUsage

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse

LIMIT = 60.0  # seconds for one import


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``why``."""
    parser.add_argument("modules", nargs="*", metavar="MODULE",
                        help="a module as in an import; package:name for 'from package import name'; or "
                        "a .py or .ipynb file, or a folder: everything that the code there imports")
    parser.add_argument("--at", metavar="SEAT",
                        help="where to try it: shell (default), notebook:FILE, script:FILE, "
                        "kernel:NAME, env:NAME-or-PATH, python:PATH, editor:FILE, or a bare word")
    parser.add_argument("--traceback", metavar="FILE",
                        help="explain a traceback in a text file, the last error that a notebook shows, "
                        "or - for what is piped in")
    parser.add_argument("--no-run", action="store_true",
                        help="import nothing: say what reading the files shows")
    parser.add_argument("--compare", metavar="SEAT",
                        help="try it at this seat too, and name the difference that matters")
    add_from(parser)
    parser.add_argument("--anyway", action="store_true",
                        help="run it also where the seat is another user's process")
    parser.add_argument("--explain", metavar="CAUSE",
                        help="print what a cause is, how it is known, and what to do about it")


def run(options: argparse.Namespace) -> str:
    """Answer and print; return the status."""
    limit = options.timeout or LIMIT
    if options.explain:
        from kalyx.core.verdicts.explanations import explain_cause

        return print_answer(options, explain_cause(options.explain), what="explain")
    if is_elsewhere(options):
        return _elsewhere(options)
    context = context_for(None, options, anyway=options.anyway)
    if options.traceback is not None:
        from kalyx.core.answers.why.traceback import answer_traceback, read_text

        if options.modules:
            raise WrongUsage("--traceback says itself what failed; no module is named beside it.",
                             "kalyx why --traceback FILE, or - to pipe the text in.")
        at = options.at
        if options.traceback.endswith(".ipynb"):
            at = at or f"notebook:{options.traceback}"
        text = read_text(context.machine, options.traceback)
        return print_answer(options, answer_traceback(context, text, at, limit))
    if not options.modules:
        raise WrongUsage("Name a module, a file or a folder.", "kalyx why pandas, or kalyx why --help")
    files = [word for word in options.modules if is_file_like(word)]
    if files and len(files) < len(options.modules):
        raise WrongUsage("Files and modules cannot be asked about together.",
                         f"Ask for the modules alone: kalyx why MODULE --at {files[0]}")
    if files:
        from kalyx.core.answers.why.files import answer_files

        return print_answer(options, answer_files(context, files, options.at, limit, run=not options.no_run))
    if options.no_run:
        from kalyx.core.answers.why.without_running import answer_without_run

        return print_answer(options, answer_without_run(context, options.modules, options.at or default_seat()))
    if options.compare:
        from kalyx.core.answers.why.module import answer_compared

        return print_answer(options, answer_compared(context, options.modules, options.at or default_seat(),
                                                     options.compare, limit))
    answer = answer_why(context, options.modules, options.at or default_seat(), limit,
                        meanwhile=lambda: load_pages(options))
    return print_answer(options, answer)


def _elsewhere(options: argparse.Namespace) -> str:
    """Answer for places elsewhere, and print."""
    from kalyx.core.answers.from_elsewhere import why_elsewhere

    if options.traceback is not None or options.compare or any(map(is_file_like, options.modules)):
        raise WrongUsage("Of a place elsewhere modules are asked for alone.", "kalyx why numpy --from FILE")
    places, notes = read_places(options, options.modules)
    return print_answer(options, why_elsewhere(places, options.modules, options.at, notes), what="elsewhere")


def is_file_like(word: str) -> bool:
    """Whether a word names a file or a folder, and not a module."""
    return word.endswith((".py", ".ipynb")) or "/" in word or os.sep in word or word in (".", "..")
