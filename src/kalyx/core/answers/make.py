"""``make``: build an environment with a wanted Python, fill it, enrol it, prove it; or leave nothing behind."""

from __future__ import annotations

import os
import re
import shutil

from kalyx.core.answers.elsewhere import place_named
from kalyx.core.answers.enrol import EnrolOptions, answer_enrol
from kalyx.core.answers.put import PIP_LIMIT, pip_for, read_installed, refuse_options, what_pip_said
from kalyx.core.answers.retire_guard import in_use_by, why_not_taken
from kalyx.core.changes.carry_out import do_edits
from kalyx.core.changes.files import place_to_write
from kalyx.core.changes.journal import Journal, kept_beside
from kalyx.core.errors import NothingToJudge, Refused, Unreadable, WrongUsage
from kalyx.core.facts.packaging.direct_reference import reference_to
from kalyx.core.facts.packaging.inventory import egg_links, read_inventory
from kalyx.core.facts.packaging.module_runs import run_module
from kalyx.core.facts.packaging.requirements import is_met
from kalyx.core.facts.search_path.layers import Layer
from kalyx.core.facts.search_path.site_folders import site_folders
from kalyx.core.facts.seats.context import SeatContext
from kalyx.core.facts.seats.environment import env_seat, find_environment
from kalyx.core.facts.seats.finder import find_seat
from kalyx.core.lean.record import record
from kalyx.core.masks import masked
from kalyx.core.model import Environment, Note, Remedy
from kalyx.core.model.names import OWN_TOOLS, normal_name, requirement_name
from kalyx.core.verdicts.remedies.version_control import keep_out

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from kalyx.core.answers.enrol import EnrolAnswer
    from kalyx.core.changes.entry import Change, Entry
    from kalyx.core.model import Distribution, Interpreter

__all__ = ["MakeAnswer", "MakeOptions", "answer_make", "find_interpreter", "like_of"]

VENV_LIMIT = 300.0  # seconds
EDITABLE = "-e "  # before the URL of a project that is worked on


@record
class MakeOptions:
    """What is asked of ``make``."""

    folder: str
    python: str | None = None
    put: tuple[str, ...] = ()
    requirements: str | None = None
    like: str | None = None  # an environment, or a file that `packages --json` printed
    enrol: bool = False
    dry_run: bool = False
    anew: bool = False  # in place of the environment that is there, with its packages
    ignore: bool = False  # have version control ignore it


@record
class Like:
    """What another environment has: a line for each distribution, and what could not be told in any.

    Those that are `linked` are projects that are worked on, each the option for that and a URL.
    """

    lines: tuple[str, ...] = ()
    notes: tuple[Note, ...] = ()
    linked: frozenset[str] = frozenset()


@record
class MakeAnswer:
    """What was built, or would be. ``differs`` says where it is not what was asked."""

    folder: str
    interpreter: Interpreter
    asked: tuple[str, ...]
    environment: Environment | None = None
    installed: tuple[tuple[str, str], ...] = ()
    differs: tuple[str, ...] = ()
    enrolled: EnrolAnswer | None = None
    change: Change | None = None
    notes: tuple[Note, ...] = ()
    anew: bool = False
    keep_out: Remedy | None = None  # how to have version control ignore it, where it does not

    @property
    def status(self) -> str:
        """Whether all of it is as it was asked."""
        failed = self.enrolled is not None and self.enrolled.status != "ok"
        return "problem" if self.differs or failed else "ok"


def answer_make(context: SeatContext, asked_for: MakeOptions, limit: float,
                progress: Callable[[str], object] = bool, part_of: Entry | None = None) -> MakeAnswer:
    """Build an environment. Any failure takes away again what was begun.

    It is a change of its own, or a part of the entry that is being made.

    Raises:
        WrongUsage: the version is none.
        NothingToJudge: no interpreter fits, or what it is to be like is not there.
        Refused: the folder holds something, or it could not be built or filled.
    """
    m = context.machine
    folder = place_to_write(m, asked_for.folder)
    if asked_for.anew:
        _refuse_other(context, folder)
    else:
        _refuse_full(context, folder)
    interpreter = find_interpreter(context, asked_for.python)
    like = _like(context, asked_for.like or (folder if asked_for.anew else None))
    asked = [*asked_for.put, *like.lines]
    refuse_options([line for line in asked if line not in like.linked])
    if asked_for.requirements is not None and not m.is_file(m.absolute(asked_for.requirements)):
        raise NothingToJudge(f"{asked_for.requirements} is not there, or is no file.", "Name a requirements file.")
    if asked_for.dry_run:
        notes, left = keep_out(m, folder)
        return MakeAnswer(folder, interpreter, tuple(asked), notes=(*like.notes, *notes), anew=asked_for.anew,
                          keep_out=left)
    with Journal(m).change(f"make {folder}", part_of) as entry:
        if asked_for.anew:
            _refuse_other(context, folder)
            entry.set_aside(folder, kept_beside(folder))
        try:
            _refuse_full(context, folder)  # another Kalyx may have been quicker
            enrolled = _make_whole(context, asked_for, (folder, interpreter, asked), limit, entry, progress)
        except BaseException:
            if asked_for.anew:
                entry.take_back_last()
            raise
        notes, left = keep_out(m, folder)
        if asked_for.ignore and left is not None and left.edits:
            do_edits(entry, left)
            notes, left = [n for n in notes if n.note != "not-ignored"], None
    fresh = SeatContext(m, context.folder, context.examiner.probe_folder)
    facts = env_seat(fresh, folder)
    installed = [(d.name, d.version) for d in read_installed(fresh, facts) if d.layer == "env"]
    return MakeAnswer(folder, interpreter, tuple(asked), facts.seat.environment, tuple(installed),
                      tuple(_differs(facts.seat.interpreter, interpreter, asked, installed)), enrolled, entry.change,
                      (*like.notes, *notes), keep_out=left)


def _refuse_full(context: SeatContext, folder: str) -> None:
    m = context.machine
    if m.exists(folder) and (not m.is_folder(folder) or m.names_in(folder)):
        raise Refused(f"{folder} is there already, and not empty.", "Name a folder that is new or empty.")


def _refuse_other(context: SeatContext, folder: str) -> None:
    """Refuse to make anew what is no environment, or holds more than one."""
    m = context.machine
    if not m.is_file(m.path.join(folder, "pyvenv.cfg")):
        raise Refused(f"{folder} is no environment that venv made: it has no pyvenv.cfg.",
                      "Leave --anew out to make one in a folder that is new or empty.")
    there = Environment(folder, m.path.basename(folder), "venv", None, None)
    why = why_not_taken(context, there)
    if why:
        raise Refused(f"{why}. It is not set aside.", "Move what is yours out of it first.")
    used = in_use_by(context, there)
    if used:
        raise Refused(f"{used}. It is not set aside.", "End that first.")


def _make_whole(context: SeatContext, asked_for: MakeOptions, what: tuple[str, Interpreter, list[str]], limit: float,
                entry: Entry, progress: Callable[[str], object]) -> EnrolAnswer | None:
    """Build, fill and enrol; any failure takes away again what was begun, and strikes it out of the journal."""
    m, (folder, interpreter, asked) = context.machine, what
    was_there, known = m.exists(folder), len(entry.change.actions) + 1
    entry.making(folder, kept_beside(folder))
    try:
        _build(context, interpreter, folder, progress)
        entry.was_made()
        _fill(context, folder, asked, asked_for.requirements, progress)
        enrolled = None
        if asked_for.enrol:
            progress("enrolling it, and having it prove itself …")
            enrolled = answer_enrol(SeatContext(m, context.folder, context.examiner.probe_folder), folder,
                                    EnrolOptions(with_package=True), limit, entry)
            if enrolled.status != "ok":
                said = enrolled.findings[0].because if enrolled.findings else "the kernel did not answer"
                raise Refused(f"It could not be enrolled: {said}", "What was built was taken away again.")
        return enrolled
    except BaseException:
        while len(entry.change.actions) > known:
            entry.take_back_last()
        _take_away(folder, keep_folder=was_there)
        entry.not_made()
        raise


def find_interpreter(context: SeatContext, wanted: str | None) -> Interpreter:
    """Return the interpreter for a version, a specifier or a path; the shell's own without one.

    Raises:
        WrongUsage: it is neither.
        NothingToJudge: none on this machine fits.
    """
    m = context.machine
    if wanted is None:
        python = context.shell_python()
        if python is None or not python[1].interpreter.works:
            raise NothingToJudge("PATH has no Python.", "Name one with --python.")
        return python[1].interpreter
    if m.path.sep in wanted or m.is_executable(m.absolute(wanted)):
        examined = context.examiner.examine(m.absolute(wanted)).interpreter
        if not examined.works:
            raise NothingToJudge(f"{wanted} is no interpreter that works: {examined.trouble}.", "Name another.")
        return examined
    known = [i for i in context.bases() if not context.examiner.trust.is_foreign(i.real_path)]
    fitting = [i for i in known if _fits(i, wanted)]
    if not fitting:
        listed = ", ".join(f"{i.version} ({i.path})" for i in known) or "none"
        raise NothingToJudge(f"No Python {wanted} is on this machine.", f"There are: {listed}.")
    return max(fitting, key=lambda i: [int(n) for n in re.findall(r"\d+", i.version or "0")])


def _fits(interpreter: Interpreter, wanted: str) -> bool:
    from packaging.specifiers import InvalidSpecifier, SpecifierSet

    text = wanted.removeprefix("python").strip()
    if re.fullmatch(r"\d+(\.\d+)*", text):
        return (interpreter.version or "").split(".")[: text.count(".") + 1] == text.split(".")
    try:
        return SpecifierSet(text).contains(interpreter.version or "0", prereleases=True)
    except InvalidSpecifier:
        raise WrongUsage(f"{wanted!r} is neither a version nor a path.",
                         "Write --python 3.11, --python '>=3.9' or a path.") from None


def _like(context: SeatContext, name: str | None) -> Like:
    """Return what another environment has, as requirements that give the same versions."""
    if name is None:
        return Like()
    place = place_named(context.machine, name, context.probe_folder)
    if place is not None:
        seat = find_seat(place.context, place.ref).seat
        if seat.environment is None:
            raise NothingToJudge(f"{name} tells of no environment.", "Name another one.")
        return like_of(place.context, seat.environment.path)
    if context.machine.is_file(context.machine.absolute(name)) and name.endswith(".json"):
        return _like_listing(context, context.machine.absolute(name))
    return like_of(context, name)


def like_of(context: SeatContext, name: str) -> Like:
    """Return what an environment has, as requirements that give the same versions from the same places.

    Raises:
        NothingToJudge: there is none of that name, or it has no folder of packages.
    """
    facts = context.given or env_seat(context, name)
    prefix = facts.seat.environment.path if facts.seat.environment else find_environment(context, name)
    version = facts.seat.environment.python_version if facts.seat.environment else None
    folders = site_folders(context.machine, prefix, version=version)
    if not any(n.endswith((".dist-info", ".egg-info")) for f in folders for n in context.machine.names_in(f)
               if not n.startswith(OWN_TOOLS)):
        folders = site_folders(context.machine, prefix)  # its packages may lie under another version's folder
    sites = [Layer("env", s) for s in folders]
    if not sites:  # one whose interpreter is gone will do, as long as its packages are there
        raise NothingToJudge(f"{name} has no folder of packages.", "Name another environment.")
    found, notes, are_linked = [], [], set()
    linked = [Layer("link", target) for s in folders for target in egg_links(context.machine, s)]
    for d in read_inventory(context.machine, [*sites, *linked]):
        if normal_name(d.name) in OWN_TOOLS:
            continue
        where = reference_to(context.machine, d)
        if where.origin and not where.line:
            notes.append(_not_copied(d, where.origin))
        else:
            found.append(where.line or f"{d.name}=={d.version}")
            are_linked |= {where.line} if where.line.startswith(EDITABLE) else set()
    return Like(tuple(found), tuple(notes), frozenset(are_linked))


def _not_copied(one: Distribution, origin: str) -> Note:
    """Say of what is no more where it is from that the copy lacks it: what an index has by its name may be another."""
    return Note("not-copied", f"{one.name} {one.version} is from {masked(origin)}, which is not there, or cannot be "
                "asked for in a line: the new environment does not have it.", one.metadata or None)


def _like_listing(context: SeatContext, path: str) -> Like:
    """Return what a saved listing says that its environment had.

    Raises:
        NothingToJudge: it is none.
    """
    import json

    try:
        listed = json.loads(context.machine.read_text(path))["result"]["distributions"]
        rows = [(str(d["name"]), str(d["version"]), bool(d["editable"])) for d in listed
                if d["layer"] in ("env", "link") and d["hidden_by"] is None]
    except (Unreadable, ValueError, KeyError, TypeError, RecursionError) as error:
        raise NothingToJudge(f"{path} is no listing of packages: {error}.",
                             "kalyx packages --json prints one.") from None
    notes = [Note("not-copied", f"{n} {v} is an editable project there, and {path} does not say where: the new "
                  "environment does not have it.", path) for n, v, is_editable in rows if is_editable]
    return Like(tuple(f"{n}=={v}" for n, v, is_editable in rows if not is_editable and normal_name(n) not in OWN_TOOLS),
                tuple(notes))


def _build(context: SeatContext, interpreter: Interpreter, folder: str,
           progress: Callable[[str], object]) -> None:
    """Have the interpreter's own standard library make the environment, with pip where it can."""
    m = context.machine
    progress(f"making {folder} with Python {interpreter.version} …")
    ran = m.run((*run_module(interpreter.path, "venv"), folder), limit=VENV_LIMIT)
    if ran.status == 0:
        return
    _take_away(folder, keep_folder=False)
    again = m.run((*run_module(interpreter.path, "venv"), "--without-pip", folder), limit=VENV_LIMIT)
    if again.status != 0:
        said = again.complaint() or again.text().strip().split("\n")[-1] or again.why_not
        raise Refused(f"{interpreter.path} cannot make an environment: {said}",
                      "Its venv module may be packaged separately (Debian: python3-venv).")


def _fill(context: SeatContext, folder: str, asked: Sequence[str], requirements: str | None,
          progress: Callable[[str], object]) -> None:
    if not asked and requirements is None:
        return
    m = context.machine
    fresh = SeatContext(m, context.folder, context.examiner.probe_folder)
    interpreter = env_seat(fresh, folder).seat.interpreter
    assert interpreter is not None
    progress(f"installing {len(asked) or 'what the file names'} …" if asked else "installing …")
    words = [word for line in asked for word in (line.split(" ", 1) if line.startswith(EDITABLE) else [line])]
    line = pip_for(fresh, interpreter).install(*words, file=m.absolute(requirements) if requirements else "")
    ran = m.run(line, limit=PIP_LIMIT, env={**m.env, "PIP_DISABLE_PIP_VERSION_CHECK": "1"})
    if ran.status != 0:
        said, hint = what_pip_said(context, ran)
        raise Refused(f"It could not be filled: {said}", hint or "What was built was taken away again.")


def _take_away(folder: str, *, keep_folder: bool) -> None:
    """Remove what was begun."""
    if keep_folder and os.path.isdir(folder):
        for name in os.listdir(folder):
            path = os.path.join(folder, name)
            shutil.rmtree(path, ignore_errors=True) if os.path.isdir(path) and not os.path.islink(path) \
                else os.unlink(path)
    else:
        shutil.rmtree(folder, ignore_errors=True)


def _differs(built: Interpreter | None, wanted: Interpreter, asked: Sequence[str],
             installed: Sequence[tuple[str, str]]) -> list[str]:
    """Say where what was built is not what was asked."""
    found = []
    if built is None or built.version != wanted.version:
        runs = built.version if built else "of unknown version"
        found.append(f"it runs Python {runs}, and not {wanted.version}")
    there = {normal_name(n): v for n, v in installed}
    for requirement in asked:
        name = normal_name(requirement_name(requirement))
        if "/" in requirement or "\\" in requirement or not name:
            continue
        if name not in there:
            found.append(f"{requirement} was asked for, and {name} is not there")
        elif is_met(requirement, there[name]) is False:
            found.append(f"{requirement} was asked for, and {name} {there[name]} is there")
    return found
