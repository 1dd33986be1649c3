"""What Kalyx finds, for Python code: each function answers as the command of its name does.

An answer is a frozen record: ``status`` is ``ok``, ``problem`` or ``unknown``, ``notes`` say what could not be read,
the rest is what `kalyx COMMAND --json` prints under ``result``, as records of `kalyx.core.model`. Nothing is printed,
nothing is changed; all that can be wrong with a request is a `KalyxError`.

    >>> answer = kalyx.why("pandas", at="notebook:germination.ipynb")
    >>> answer.imports[0].outcome, [finding.because for finding in answer.imports[0].causes]
"""

from __future__ import annotations

import os

from kalyx.core.answers.this_machine import ASKING_LIMIT, PROBE_FOLDER, open_machine, unread_notes
from kalyx.core.errors import WrongUsage
from kalyx.core.facts.seats.context import SeatContext
from kalyx.core.lean.record import replace

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import TypeVar

    from kalyx.core.answers.contrast import ContrastAnswer
    from kalyx.core.answers.envs import EnvsAnswer
    from kalyx.core.answers.fit import FitAnswer
    from kalyx.core.answers.here import HereAnswer
    from kalyx.core.answers.kernels import KernelsAnswer
    from kalyx.core.answers.packages import PackagesAnswer
    from kalyx.core.answers.why.module import WhyAnswer
    from kalyx.core.model import Note

    Answer = TypeVar("Answer", HereAnswer, WhyAnswer, EnvsAnswer, PackagesAnswer, KernelsAnswer, FitAnswer,
                     ContrastAnswer)
    Folder = str | os.PathLike[str]

__all__ = ["contrast", "envs", "fit", "here", "kernels", "packages", "why"]


def here(folder: Folder | None = None, *, running: bool = False) -> HereAnswer:
    """Return which interpreter and environment the shell, the editors and the notebooks of a folder use.

    Without a folder it is the working folder's; with `running` the live Python processes of it are seats, too.

    Raises:
        NothingToJudge: there is no such folder.
    """
    from kalyx.core.answers.here import answer_here

    context = _context(folder)
    return _whole(context, answer_here(context, running=running))


def why(*modules: str, at: str = "shell", run: bool = True, timeout: float = 60.0) -> WhyAnswer:
    """Return why imports fail at a seat, or where they come from: ``imports`` has one report for each module.

    `modules` are written as in an import; ``package:name`` asks for a name in it. Each is imported in a process of its
    own that may take `timeout` seconds; with `run=False` nothing is, and files alone are read.

    Raises:
        WrongUsage: none is named, or one is no module's name; AmbiguousName: `at` can mean several seats.
        NothingToJudge: there is no such seat.
    """
    if not modules:
        raise WrongUsage("No module is named.", 'kalyx.why("pandas")')
    context = _context()
    if run:
        from kalyx.core.answers.why.module import answer_why

        return _whole(context, answer_why(context, modules, at, timeout))
    from kalyx.core.answers.why.without_running import answer_without_run

    return _whole(context, answer_without_run(context, modules, at))


def envs(*folders: Folder, under: Folder | None = None, kind: str | None = None, python: str | None = None,
         has: str | None = None, sizes: bool = False) -> EnvsAnswer:
    """Return the environments of this machine, and of what lies in and below `folders`; each with its health.

    The others choose among them, as the options of `kalyx envs` do: below a folder, of a kind (``venv``, ``conda``,
    ``base``), with a Python as in ``">=3.9"``, with a distribution as in ``"NAME>=1"``; `sizes` counts their bytes.

    Raises:
        WrongUsage: `python` or `has` is no specifier.
    """
    from kalyx.core.answers.envs import answer_envs

    context = _context()
    return _whole(context, answer_envs(context, [os.fspath(f) for f in folders], kind=kind, python=python, has=has,
                                       under=None if under is None else os.fspath(under), sizes=sizes))


def packages(at: str = "shell", *, name: str | None = None, module: str | None = None, layer: str | None = None,
             conflicts: bool = False, sizes: bool = False) -> PackagesAnswer:
    """Return the layers of a seat's search path and the distributions in each; nothing of it is run.

    The others choose among them, as the options of `kalyx packages` do; `sizes` counts their bytes.

    Raises:
        WrongUsage: `at` can mean several seats.
        NothingToJudge: there is no such seat, or it has no interpreter.
    """
    from kalyx.core.answers.packages import answer_packages

    context = _context()
    return _whole(context, answer_packages(context, at, layer=layer, name=name, module=module, conflicts=conflicts,
                                           sizes=sizes))


def kernels(*, server: str | None = None, stale: bool = False) -> KernelsAnswer:
    """Return the notebook kernels that are registered, what each runs, and whether it is what it says.

    `server` names the environment of the notebook server that looks; `stale` keeps those whose interpreter is gone.

    Raises:
        NothingToJudge: there is no such environment.
    """
    from kalyx.core.answers.kernels import answer_kernels

    context = _context()
    return _whole(context, answer_kernels(context, server=server, stale=stale))


def fit(*paths: Folder, only: tuple[str, ...] = ()) -> FitAnswer:
    """Return which environments can run scripts, notebooks or folders of them, and what the others lack.

    `only` names the environments to look at; without it they are all that are known.

    Raises:
        WrongUsage: no path is named.
        NothingToJudge: a path is not there, or holds no code; an environment of `only` is not there.
    """
    from kalyx.core.answers.fit import answer_fit

    if not paths:
        raise WrongUsage("No file or folder is named.", 'kalyx.fit("germination.ipynb")')
    context = _context()
    return _whole(context, answer_fit(context, [os.fspath(p) for p in paths], only=only))


def contrast(a: str, b: str) -> ContrastAnswer:
    """Return how two environments, seats, lists of requirements, lock files or saved listings differ.

    Raises:
        NothingToJudge: one of them is not there, or cannot be read.
    """
    from kalyx.core.answers.contrast import answer_contrast

    context = _context()
    return _whole(context, answer_contrast(context, a, b))


def _context(folder: Folder | None = None) -> SeatContext:
    machine, notes = open_machine()
    return SeatContext(machine, machine.cwd if folder is None else os.fspath(folder), PROBE_FOLDER, ASKING_LIMIT,
                       notes=notes)


def _whole(context: SeatContext, answer: Answer) -> Answer:
    """Return an answer with a note for what is there and could not be read, unless it says so itself."""
    if not context.machine.troubles:
        return answer
    return replace(answer, notes=(*answer.notes, *_unread(context, repr(answer))))


def _unread(context: SeatContext, said: str) -> list[Note]:
    return unread_notes(context.machine.troubles, lambda path: repr(path)[1:-1] in said)
