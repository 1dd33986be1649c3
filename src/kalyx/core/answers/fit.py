"""``fit``: which environments can run some code, what each of the others lacks, and how to close that."""

from __future__ import annotations

from functools import cache

from kalyx.core.answers.fit_files import files_of, is_aside, roots_of, telling_of, with_own
from kalyx.core.answers.fit_notes import (
    at_odds,
    broken_there,
    own_elsewhere,
    path_changes,
    unparsed,
    unread_code,
    without_pythonpath,
)
from kalyx.core.answers.fit_proof import proven, requests_of
from kalyx.core.answers.here import answer_here
from kalyx.core.errors import ONLY_IN_PART, KalyxError, NothingToJudge, NotRecorded
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.kernels.kernelspecs import prefix_of_kernel
from kalyx.core.facts.packaging.odd_requirements import report_odd
from kalyx.core.facts.packaging.project import Declared, read_list, read_project
from kalyx.core.facts.packaging.project_files import project_folder
from kalyx.core.facts.packaging.python_wanted import pythons_wanted
from kalyx.core.facts.packaging.requirements import is_requirement, is_specifier
from kalyx.core.facts.seats.environment import find_environment
from kalyx.core.facts.seats.finder import find_seat
from kalyx.core.facts.source_code.needs import OLD, PYTHON2, read_needs, with_old_forms
from kalyx.core.lean.record import record, replace
from kalyx.core.model import FitOfEnvironment, Note, Place, version_pair
from kalyx.core.quoting import name_of_shell
from kalyx.core.tables.import_names import is_known
from kalyx.core.verdicts.fit.asked_lines import needs_at
from kalyx.core.verdicts.fit.judge_environment import EnvironmentJudge
from kalyx.core.verdicts.fit.needed import needs_of, python_of
from kalyx.core.verdicts.fit.own_modules import OwnModules
from kalyx.core.verdicts.fit.remedies import remedies_of
from kalyx.core.verdicts.known import as_known

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from kalyx.core.answers.elsewhere import Elsewhere
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.facts.source_code.code_needs import CodeNeeds
    from kalyx.core.facts.source_code.parse_choice import Telling
    from kalyx.core.machine.interface import Machine
    from kalyx.core.model import Lack, Need, PythonWanted, Remedy, Seat

__all__ = ["FitAnswer", "answer_fit"]

FEW = 4  # times as many files in all


@record
class FitAnswer:
    """What is needed, and every environment held against it, the best first.

    ``untold`` are files that are named, or run by those, and of which nothing can be told.
    """

    paths: tuple[str, ...]
    files: tuple[str, ...]
    needs: tuple[Need, ...]
    python: PythonWanted | None
    environments: tuple[FitOfEnvironment, ...]
    remedies: tuple[Remedy, ...]
    notes: tuple[Note, ...] = ()
    untold: tuple[str, ...] = ()

    @property
    def best(self) -> FitOfEnvironment | None:
        """The best that fits; None where none does."""
        return next((e for e in self.environments if e.fits), None)

    @property
    def status(self) -> str:
        """Whether any fits; unknown where it fits what can be told, and that is not all."""
        return "problem" if self.best is None else "unknown" if self.untold else "ok"


def answer_fit(context: SeatContext, paths: Sequence[str], *, only: Sequence[str] = (), prove: bool = False,
               limit: float = 60.0, progress: Callable[[str], object] = bool) -> FitAnswer:
    """Read what code needs, and hold that against the environments of the machine. Nothing is run but with `prove`.

    `only` names the environments to look at; `limit` is in seconds, for the imports of one.

    Raises:
        NothingToJudge: a path is not there, a folder holds no code, or an environment is not known.
    """
    m = context.machine
    wanted = [m.absolute(p) for p in paths]
    files, notes = files_of(m, wanted, progress)
    elsewhere = _places_elsewhere(context, only)
    here = [n for n in only if n not in elsewhere]
    reading = context.but(asks_when_read=False)
    neighbours = Neighbours(m, reading)
    notebooks = [p for p in files if p in wanted and p.endswith(".ipynb")]
    used_here = cache(lambda: _used_here(reading, notebooks))
    is_beside = cache(lambda path: path not in wanted and is_aside(m, path, wanted))
    brought_by = cache(lambda module: _brought_by(neighbours, module))
    code, own, declared, pythons, more = _read(
        context, wanted, files, lambda asked: telling_of(m, wanted, neighbours, asked, brought_by, is_beside),
        lambda: (neighbours.look_around(), used_here()) if here or not only else None)
    notes += more
    in_whole = any(m.is_folder(w) for w in wanted)
    needs = needs_of(code, declared, own, brought_by, neighbours.is_namespace,
                     lambda name: is_known(name) or bool(neighbours.providing_name(name)),
                     whole=lambda file: in_whole or file in files, aside=is_beside)
    main = [c for c in code if not is_beside(c.path)]
    notes += path_changes(main) if any(n.is_guessed for n in needs) else []
    everywhere, (needs, more) = needs, without_pythonpath(m, needs)
    python = python_of(with_old_forms(m, _without_leftovers(main, wanted), lambda: _has_old(reading)), pythons)
    progress("looking at the environments …")
    found = _judged(reading, neighbours, needs, python, here, used_here) if here or not only else []
    if prove:
        folder = wanted[0] if m.is_folder(wanted[0]) else m.path.dirname(wanted[0])
        found = proven(context, sorted(found, key=_rank), requests_of(main, own), folder, limit, progress)
    found.sort(key=_rank)
    notes += broken_there(found, wanted, name_of_shell(m.platform, m.env)) if not any(f.fits for f in found) else []
    remedies = remedies_of(m, neighbours, reading.kernels(), found, needs, python, notebooks, _home_of(context, wanted))
    notes += [*more, *own_elsewhere(m, neighbours, own, [c for c in main if c.path in wanted], found)]
    away = [_elsewhere(place, name, everywhere, python) for name, place in elsewhere.items()]
    ranked = tuple(sorted([*found, *away], key=_rank))
    shown = ranked[0].needs if ranked else tuple(needs)
    notes += [at_odds(n) for n in shown if n.is_at_odds and not n.optional]
    return FitAnswer(tuple(wanted), tuple(c.path for c in code), shown, python, ranked, tuple(remedies),
                     tuple(notes), _untold(code, wanted, files))


def _read(context: SeatContext, wanted: Sequence[str], files: Sequence[str],
          telling: Callable[[Sequence[Declared]], Telling], meanwhile: Callable[[], object]
          ) -> tuple[list[CodeNeeds], OwnModules, list[Declared], list[tuple[str, Place]], list[Note]]:
    """Return what files need, what is their own, what their projects ask for, the Pythons these are for, and notes.

    Raises:
        NothingToJudge: nothing of any file can be told.
    """
    m = context.machine
    root = wanted[0] if len(wanted) == 1 and m.is_folder(wanted[0]) else ""
    # what the projects of folders ask for is not in the files themselves
    asked = _asked_for(context, wanted, ()) if all(map(m.is_folder, wanted)) else None
    code = read_needs(m, files, root, meanwhile, telling(asked[0]) if asked else None)
    if not any(c.is_code for c in code):
        raise NothingToJudge(f"What {_some(code)} cannot be told: {code[0].trouble}.",
                             f"kalyx why {code[0].path} says more of it.")
    declared, pythons, roots, notes = asked or _asked_for(context, wanted, code)
    own = OwnModules(m, roots)
    code = with_own(m, code, own, wanted)
    return code, own, declared, pythons, [*notes, *unread_code(code), *unparsed(code)]


def _places_elsewhere(context: SeatContext, names: Sequence[str]) -> dict[str, Elsewhere]:
    """Return which of some names are places of other machines, as they were recorded or told."""
    if not names:
        return {}
    from kalyx.core.answers.elsewhere import place_named

    return {n: p for n in names if (p := place_named(context.machine, n, context.probe_folder)) is not None}


def _home_of(context: SeatContext, paths: Sequence[str]) -> str:
    """Return the folder of the project, in which an environment would be made."""
    m = context.machine
    first = paths[0] if m.is_folder(paths[0]) else m.path.dirname(paths[0])
    project = project_folder(m, first)
    return project[0] if project else first


def _asked_for(context: SeatContext, paths: Sequence[str], code: Sequence[CodeNeeds]
               ) -> tuple[list[Declared], list[tuple[str, Place]], list[str], list[Note]]:
    """Return what the projects around the paths ask for, the Pythons they are for, their folders, and notes."""
    m = context.machine
    declared: list[Declared] = []
    pythons: list[tuple[str, Place]] = []
    notes: list[Note] = []
    read: set[str] = set()
    for file in (c for c in code if c.block and c.path in paths):
        trouble = _of_block(m, file, declared, pythons)
        says = f"{file.path}, line {file.block_line}: its block of metadata (PEP 723) cannot be read: {trouble}."
        notes += [Note("script-block", says, file.path)] if trouble else []
    declared += [d for c in code if c.path in paths for d in _installed_by(m, c)]
    alone = {c.path for c in code if c.block}  # such a script says all of it by itself
    named = [p for p in paths if p not in alone]
    for path in named:
        folder = path if m.is_folder(path) else m.path.dirname(path)
        project = project_folder(m, folder)
        if project is not None and project[0] not in read:
            read.add(project[0])
            declared += read_project(m, *project).declared
            pythons += pythons_wanted(m, *project)
    roots = roots_of(m, named) or [m.path.dirname(p) for p in paths]
    return declared, pythons, list(dict.fromkeys(roots)), notes


def _installed_by(m: Machine, file: CodeNeeds) -> list[Declared]:
    """Return what the cells of a notebook have pip install: of what it imports, the names and the versions."""
    found = []
    for word, line, cell in file.installs:
        listed = read_list(m, m.absolute(word[3:], m.path.dirname(file.path))) if word.startswith("-r ") else [
            Declared(word, file.path, line)] if is_requirement(word) else []
        found += [replace(d, optional=True, cell=cell if d.file == file.path else None) for d in listed]
    return found


def _of_block(m: Machine, file: CodeNeeds, declared: list[Declared], pythons: list[tuple[str, Place]]) -> str:
    """Add what a script's own block says; return why it cannot be read."""
    from kalyx.core.toml import load_toml

    try:
        content = load_toml(file.block)
        asked = content.get("dependencies", [])
        if not isinstance(asked, list) or not all(isinstance(a, str) for a in asked):
            raise ValueError("dependencies is no list of requirements")
    except (ValueError, AttributeError, RecursionError) as error:
        return str(error)
    declared += [Declared(a, file.path, file.block_line) for a in asked]
    report_odd(m, file.path, [(a, file.block_line) for a in asked])
    wanted = content.get("requires-python")
    if isinstance(wanted, str) and is_specifier(wanted):
        pythons.append((wanted, Place(file.path, file.block_line)))
    elif wanted is not None:
        m.report(file.path, f"{ONLY_IN_PART}it says {wanted} of Python, which bounds no versions (PEP 440)")
    return ""


def _has_old(context: SeatContext) -> bool:
    """Whether an environment is here whose Python may lack what nearly all code of today is written in."""
    return any((version_pair(e.python_version or "") or OLD) < OLD for e in context.environments())


def _untold(code: Sequence[CodeNeeds], named: Sequence[str], found: Sequence[str]) -> tuple[str, ...]:
    """Return the files without which it does not run, and of which nothing can be told; not those of a whole folder."""
    return tuple(c.path for c in code if not c.is_code and (c.path in named or c.path not in found))


def _some(code: Sequence[CodeNeeds]) -> str:
    return f"{code[0].path} needs" if len(code) == 1 else f"any of {len(code)} files needs, as {code[0].path},"


def _without_leftovers(code: list[CodeNeeds], named: Sequence[str]) -> list[CodeNeeds]:
    """Return files, of which some that are left from Python 2 do not decide: where they are few, and not named."""
    old = [c for c in code if any(b.what == PYTHON2 for b in c.bounds)]
    if not old or len(old) * FEW >= len(code):
        return code
    left = [c for c in old if c.path not in named]
    return [replace(c, bounds=tuple(b for b in c.bounds if b.what != PYTHON2)) if c in left else c for c in code]


def _brought_by(neighbours: Neighbours, module: str) -> str | None:
    """Return the distribution that brings a module by the metadata of most environments that have it."""
    names = [e.name for e in neighbours.having(module, None) if e.name] if "." not in module \
        else neighbours.bringing_part(module)
    return max(names, key=names.count) if names else None


def _judged(context: SeatContext, neighbours: Neighbours, needs: Sequence[Need], python: PythonWanted | None,
            only: Sequence[str], used_here: Callable[[], dict[str, list[str]]]) -> list[FitOfEnvironment]:
    m = context.machine
    if only:
        places = [find_environment(context, name) for name in only]
        listed = [e for p in places if (e := context.surveyor.describe(p)) is not None]
    else:
        listed = list(context.environments())
    kernels: dict[str, list[str]] = {}
    for kernel in context.kernels():
        for prefix in prefix_of_kernel(m, kernel) if kernel.argv and not kernel.trouble else ():
            kernels.setdefault(m.key(prefix), []).append(kernel.name)
    used = used_here()
    found = []
    for environment in listed:
        judge = EnvironmentJudge(m, neighbours, environment)
        there = needs_at(needs, judge.markers)
        fits, lacks = _held_against(judge, there, python)
        key = m.key(environment.path)
        found.append(FitOfEnvironment(environment, environment.interpreter, tuple(kernels.get(key, ())),
                                      tuple(used.get(key, ())), fits, lacks, needs=tuple(there),
                                      spared=tuple(n.module for n in judge.spared(there) if n.module)))
    return found


def _held_against(judge: EnvironmentJudge, needs: Sequence[Need], python: PythonWanted | None
                  ) -> tuple[bool, tuple[Lack, ...]]:
    """Return whether an environment's Python fits, and what it lacks."""
    nothing: list[Lack] = []
    fits, lacks = judge.python_fits(python), judge.lacks(needs)
    if fits and not lacks:
        spared = judge.spared(needs)
        reached = [n for n in needs if n not in spared]
        lacks = [*as_known(judge.files, lambda: judge.broken(reached), nothing),
                 *as_known(judge.files, lambda: judge.unmet(reached), nothing)]
    return fits, tuple(lacks)


def _elsewhere(place: Elsewhere, name: str, needs: Sequence[Need], python: PythonWanted | None) -> FitOfEnvironment:
    """Hold the needs against an environment on another machine, as it was recorded or told.

    Raises:
        NothingToJudge: it is not known well enough.
    """
    seat = find_seat(place.context, place.ref).seat
    if seat.environment is None:
        raise NothingToJudge(f"{name} tells of no environment.", "Name another one.")
    environment = replace(seat.environment, name=f"{seat.environment.name} on {place.hosts[0]}",
                          interpreter=seat.interpreter)
    machine = place.context.machine
    try:
        judge = EnvironmentJudge(machine, Neighbours(machine), environment)
        there = needs_at(needs, judge.markers)
        fits, lacks = _held_against(judge, there, python)
    except NotRecorded as error:
        raise NothingToJudge(f"Whether {name} has what is needed cannot be told: {error.message}", error.hint) from None
    return FitOfEnvironment(environment, environment.interpreter, (), (), fits, lacks, needs=tuple(there))


def _used_here(context: SeatContext, notebooks: Sequence[str]) -> dict[str, list[str]]:
    """Return which seats of the folder, and which of some notebooks, use which environment."""
    used: dict[str, list[str]] = {}
    seats: list[Seat] = []
    try:
        seats += answer_here(context).seats
        seats += [find_seat(context, f"notebook:{n}").seat for n in notebooks]
    except KalyxError:  # the folder, or one of them, cannot be looked into: that is not what was asked
        pass
    for seat in seats:
        if seat.environment is not None:
            refs = used.setdefault(context.machine.key(seat.environment.path), [])
            refs += [seat.ref] if seat.ref not in refs else []
    return used


def _rank(one: FitOfEnvironment) -> tuple[object, ...]:
    """Return what orders environments: fits and is used here, fits, fewest lacking."""
    is_base = one.environment.kind == "base"
    return (not one.fits, not one.used_here if one.fits else False, is_base, not one.python_fits,
            len(one.lacks) + len(one.breaks), not one.used_here, not one.kernels, one.environment.path)
