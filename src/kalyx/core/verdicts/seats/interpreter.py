"""Group G, as far as it concerns an import: the seat has no interpreter that can run."""

from __future__ import annotations

from kalyx.core.facts.interpreters.environment import prefix_of, python_in
from kalyx.core.facts.interpreters.pyvenv import find_venv_config, program_behind
from kalyx.core.facts.search_path.predicted import usual_stdlib
from kalyx.core.lean.record import replace
from kalyx.core.model import (
    Edit,
    Environment,
    Evidence,
    Finding,
    ImportReport,
    Remedy,
)
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.remedies.environments import nearest_environment, remake
from kalyx.core.verdicts.remedies.own_program import name_own_program

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from kalyx.core.facts.environments.neighbours import Neighbours
    from kalyx.core.facts.files import Files
    from kalyx.core.facts.search_path.startup_code import StartEnder
    from kalyx.core.facts.seats.context import SeatFacts
    from kalyx.core.model import (
        Elsewhere,
        Interpreter,
        Observation,
    )

__all__ = ["broken_by_its_word", "env_gone", "interpreter_broken", "interpreter_gone", "report_without_run",
           "runs_as_base", "which_is_gone"]


def which_is_gone(path: str, trouble: str) -> str:
    """Return the clause that says why a path leads nowhere, without naming it twice."""
    if trouble.startswith(path + " "):
        return ", which" + trouble[len(path):]
    return f", and {trouble}"


@cause("interpreter-gone", "the path or its symlink leads nowhere",
       brief="an interpreter is gone")
def interpreter_gone(facts: SeatFacts, files: Files, bases: Callable[[], list[Interpreter]] = list,
                     environments: Callable[[], list[Environment]] = list) -> Finding | None:
    """Say which link of the trail leads nowhere.

    Looks like: `No such file or directory`.
    Why: The path, or a link on the way, leads nowhere.
    How Kalyx knows: Each link is followed to where it ends.
    What to do: Name an interpreter that is there. An environment whose base is gone can be put on another
        Python of the same minor version, or made again.
    """
    interpreter = facts.seat.interpreter
    if interpreter is None or interpreter.known_by != "gone":
        return None
    m, path = files, interpreter.path
    prefix = prefix_of(m, path)
    config = find_venv_config(m, path)
    todo = [Remedy("Name an interpreter that is there.", "manual", changes="which one is used")]
    evidence = [Evidence(interpreter.trouble, path)]
    if config is not None:
        evidence.append(Evidence(f"{prefix} is an environment whose base has been removed or "
                                 "moved", config.path))
        todo[:0] = remake(m, config, bases()) or [Remedy(
            f"Make {prefix} again with a Python that is there; its packages have to be installed again.",
            "manual", changes=prefix)]
    else:
        todo[:0] = _first_line(facts, files)
        near = nearest_environment(m, path, environments())
        if near is not None:
            program = python_in(m, near.path)
            evidence.append(Evidence(f"the nearest that is there is {program}", program))
            todo.insert(0, Remedy(f"Name {program} instead, if that is meant.", "manual",
                                  changes="which one is used"))
    return Finding.error("interpreter-gone", "certain",
                   f"Nothing can be run with {path}{which_is_gone(path, interpreter.trouble)}."
                   if interpreter.trouble.startswith(path) else
                   f"{path} leads nowhere: {interpreter.trouble}.",
                   tuple(evidence), tuple(todo))


def runs_as_base(facts: SeatFacts, files: Files) -> Finding | None:
    """Find a seat that starts a link to an environment's program, and so none of what is in the environment."""
    seat = facts.seat
    named = seat.launch.argv[0] if seat.launch and seat.launch.argv else ""
    behind = program_behind(files, named) if named else None
    if behind is None or seat.interpreter is None or not seat.interpreter.works:
        return None
    return Finding.warning(
        "site-off", "certain",
        f"{named} is a link to {behind}, from outside its environment, and so runs as the base, "
        f"{seat.interpreter.prefix}: what is installed in the environment is not seen.",
        (Evidence(f"{named} leads to {behind}", named),
         Evidence("Python looks for pyvenv.cfg beside the link that it is started by, not beside what that leads to",
                  files.path.join(prefix_of(files, behind), "pyvenv.cfg"))),
        (name_own_program(files, seat, behind),))


def _first_line(facts: SeatFacts, files: Files) -> list[Remedy]:
    """Return the edit by which a script's first line names the Python of the shell."""
    from kalyx.core.facts.shells.commands import find_python

    found = find_python(files) if facts.seat.kind == "script" and facts.script_head else None
    path = facts.seat.ref.removeprefix("script:")
    if found is None or files.platform == "win32":
        return []
    name, place = found
    return [Remedy(f"Have {facts.seat.label} name the {name} of this shell, {place.path}, in its first line.",
                   "edit", edits=(Edit(path, facts.script_head, f"#!/usr/bin/env {name}"),),
                   changes=f"line 1 of {path}", undoable=True)]


def env_gone(facts: SeatFacts, files: Files, bases: Callable[[], list[Interpreter]]) -> list[Finding]:
    """Say of an environment whose interpreter leads nowhere that its base is gone."""
    from kalyx.core.verdicts.seats.environment import env_base_gone

    interpreter = facts.seat.interpreter
    config = find_venv_config(files, interpreter.path) if interpreter else None
    if config is None:
        return []
    environment = Environment(config.prefix, files.path.basename(config.prefix), "venv", None, config.version,
                              interpreter=interpreter)
    found = env_base_gone(environment, files, config, bases)
    return [found] if found is not None else []


# Variables over which an interpreter stumbles at its start, what it says then, and what the variable does to it;
# of any other it says the name itself
_MISLEADING = (
    ("PYTHONHOME", "", ": it sends the interpreter to another standard library"),
    ("PYTHONPLATLIBDIR", "encoding", ": it gives the folder of the standard library another name"),
    ("PYTHONIOENCODING", "stdio", ": there is no such encoding"),
    ("PYTHONMALLOC", "PYTHONMALLOC", ": there is no such allocator"),
    ("PYTHONHASHSEED", "PYTHONHASHSEED", ": it has to be random or a number"),
    ("PYTHONPATH", "", ""),
)


@cause("interpreter-broken", "it exists and cannot start",
       brief="an interpreter cannot start")
def interpreter_broken(facts: SeatFacts, files: Files,
                       observed: Observation | None = None, ender: StartEnder | None = None,
                       bases: Callable[[], list[Interpreter]] = list) -> Finding | None:
    """Say what it said when it was started; where that is known, what made it say so.

    Looks like: `Fatal Python error`, a missing libpython, or no answer at all.
    Why: The interpreter exists and cannot start: its base or library is gone, its pyvenv.cfg is damaged,
        code that it runs at every start ends it, or PYTHONHOME sends it elsewhere.
    How Kalyx knows: What it said when it was started, or that there is no standard library where its
        variables send it; each line that it runs at its start is tried alone.
    What to do: Switch that line off, unset what misleads it, or install it again.
    """
    interpreter = facts.seat.interpreter
    if interpreter is None:
        return None
    trouble = interpreter.trouble if interpreter.known_by == "broken" else ""
    if not trouble and observed is not None and observed.outcome in ("no-start", "hang"):
        trouble = observed.trouble or "it did not start"
        trouble = f"it ended before any import could be tried: {trouble}"
    if not trouble:
        return None
    from kalyx.core.verdicts.seats.startup import config_unreadable, ended_by_start_code, hidden_at_start

    closer = config_unreadable(facts, files) or (observed and (
        hidden_at_start(facts, files, observed) or ended_by_start_code(facts, files, observed, ender)))
    if closer:
        return closer
    evidence, todo = _misled(facts, files, trouble)
    evidence.insert(0, Evidence(trouble, interpreter.path))
    if todo:  # it is to blame before the installation is
        return Finding.error("interpreter-broken", "certain", f"The interpreter {interpreter.path} cannot start: "
                             f"{trouble}.", tuple(evidence), tuple(todo))
    raised, lost = observed.error if observed else None, _lost_library(files, interpreter)
    frame = raised.frames[-1] if raised and raised.frames else None
    if raised is not None:
        place = (frame.file, frame.line) if frame else ()
        evidence.append(Evidence(f"it says further: {raised.type}: {raised.message}", *place))
        trouble += f" ({raised.type}: {raised.message}" + (f", in {frame.file}, line {frame.line})" if frame else ")")
    todo += _copy_library(files, interpreter, [*([frame.file] if frame else []), *lost], bases)
    evidence += [Evidence(f"{path} is not there, and every Python needs it to start", path) for path in lost]
    if lost:
        trouble += f"; its standard library lacks {', '.join(files.path.basename(p) for p in lost)}"
    if facts.examined is not None and facts.examined.wrapper:
        todo.append(Remedy(f"Mend what the wrapper {interpreter.path} complains of (it chooses the "
                           "interpreter), or start another interpreter by its path.", "manual",
                           changes="which interpreter is used"))
    else:
        todo += _let_it_run(files, interpreter)
        todo.append(Remedy(f"Install {interpreter.path} again, or use another interpreter.",
                           "manual", changes="which interpreter is used"))
    return Finding.error("interpreter-broken", "certain",
                   f"The interpreter {interpreter.path} cannot start: {trouble}.",
                   tuple(evidence), tuple(todo))


def _misled(facts: SeatFacts, files: Files, trouble: str) -> tuple[list[Evidence], list[Remedy]]:
    """Return the variables over which an interpreter stumbled, by what it said, and how to take them out."""
    env, evidence, todo = facts.seat.launch.env if facts.seat.launch else files.env, [], []
    listed = [name for name, _, _ in _MISLEADING]
    named = [(n, n, ": it cannot be that") for n in sorted(env)
             if n.startswith("PYTHON") and n in trouble and n not in listed]
    for name, sign, does in (*_MISLEADING, *named):
        if env.get(name) and sign in trouble:
            evidence.append(Evidence(f"the variable {name} is {env[name]!r}{does}"))
            if does:
                from kalyx.core.verdicts.remedies.variables import without_variable

                todo.append(without_variable(files, facts.seat, name))
    return evidence, todo


def _lost_library(files: Files, interpreter: Interpreter) -> list[str]:
    """Return what is missing of the part of the standard library without which no Python starts."""
    m = files
    folder = next((f for f in usual_stdlib(m, interpreter) if m.is_folder(f) and not f.endswith("lib-dynload")), None)
    if folder is None:
        return []
    needed = [m.path.join(folder, n) for n in ("encodings", "codecs.py", "io.py", "os.py", "site.py")]
    there = [p for p in needed if m.exists(p) or m.exists(f"{p}c")]
    return [p for p in needed if p not in there] if 0 < len(there) < len(needed) else []


def _copy_library(files: Files, interpreter: Interpreter, lost: Sequence[str],
                  bases: Callable[[], list[Interpreter]]) -> list[Remedy]:
    """Return how parts of a standard library are had again: from another Python of just that version here."""
    m, found = files, []
    for folder in usual_stdlib(m, interpreter) if lost else ():
        for part in (p for p in lost if m.is_within(p, folder) and not m.same(p, folder)):
            name = m.path.relpath(part, folder)
            for base in bases():
                others = [m.path.join(f, name) for f in usual_stdlib(m, base)]
                copy = next((p for p in others if m.exists(p)), None)
                if base.version == interpreter.version and copy and not m.same(copy, part) and m.platform != "win32":
                    found.append(Remedy(f"Copy {name} from the Python {base.version} in {base.base_prefix}.", "command",
                                        argv=("cp", "-R", copy, m.path.dirname(part)), changes=part))
                    break
        if found:
            break
    return found


def _let_it_run(files: Files, interpreter: Interpreter) -> list[Remedy]:
    """Return how to make a program executable that is not."""
    m, file = files, files.real_path(interpreter.path)
    info = m.stat(file)
    if m.platform == "win32" or info is None or info.kind != "file" or info.mode & 0o111:
        return []
    return [Remedy(f"Let {file} be executed.", "command", argv=("chmod", "a+x", file),
                   changes=f"the permissions of {file}")]


def broken_by_its_word(said: str) -> Finding:
    """Conclude from the last words of an interpreter alone that it cannot start."""
    lost = "encoding" in said or "init_import" in said or "importlib" in said
    why = ("; it does not find its own standard library, mostly because PYTHONHOME or PYTHONPATH sends it to "
           "another place, or because the Python that its environment was made from is gone" if lost else "")
    return Finding.error(
        "interpreter-broken", "likely", f"That interpreter cannot start: {said}{why}.",
        (Evidence(f"the text says Fatal Python error: {said}"),),
        (Remedy("Unset PYTHONHOME and PYTHONPATH where it is started; if it still does not start, install it "
                "again, or make its environment again.", "manual", changes="how Python is started"),))


def _kernel_with(files: Files, facts: SeatFacts, module: str, elsewhere: Sequence[Elsewhere],
                 neighbours: Neighbours) -> list[Remedy]:
    """Return how a notebook gets a kernel, or a kernel an environment, that has a module."""
    from kalyx.core.verdicts.remedies.kernels import run_instead, switch_kernel, well_kernels

    m = files
    if facts.notebook is not None:
        fitting = [k for k, e in well_kernels(neighbours.kernels, m, neighbours)
                   if neighbours.any_holds(neighbours.sites(e), module)]
        if fitting:
            return [switch_kernel(facts.notebook.path, fitting[0], m)]
    usable = [e for e in elsewhere if e.interpreter is not None and e.interpreter.works
              and e.environment.kind != "base"]
    if facts.kernel is None or facts.kernel.trouble or not usable:
        return []
    place = usable[0].environment
    return [run_instead(facts.kernel, place, m, neighbours, why=f": {place.name} has {module}")]


def report_without_run(files: Files, facts: SeatFacts, module: str, name: str | None,
                       findings: tuple[Finding, ...], neighbours: Neighbours) -> ImportReport:
    """Return the answer where the seat has nothing that could be run, and where else the module is."""
    seat, top, m = facts.seat, module.split(".")[0], files
    own = prefix_of(m, seat.interpreter.path) if seat.interpreter else None
    elsewhere = neighbours.having(top, own)
    findings = findings or tuple(f for f in seat.findings if f.is_problem)
    if findings and elsewhere and findings[0].remedies[0].kind == "manual":
        todo = _kernel_with(files, facts, top, elsewhere, neighbours)
        findings = (replace(findings[0], remedies=(*todo, *findings[0].remedies)), *findings[1:])
    other_language = bool(facts.kernel and facts.kernel.language
                          and facts.kernel.language.lower() != "python")
    return ImportReport(module, name, seat.ref, seat.interpreter,
                        "unknown" if other_language or not findings else "fails",
                        None, causes=findings, elsewhere=tuple(elsewhere))
