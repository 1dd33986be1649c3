"""Findings about the shell: pip against python, and activation against PATH."""

from __future__ import annotations

from kalyx.core.facts.interpreters.environment import program_folder, python_in
from kalyx.core.facts.interpreters.installation import find_library
from kalyx.core.facts.interpreters.path_lookup import split_path
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.remedies.environments import get_pip

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.environments.neighbours import Neighbours
    from kalyx.core.facts.files import Files
    from kalyx.core.facts.seats.context import SeatFacts
    from kalyx.core.model import Interpreter, Script

__all__ = ["judge_shell"]


def judge_shell(facts: SeatFacts, files: Files, neighbours: Neighbours) -> list[Finding]:
    """Return what is wrong with a shell seat."""
    found = [pip_absent(facts, files, neighbours)]
    for script in facts.seat.scripts:
        if script.name.startswith("pip"):
            found.append(pip_cannot_start(script, facts, neighbours) or pip_elsewhere(script, facts, files))
        else:
            found.append(tool_elsewhere(script, facts, files))
    for variable in ("VIRTUAL_ENV", "CONDA_PREFIX"):
        found += [check(variable, facts, files) for check in (activation_stale, activation_outranked)]
    return [f for f in found if f is not None]


def _use_python_m(facts: SeatFacts, script: Script) -> Remedy:
    name = facts.python_name or "python"
    return Remedy(f"Install with: {name} -m pip install …; that is always the pip of {name}.",
                  "manual", changes="nothing but what you type")


def _is_elsewhere(script: Script, facts: SeatFacts, files: Files) -> bool:
    """Whether a script runs in another environment than the shell's python, and both work."""
    mine, its = facts.seat.interpreter, script.interpreter
    if mine is None or its is None or not mine.works or not its.works:
        return False
    return mine.prefix is not None and its.prefix is not None and not files.same(mine.prefix, its.prefix)


def _how(script: Script, facts: SeatFacts, files: Files) -> tuple[Evidence, ...]:
    """Return what shows which environments a script and the shell's python run in."""
    mine = facts.seat.interpreter
    steps = [s for s in script.trail if not s.where or files.read_link(s.where) is None]
    runs = [Evidence(f"{facts.python_name} runs {mine.path}, whose prefix is {mine.prefix}", mine.path)] if mine else []
    return (*[Evidence(s.says, s.where, s.line) for s in (*steps, *facts.seat.trail[:1])], *runs)


@cause("pip-elsewhere", "the pip that would run, wrappers followed, belongs to another interpreter than python",
       brief="pip belongs to another Python than python")
def pip_elsewhere(script: Script, facts: SeatFacts, files: Files) -> Finding | None:
    """Compare the environment of ``pip`` with that of ``python``.

    Looks like: What `pip install` installs cannot be imported.
    Why: The `pip` that runs belongs to another interpreter than `python`.
    How Kalyx knows: The first line of the pip that PATH finds, and what a wrapper hands over to.
    What to do: Install with `python -m pip`.
    """
    mine, its = facts.seat.interpreter, script.interpreter
    if mine is None or its is None or not _is_elsewhere(script, facts, files):
        return None
    main = script.name == "pip" or not any(s.name == "pip" for s in facts.seat.scripts)
    name = facts.python_name
    return Finding(
        "pip-elsewhere", "warning" if main else "note", "certain",
        f"{script.name} installs into {its.prefix} ({its.named}), and {name} runs "
        f"{mine.prefix} ({mine.named}): what {script.name} installs, {name} does not "
        "see.", _how(script, facts, files), (_use_python_m(facts, script),))


def tool_elsewhere(script: Script, facts: SeatFacts, files: Files) -> Finding | None:
    """Note where a tool runs that installs nothing: it imports what is there, not what python imports."""
    mine, its = facts.seat.interpreter, script.interpreter
    if mine is None or its is None or not _is_elsewhere(script, facts, files):
        return None
    return Finding.note(
        "pip-elsewhere", "certain",
        f"{script.name} runs in {its.prefix} ({its.named}), {facts.python_name} in {mine.prefix}.",
        _how(script, facts, files),
        (Remedy(f"To run it where {facts.python_name} runs, and if it is installed there: "
                f"{facts.python_name} -m {script.name} …", "manual", changes="nothing but what you type"),))


@cause("pip-absent", "the seat's interpreter has no pip and no ensurepip, or the pip on PATH cannot start: its "
       "interpreter or its module is gone", brief="pip cannot start")
def pip_absent(facts: SeatFacts, files: Files, neighbours: Neighbours) -> Finding | None:
    """Note an interpreter that has neither pip nor what Python brings it along with.

    Looks like: `No module named pip`, or `pip` cannot start.
    Why: The environment was made without pip, or the distributor split it off; or the script of pip names an
        interpreter, or a module, that is gone.
    How Kalyx knows: The script's first line, and the interpreter's layers.
    What to do: Give the environment a pip of its own, or install the system's package.
    """
    interpreter = facts.seat.interpreter
    if interpreter is None or not interpreter.works or not interpreter.base_prefix:
        return None
    folders = neighbours.visible_sites(interpreter)
    bundled = _ensurepip(interpreter, files)
    if not folders or bundled is None or files.exists(bundled) or neighbours.any_holds(folders, "pip"):
        return None
    return Finding.note(
        "pip-absent", "certain",
        f"{interpreter.prefix} ({interpreter.named}) has no pip, and its Python brings none along.",
        (*[Evidence(f"pip is not in {f}", f) for f in folders], Evidence(f"{bundled} is not there", bundled)),
        (get_pip(files, interpreter),))


def _ensurepip(interpreter: Interpreter, files: Files) -> str | None:
    """Return where an interpreter's base has ensurepip, or would have it; None where its library was not found."""
    library = find_library(files, interpreter.real_path)
    return str(files.path.join(library[1], "ensurepip")) if library else None


def pip_cannot_start(script: Script, facts: SeatFacts, neighbours: Neighbours) -> Finding | None:
    """Find a pip on PATH whose interpreter, or whose module, is gone."""
    its = script.interpreter
    if its is None and not script.cannot_start:
        return None
    if its is not None and not its.works:
        if its.known_by == "unknown":
            return None
        trouble = f"{script.path} names the interpreter {its.path}, and {its.trouble}"
    elif its is not None:
        folders = neighbours.visible_sites(its)
        module = (script.module or "pip").split(".")[0]
        if not folders or neighbours.any_holds(folders, module):
            return None
        trouble = f"{script.path} runs {its.path}, which has no module {module}"
    else:
        trouble = script.trouble
    return Finding.warning(
        "pip-absent", "certain", f"{script.name} cannot start: {trouble}.",
        tuple(Evidence(s.says, s.where, s.line) for s in script.trail), (_use_python_m(facts, script),))


def _active(variable: str, facts: SeatFacts, files: Files) -> str | None:
    """Return the folder that a variable names, unless another activation lies on top of it."""
    value = files.env.get(variable)
    if not value:
        return None
    if variable == "CONDA_PREFIX" and files.env.get("VIRTUAL_ENV"):
        return None
    return str(files.absolute(value))


def _on_path(folder: str, files: Files) -> int | None:
    """Return the number of the PATH entry that holds an environment's programs."""
    wanted = {files.key(program_folder(files, folder)), files.key(
        folder if files.platform == "win32" else program_folder(files, folder))}
    for number, entry in enumerate(split_path(files, files.env.get("PATH", "")), 1):
        if files.key(entry) in wanted:
            return number
    return None


@cause("activation-stale", "VIRTUAL_ENV or CONDA_PREFIX names an environment that no longer "
       "exists, or whose folder of programs is not on PATH at all",
       brief="the activated environment is not the one in use")
def activation_stale(variable: str, facts: SeatFacts, files: Files) -> Finding | None:
    """Compare an activation variable with what is there.

    Looks like: The prompt names an environment, and its packages are not there.
    Why: The variable was inherited from another shell, or the environment was deleted or moved since.
    How Kalyx knows: VIRTUAL_ENV or CONDA_PREFIX names a folder that is gone, or whose programs are not
        on PATH.
    What to do: Deactivate, and activate the environment that you mean.
    """
    folder = _active(variable, facts, files)
    if folder is None:
        return None
    program = python_in(files, folder)
    if not files.exists(program):
        because = f"{variable} says that {folder} is active, but there is no interpreter in it."
        evidence = Evidence(f"{program} {files.trouble_at(program)}", folder)
    elif _on_path(folder, files) is None:
        because = (f"{variable} says that {folder} is active, but its programs are not on PATH: "
                   f"{facts.python_name or 'python'} is another one.")
        evidence = Evidence(f"{program_folder(files, folder)} is not among the PATH entries",
                            program_folder(files, folder))
    else:
        return None
    return Finding.warning(
        "activation-stale", "certain", because,
        (Evidence(f"{variable} is {files.env[variable]!r}"), evidence),
        (Remedy("Open a new shell, or deactivate, and activate the environment that you want.",
                "manual", changes="the variables of this shell"),))


@cause("activation-outranked", "the active environment is on PATH, behind something that wins",
       brief="something on PATH comes before the activated environment")
def activation_outranked(variable: str, facts: SeatFacts, files: Files) -> Finding | None:
    """Say which PATH entry comes before the active environment's.

    Looks like: The prompt names an environment, and `python` is another one.
    Why: The active environment is on PATH, behind something that wins: a wrapper, another environment,
        a login script.
    How Kalyx knows: The order of the entries of PATH.
    What to do: Activate the environment again, so that it comes first.
    """
    folder = _active(variable, facts, files)
    interpreter: Interpreter | None = facts.seat.interpreter
    if folder is None or interpreter is None or interpreter.prefix is None:
        return None
    entry = _on_path(folder, files)
    if entry is None or not files.exists(python_in(files, folder)):
        return None
    if files.same(interpreter.prefix, folder):
        return None
    step = facts.seat.trail[0]
    return Finding.warning(
        "activation-outranked", "certain",
        f"{variable} says that {folder} is active, but {facts.python_name} is found before it on "
        f"PATH and runs {interpreter.prefix}.",
        (Evidence(step.says, step.where, step.line),
         Evidence(f"{program_folder(files, folder)} is PATH entry {entry}",
                  program_folder(files, folder))),
        (Remedy(f"Activate {folder} once more, so that its folder comes first on PATH; then look "
                "what in your shell's start files puts the other before it.", "manual",
                changes="the variables of this shell"),))
