"""``why FILE`` and ``why FOLDER``: everything that code imports, tried where that code would run."""

from __future__ import annotations

from kalyx.core.answers.why.module import WhyAnswer, as_observed, ender_of, with_newer_parser
from kalyx.core.answers.why.reached import imports_at, without_fallbacks
from kalyx.core.errors import NothingToJudge
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.imports.case import Case
from kalyx.core.facts.imports.trial import observe_imports
from kalyx.core.facts.seats.finder import find_seat_to_run
from kalyx.core.facts.source_code.cells import run_from
from kalyx.core.facts.source_code.imports import read_source
from kalyx.core.facts.source_code.scripts import dotted_name, script_sign
from kalyx.core.facts.source_code.source_files import find_sources
from kalyx.core.lean.record import record, replace
from kalyx.core.model import FileReport, ImportGroup, ImportReport, Note, Place, Remedy

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from kalyx.core.facts.seats.context import SeatContext, SeatFacts
    from kalyx.core.facts.source_code.imports import Source
    from kalyx.core.model import Finding, Launch, Observation

__all__ = ["answer_files", "group_imports"]

MOST_RUN = 50  # files that magics run, beside those that are named


@record
class _File:
    """A file to explain: its seat, how that would start it, and what it imports."""

    path: str
    facts: SeatFacts
    launch: Launch | None
    source: Source
    part_of: str = ""  # the dotted name by which it is judged as a part of its package, though it was named outright

    def requests(self) -> list[str]:
        """Return what is to be tried: the file itself, each module, then the names of it."""
        asked = [] if self.path.endswith(".ipynb") else ["@" + self.path]
        for item in self.source.imports:
            asked += [item.request] if item.module.startswith(".") else [item.module, item.request]
        return list(dict.fromkeys(asked))


def answer_files(context: SeatContext, paths: Sequence[str], at: str | None, limit: float, *,
                 run: bool = True) -> WhyAnswer:
    """Try all that files import, those of one seat in one child, and explain what fails.

    A folder stands for the scripts, modules and notebooks in it. `at` names a
    seat to try them in; by default each file has its own. Without `run` the
    files are read, and nothing is tried.

    Raises:
        NothingToJudge: a path is not there, or a folder holds no code.
    """
    context = context.beside(at or "").but(asks_when_read=not run)
    m, notes = context.machine, []
    if not run:
        from kalyx.core.answers.why.without_running import NOT_RUN

        notes.append(NOT_RUN)
    files: list[str] = []
    for path in (m.absolute(p) for p in paths):
        if m.is_folder(path):
            found, cut = find_sources(m, path)
            if not found:
                raise NothingToJudge(f"{path} holds no .py and no .ipynb files.", "Name another folder.")
            if cut:
                notes.append(Note("files-cut", f"{path} holds more than is looked at; {len(found)} files "
                                  "were.", path))
            files += found
        elif m.is_file(path):
            files.append(path)
        else:
            raise NothingToJudge(f"{path} {m.trouble_at(path)}.", "Check the path.")
    neighbours = Neighbours(m, context)
    for path in files:
        context.examiner.trust.distrust(m.path.dirname(path))
    taken = [_take(context, f, at, neighbours, roots=[m.absolute(p) for p in paths])
             for f in dict.fromkeys(files)]
    taken, not_read = _with_what_they_run(context, taken, at, neighbours)
    notes += [Note("files-cut", f"{f} runs more files than are looked at; {MOST_RUN} were.", f) for f in not_read]
    m.in_background(lambda: neighbours.prefixes)
    reports: list[ImportReport] = []
    listed: list[FileReport] = []
    for group in _same_launch(taken):
        found_here, case = _explain(context, group, neighbours, limit) if run else _read(context, group, neighbours)
        reports += found_here
        listed += [_file_report(f, found_here) for f in group]
        notes += _later_needs(case, group) if case else ()
    notes += [n for f in taken for n in _notes(f)]
    order = {f.path: n for n, f in enumerate(taken)}
    listed.sort(key=lambda r: order[r.path])
    return WhyAnswer(taken[0].facts.seat, tuple(reports), tuple(notes), files=tuple(listed),
                     groups=tuple(group_imports(reports)))


def _with_what_they_run(context: SeatContext, taken: Sequence[_File], at: str | None, neighbours: Neighbours
                        ) -> tuple[list[_File], list[str]]:
    """Return files, and behind each notebook those that its magics run (``%run``), at its seat; each file once.

    Returns also the notebooks of which not all such files were taken.
    """
    m, found, cut = context.machine, [], []
    known, most = {file.path for file in taken}, len(taken) + MOST_RUN
    queue = [(file, file.path) for file in reversed(taken)]
    while queue:
        file, notebook = queue.pop()
        found.append(file)
        runs = [p for p in dict.fromkeys(run_from(m, file.path)) if p not in known] \
            if file.path.endswith(".ipynb") else []
        if len(runs) > most - len(known):
            cut.append(file.path)
            runs = runs[:most - len(known)]
        known.update(runs)
        for path in runs:
            context.examiner.trust.distrust(m.path.dirname(path))
        queue += [(_take(context, path, at or f"notebook:{notebook}", neighbours, (), alone=True), notebook)
                  for path in reversed(runs)]
    return found, cut


def _take(context: SeatContext, path: str, at: str | None, neighbours: Neighbours,
          roots: Sequence[str], *, alone: bool = False) -> _File:
    from kalyx.core.verdicts.seats.judge_seat import judge_seat

    m, notebook = context.machine, path.endswith(".ipynb")
    facts = find_seat_to_run(context, at or f"{'notebook' if notebook else 'script'}:{path}")
    facts = replace(facts, seat=judge_seat(facts, context.machine, neighbours))
    launch = facts.seat.launch
    project = next((r for r in roots if m.is_folder(r)), "")
    root, dotted = dotted_name(m, m.real_path(path))
    in_package = not notebook and not project and "." in dotted
    # as `python FILE` runs it: nothing tells it of its package
    alone = alone or (in_package and bool(script_sign(m, path)))
    source = read_source(m, path, project, alone=alone)
    if launch is not None:
        if notebook:
            launch = replace(launch, cwd=m.path.dirname(path), start="", main=None)
        else:
            start = m.path.dirname(m.real_path(path)) if alone else root
            if project and source.relative and not source.loose and start == m.path.dirname(m.real_path(path)):
                start = project
            launch = replace(launch, start=start, main=path)
            name = m.path.basename(path)
            if project and (name.startswith(("test_", "conftest.")) or name.endswith("_test.py")):
                # a test runner started at the top puts that folder on the path
                source = replace(source, paths=(*source.paths, (project, False)))
    source = replace(source, imports=imports_at(source.imports, facts.seat.interpreter, m.platform))
    return _File(path, facts, launch, source, dotted if in_package and not alone else "")


def _same_launch(files: Iterable[_File]) -> list[list[_File]]:
    """Put files together that run in the same interpreter, with the same variables and path."""
    groups: dict[object, list[_File]] = {}
    for file in files:
        start = file.launch
        key = (start.argv, tuple(sorted(start.env.items())), start.cwd, start.start,
               file.source.paths) if start else file.path
        groups.setdefault(key, []).append(file)
    return list(groups.values())


def _not_run(context: SeatContext, facts: SeatFacts, module: str, stopping: tuple[Finding, ...],
             neighbours: Neighbours, asked: Mapping[str, tuple[Place, ...]]) -> ImportReport:
    from kalyx.core.verdicts.seats.interpreter import report_without_run

    report = report_without_run(context.machine, facts, module, None, stopping, neighbours)
    return replace(report, asked=asked.get(module, ()))


def _explain(context: SeatContext, group: Sequence[_File], neighbours: Neighbours,
             limit: float) -> tuple[list[ImportReport], Case | None]:
    """Try all imports of files that share a launch; judge each that says something.

    Returns what became of each, and one of the cases; no case where nothing could be tried.
    """
    from kalyx.core.verdicts.judge_import import judge_import
    from kalyx.core.verdicts.seats.interpreter import interpreter_broken

    facts, launch = group[0].facts, group[0].launch
    seat = facts.seat
    stopping = tuple(f for f in seat.findings if f.severity == "error")
    requests = list(dict.fromkeys(r for f in group for r in f.requests()))
    asked = _places(group)
    runnable = seat.interpreter is not None and seat.interpreter.may_start
    if launch is None or not runnable:
        modules = list(dict.fromkeys(i.module for f in group for i in f.source.imports)) or [
            context.machine.path.basename(group[0].path).rsplit(".", 1)[0]]
        return [_not_run(context, facts, m, stopping, neighbours, asked) for m in modules], None
    seen = observe_imports(context.machine, launch, seat.interpreter, context.examiner.probe_folder,
                           requests, limit, group[0].source.paths) if requests else {}
    reports: list[ImportReport] = []
    like: Case | None = None
    asked = without_fallbacks([(f.path, f.source.imports) for f in group], asked, seen)
    for request in requests:
        found = seen.get(request)
        if found is None:
            reports.append(ImportReport(*_split(request), seat.ref, seat.interpreter, "unknown",
                                        asked=asked.get(request, ())))
            continue
        if found.outcome == "no-start" or (found.outcome == "hang" and not found.python):
            broken = interpreter_broken(facts, context.machine, found, ender_of(context, facts, found),
                                        lambda: neighbours.bases)
            return [_not_run(context, facts, r, (broken,) if broken else stopping, neighbours, asked)
                    for r in requests if ":" not in r and r[0] != "@"], None
        if not _worth_judging(request, found, seen):
            continue
        if request.startswith("@"):
            found = replace(found, module=context.machine.path.basename(request).rsplit(".", 1)[0])
        here = replace(seat, interpreter=as_observed(seat.interpreter, found), launch=launch)
        like = Case(context.machine, here, found, neighbours, like, asked=asked.get(request, ()))
        case = with_newer_parser(context, like, neighbours)
        reports.append(_spared(case, replace(judge_import(case), asked=asked.get(request, ()))))
    return reports, like


def _later_needs(case: Case, group: Sequence[_File]) -> list[Note]:
    """Return what the calls of files need beyond what these import, by reading the libraries that they call."""
    from kalyx.core.facts.late_imports.call_sites import read_calls
    from kalyx.core.facts.late_imports.library import Library
    from kalyx.core.facts.source_code.cells import read_pieces
    from kalyx.core.verdicts.call_needs import notes_of_calls

    library = Library(case.files, case.modules)
    notes = []
    for file in group:
        if any(not i.module.startswith(".") and not library.is_stdlib(i.module) for i in file.source.imports):
            pieces, _ = read_pieces(case.files, file.path)
            calls, is_cut = read_calls(library, file.path, pieces)
            notes += notes_of_calls(case, file.path, calls)
            notes += [Note("calls-cut", f"{file.path} calls more than is followed: what some of its calls need later "
                           "was not read.", file.path)] if is_cut else []
    return notes


def _read(context: SeatContext, group: Sequence[_File],
          neighbours: Neighbours) -> tuple[list[ImportReport], Case | None]:
    """Say of all imports of files that share a launch what reading tells; with the case, where there is one."""
    from kalyx.core.answers.why.without_running import read_case, read_requests

    facts, asked = group[0].facts, _places(group)
    wanted = [r for r in dict.fromkeys(r for f in group for r in f.requests())
              if not r.startswith(("@", ".")) and ":" not in r]
    reports = read_requests(context, facts, group[0].launch, [_split(r) for r in wanted], neighbours,
                            group[0].source.paths)
    case = read_case(context, facts, group[0].launch, neighbours, group[0].source.paths)
    return [replace(report, asked=asked.get(request, ()))
            for request, report in zip(wanted, reports, strict=True)], case


def _spared(case: Case, report: ImportReport) -> ImportReport:
    """Count a module of another system as guarded where only functions ask for it: they are not called here."""
    from kalyx.core.verdicts.reading.other_systems import is_of_another_system

    if report.outcome == "imports" or not is_of_another_system(case, report.module.split(".")[0]) \
            or not all(p.guard in ("function", "try", "typing") for p in report.asked):
        return report
    return replace(report, asked=tuple(replace(p, guard="try") if p.guard == "function" else p
                                       for p in report.asked))


def _worth_judging(request: str, found: Observation, seen: Mapping[str, Observation]) -> bool:
    """Leave out a file that compiles, a name that is there, and names of a module that fails."""
    if request.startswith("@"):
        return found.outcome != "imports"
    module, colon, _ = request.partition(":")
    if not colon:
        return True
    whole = seen.get(module)
    return found.outcome != "imports" and (whole is None or whole.outcome == "imports")


def _split(request: str) -> tuple[str, str | None]:
    module, _, name = request.partition(":")
    return module, name or None


def _places(group: Sequence[_File]) -> dict[str, tuple[Place, ...]]:
    """Map each request to the lines that ask for it, those that need it first."""
    found: dict[str, list[Place]] = {}
    for file in group:
        found["@" + file.path] = [Place(file.path, file.source.line or 1, guard="file")]
        for item in file.source.imports:
            place = Place(file.path, item.line, item.cell, item.guard, item.text)
            for request in dict.fromkeys((item.module, item.request)):
                if place not in found.setdefault(request, []):
                    found[request].append(place)
    return {r: tuple(sorted(places, key=lambda place: not place.needed)) for r, places in found.items()}


def _file_report(file: _File, reports: Sequence[ImportReport]) -> FileReport:
    mine = [r for r in reports if any(p.path == file.path for p in r.asked)]
    failing = [r.request for r in mine if r.outcome == "fails" and any(
        p.needed for p in r.asked if p.path == file.path)]
    return FileReport(file.path, file.facts.seat.ref, len({i.module for i in file.source.imports}),
                      tuple(failing), file.source.trouble, file.source.line,
                      not any(r.asked and r.asked[0].guard == "file" for r in mine))


def _notes(file: _File) -> list[Note]:
    notes = []
    source = file.source
    if source.trouble and file.path.endswith(".ipynb"):
        tail = "; imports there were looked for line by line" if source.imports else ""
        notes.append(Note("source-unread", f"{file.path}: {source.trouble}{tail}.", file.path))
    elif not source.uses_parser and not source.trouble:
        notes.append(Note("source-too-deep", f"{file.path} is nested too deeply to be parsed; its imports "
                          "were looked for line by line.", file.path))
    for line in source.unread:
        notes.append(Note("path-changed", f"{file.path}, line {line}, changes the search path in a way "
                          "that only running it shows; that was not done.", file.path))
    if file.launch is None or not file.launch.main:
        return notes
    if file.part_of:
        notes.append(Note("part-of-package", f"{file.path} shows no sign of being run as a script: it was judged as "
                          f"the module {file.part_of}, imported from {file.launch.start}.", file.path))
    elif source.relative and not source.loose:
        notes.append(Note("relative-imports", f"{file.path} uses relative imports: it can be imported as a "
                          f"part of its package from {file.launch.start}, and not be run as a script.",
                          file.path))
    return notes


# -- the same cause, mended in one go -----------------------------------------------------------
def group_imports(reports: Iterable[ImportReport]) -> list[ImportGroup]:
    """Put failing imports together that one command mends, or that one sentence explains."""
    groups: dict[object, list[ImportReport]] = {}
    for report in reports:
        if not report.needed or not any(f.is_problem for f in report.causes):
            continue
        first = report.causes[0]
        command = _install_head(first)
        python = report.interpreter.path if report.interpreter else report.seat
        key: object = (python, command) if command else (python, first.cause, first.because)
        groups.setdefault(key, []).append(report)
    return [_group(members) for members in groups.values()]


def _install_head(finding: Finding) -> tuple[str, ...] | None:
    """Return an installing command without what it installs; None where it is no such command."""
    argv = finding.remedies[0].argv if finding.remedies else ()
    end = argv.index("install") + 1 if "install" in argv else 0
    plain = 0 < end < len(argv) and not any(word.startswith("-") for word in argv[end:])
    return argv[:end] if plain else None


def _group(members: Sequence[ImportReport]) -> ImportGroup:
    firsts = [r.causes[0] for r in members]
    names = tuple(r.request for r in members)
    head = _install_head(firsts[0])
    if head is None or len(members) == 1:
        return ImportGroup(firsts[0].cause, members[0].seat, firsts[0].because, names, firsts[0].remedies)
    wanted = tuple(dict.fromkeys(word for f in firsts for word in f.remedies[0].argv[len(head):]))
    causes = list(dict.fromkeys(f.cause for f in firsts))
    prefix = members[0].interpreter.prefix if members[0].interpreter else members[0].seat
    remedy = Remedy("Put all that is missing there in one go.", "command", argv=(*head, *wanted),
                    env=firsts[0].remedies[0].env,
                    changes=f"adds {', '.join(wanted)}, and what they require, to {prefix}")
    because = f"{len(members)} imports find something missing in {prefix}: {', '.join(names)}."
    return ImportGroup(causes[0], members[0].seat, because, names, (remedy, *_move_for_all(members)))


def _move_for_all(members: Sequence[ImportReport]) -> tuple[Remedy, ...]:
    """Return where to move the seat to, when one environment has all that is missing."""
    first, *rest = ([e for e in r.elsewhere if e.interpreter] for r in members)
    for other in first:
        path = other.environment.path
        if other.interpreter and all(any(e.environment.path == path for e in more) for more in rest):
            return (Remedy(f"Or use {other.environment.name}, which has all of them: run it with "
                           f"{other.interpreter.path}, or choose that environment's kernel.", "manual",
                           changes="which Python is used"),)
    return ()
