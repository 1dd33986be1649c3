"""``point``: have an editor's settings, or a notebook, use an environment; all files, or none of them."""

from __future__ import annotations

import os
from stat import S_IMODE

from kalyx.core.answers.enrol import EnrolOptions, answer_enrol
from kalyx.core.answers.named_environment import environment_named
from kalyx.core.changes.actions import text_of
from kalyx.core.changes.files import place_to_write
from kalyx.core.changes.journal import Journal
from kalyx.core.errors import NothingToJudge, Refused
from kalyx.core.facts.editors import settings
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.kernels.kernelspecs import derive_name
from kalyx.core.facts.kernels.notebooks import read_notebook
from kalyx.core.facts.seats.context import SeatContext
from kalyx.core.lean.record import record, replace
from kalyx.core.model import Note
from kalyx.core.verdicts.reading.kernel_labels import claims_of, names_of
from kalyx.core.verdicts.remedies.editor_settings import write_setting
from kalyx.core.verdicts.remedies.kernels import lacked_by, name_kernel, well_kernels

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from kalyx.core.changes.entry import Change, Entry
    from kalyx.core.machine.interface import Machine
    from kalyx.core.model import Environment, Finding, Kernel

__all__ = ["PointAnswer", "PointOptions", "PointedFile", "answer_point"]

BYTE_ORDER_MARK = "\ufeff"


@record
class PointOptions:
    """What is asked of ``point`` beyond the environment; without files, the settings that the folder's editors use."""

    files: tuple[str, ...] = ()
    dry_run: bool = False
    with_package: bool = False


@record
class PointedFile:
    """A file that names the environment now, or would: the key, its value before and after, a notebook's kernel.

    ``text`` is all of the file as it is to be, ``was`` as it was; None where it was not there.
    """

    path: str
    key: str
    before: str | None
    after: str
    kernel: str | None = None
    was: str | None = None
    text: str = ""

    @property
    def differs(self) -> bool:
        """Whether something has to be written."""
        return self.was != self.text


@record
class PointAnswer:
    """The files that use the environment; ``findings`` say why they cannot, and then nothing was changed."""

    environment: Environment
    files: tuple[PointedFile, ...] = ()
    findings: tuple[Finding, ...] = ()
    enrolled: Kernel | None = None
    change: Change | None = None
    dry_run: bool = False
    notes: tuple[Note, ...] = ()

    @property
    def status(self) -> str:
        """Whether all of them use it."""
        return "problem" if self.findings else "ok"


def answer_point(context: SeatContext, name: str, wanted: PointOptions, limit: float,
                 progress: Callable[[str], object] = bool) -> PointAnswer:
    """Have settings files and notebooks use an environment. A failure takes back what was begun.

    Raises:
        NothingToJudge: there is no such environment or file, or no settings that could be meant.
        Refused: a file is broken, is not to be written, or cannot say it.
    """
    environment, interpreter, findings = environment_named(context, name)
    if findings or interpreter is None:
        return PointAnswer(environment, findings=findings, dry_run=wanted.dry_run)
    paths = [place_to_write(context.machine, file) for file in wanted.files] or _of_folder(context)
    with_settings = [_settings(context, path, interpreter.path) for path in paths if not path.endswith(".ipynb")]
    notebooks = [path for path in paths if path.endswith(".ipynb")]
    texts = [(path, _notebook_text(context, path)) for path in notebooks]
    kernel = _kernel_of(context, environment) if notebooks else None
    links = [Note("link-followed", f"{path} is a link: what is written is {os.path.realpath(path)}.", path)
             for path in paths if os.path.islink(path)]
    answer = PointAnswer(environment, tuple(with_settings), dry_run=wanted.dry_run,
                         notes=(*links, *_for_all(context, with_settings), *_outranked(context, with_settings)))
    if wanted.dry_run:
        return _with_notebooks(context, answer, texts, kernel, wanted, limit, None)
    with Journal(context.machine).change(f"point {len(paths)} file{'s' if len(paths) != 1 else ''} to "
                                         f"{environment.path}") as entry:
        try:
            answer = _with_notebooks(context, answer, texts, kernel, wanted, limit, entry)
            if not answer.findings:
                _write(answer.files, entry)
                _check(context, answer, interpreter.path)
        except BaseException:
            while entry.change.actions:
                entry.take_back_last()
            raise
    return replace(answer, change=entry.change if entry.change.actions else None)


# -- what is to be written ---------------------------------------------------------------------------
def _of_folder(context: SeatContext) -> list[str]:
    """Return the settings files that `here` shows for the folder."""
    found = [s.file for s in settings.find_settings(context.machine, context.folder, context.config.editors)]
    if not found:
        raise NothingToJudge(f"No editor's settings in {context.folder} name an interpreter.",
                             "Name a file: kalyx point ENV --file .vscode/settings.json, or a notebook.")
    return found


def _read(path: str) -> str | None:
    """Return a file's text; None where there is none.

    Raises:
        Refused: it is no text in UTF-8, cannot be read, or is not to be written.
    """
    text = text_of(path)
    if text is None:
        return None
    if text.startswith("\0"):
        raise Refused(f"{path} is no text in UTF-8, or cannot be read. Nothing was changed.",
                      "Mend it first, or name the other files with --file.")
    if not os.access(path, os.W_OK) or not S_IMODE(os.stat(path).st_mode) & 0o222:
        raise Refused(f"{path} may not be written. Nothing was changed.",
                      "Make it yours to write first, or name the other files with --file.")
    return text


def _settings(context: SeatContext, path: str, program: str) -> PointedFile:
    m = context.machine
    known = settings.editor_for(m, path, context.config.editors)
    if known is None:
        names = ", ".join(e.files[0] for e in context.config.editors)
        raise NothingToJudge(f"{path} is neither a notebook nor a settings file that Kalyx knows.",
                             f"Known: {names}; kalyx.toml can add others.")
    raw = _read(path)
    text = (raw or "").removeprefix(BYTE_ORDER_MARK)
    setting = settings.EditorSetting(known[0], path, known[1]) if raw is None else settings.read_setting(
        m, known[0], path, known[1], context.folder)
    if setting.trouble and not setting.key:
        raise Refused(f"{path} cannot be used: {setting.trouble}. Nothing was changed.",
                      "Mend it first, or name the other files with --file.")
    if raw is not None and setting.key and setting.value and setting.program and _is(m, setting.program, program):
        return PointedFile(path, setting.key, setting.value, setting.value, None, raw, raw)
    try:
        written = write_setting(m, replace(setting, text=text), program)
    except ValueError as error:
        raise Refused(f"{path} cannot be pointed at {program}: {error}. Nothing was changed.",
                      "Name the other files with --file, if there are any.") from None
    mark = BYTE_ORDER_MARK if (raw or "").startswith(BYTE_ORDER_MARK) else ""
    return PointedFile(path, written.key, written.before, written.after, None, raw, mark + written.text)


def _is(m: Machine, named: str, program: str) -> bool:
    """Whether a path is that of a program, as it is written: several environments' links lead to one program."""
    return bool(m.path.normcase(named) == m.path.normcase(program))


def _notebook_text(context: SeatContext, path: str) -> str:
    text = _read(path)
    if text is None:
        raise NothingToJudge(f"{path} does not exist.", "Check the path.")
    trouble = read_notebook(context.machine, path).trouble
    if trouble:
        raise Refused(f"{path} cannot be used: {trouble}. Nothing was changed.",
                      "Mend it first, or name the other files with --file.")
    return text


def _kernel_of(context: SeatContext, environment: Environment) -> Kernel | None:
    """Return a well kernel that runs an environment, one that carries its name first."""
    m, neighbours = context.machine, Neighbours(context.machine, context)
    fitting = [k for k, runs in well_kernels(context.kernels(), m, neighbours)
               if m.same(runs.path, environment.path) and not lacked_by(k, runs, neighbours)]
    return min(fitting, key=lambda k: not claims_of(k) & names_of(environment), default=None)


def _with_notebooks(context: SeatContext, answer: PointAnswer, texts: Sequence[tuple[str, str]], kernel: Kernel | None,
                    wanted: PointOptions, limit: float, entry: Entry | None) -> PointAnswer:
    """Return the answer with what its notebooks are to say; enrol the environment first, without a kernel."""
    if not texts:
        return answer
    enrolled = None
    if kernel is None:
        made = answer_enrol(context, answer.environment.path, EnrolOptions(
            name=_free_name(context, answer.environment), dry_run=entry is None, with_package=wanted.with_package),
            limit, entry)
        if made.findings or made.kernel is None:
            return replace(answer, files=(), findings=made.findings)
        kernel = enrolled = made.kernel
    files = []
    for path, text in texts:
        before = read_notebook(context.machine, path).name
        files.append(PointedFile(path, "metadata.kernelspec.name", before, kernel.name, kernel.name, text,
                                 name_kernel(text, kernel)))
    return replace(answer, files=(*answer.files, *files), enrolled=enrolled)


def _free_name(context: SeatContext, environment: Environment) -> str:
    """Return a name for an environment's kernel that no other has."""
    name, taken = derive_name(environment), {k.name for k in context.kernels()}
    return next(n for n in (name, *(f"{name}-{i}" for i in range(2, 1000))) if n not in taken)


def _for_all(context: SeatContext, files: Sequence[PointedFile]) -> list[Note]:
    """Say which of the files are no project's: what they say counts wherever nothing else does."""
    m, found = context.machine, []
    for file in files:
        known = settings.editor_for(m, file.path, context.config.editors)
        if known is not None and any(p.partition(":")[2].startswith(("~", "$")) or p.startswith(("~", "$"))
                                     for p in known[0].files) and not m.is_within(file.path, known[1]):
            found.append(Note("for-all-projects", f"{file.path} is for all your projects, not for this folder alone.",
                              file.path))
    return found


def _outranked(context: SeatContext, files: Sequence[PointedFile]) -> list[Note]:
    """Say which of the files do not count, as another of the same editor wins."""
    found = []
    for winner in settings.find_settings(context.machine, context.folder, context.config.editors):
        for file in files:
            known = settings.editor_for(context.machine, file.path, context.config.editors)
            if known and known[0].family == winner.editor.family and known[0].rank > winner.editor.rank and \
                    winner.file not in [f.path for f in files]:
                found.append(Note("setting-outranked", f"{winner.file} wins over {file.path}: it names "
                                  f"{winner.value}.", winner.file))
    return found


# -- writing it ----------------------------------------------------------------------------------------
def _write(files: Sequence[PointedFile], entry: Entry) -> None:
    """Write all of the files.

    Raises:
        Refused: one has changed since it was read, or cannot be written.
    """
    for file in files:
        if text_of(file.path) != file.was:
            raise Refused(f"{file.path} was changed just now, by someone else. Nothing was changed.", "Ask again.")
        if file.differs:
            entry.write_text(file.path, file.text)


def _check(context: SeatContext, answer: PointAnswer, program: str) -> None:
    """See that each file names the environment now.

    Raises:
        Refused: one does not; it is taken back.
    """
    fresh = SeatContext(context.machine, context.folder, context.examiner.probe_folder)
    m = context.machine
    for file in answer.files:
        if file.kernel is not None:
            says = read_notebook(m, file.path).name == file.kernel
        else:
            editor, root = settings.editor_for(m, file.path, fresh.config.editors) or (None, "")
            named = settings.read_setting(m, editor, file.path, root, context.folder).program if editor else None
            says = named is not None and _is(m, named, program)
        if not says:
            raise Refused(f"{file.path} was written, and still does not name {program}. It was put back.",
                          "Set it by hand.")
