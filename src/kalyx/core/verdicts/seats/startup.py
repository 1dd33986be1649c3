"""Why an interpreter ends before it can import anything: what it loads at every start is not its own."""

from __future__ import annotations

import re

from kalyx.core.facts.interpreters.pyvenv import find_venv_config
from kalyx.core.facts.search_path.layers import pythonpath_of
from kalyx.core.facts.search_path.predicted import usual_stdlib
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.remedies.files import rename_file, set_aside
from kalyx.core.verdicts.remedies.shell_lines import command_line
from kalyx.core.verdicts.remedies.unique_edits import switch_off
from kalyx.core.verdicts.remedies.variables import brought_in, without_variable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files
    from kalyx.core.facts.search_path.startup_code import StartEnder
    from kalyx.core.facts.seats.context import SeatFacts
    from kalyx.core.model import Interpreter, Observation, Seat

__all__ = ["config_unreadable", "ended_by_start_code", "hidden_at_start"]

_FILE_OF_MODULE = re.compile(r" from '[\w.]+' \(([^()]+)\)|module '[\w.]+' from '([^']+)'")


def hidden_at_start(facts: SeatFacts, files: Files, observed: Observation) -> Finding | None:
    """Find the file of the start folder or of PYTHONPATH that it took for a part of its standard library."""
    interpreter, launch = facts.seat.interpreter, facts.seat.launch
    if interpreter is None or launch is None:
        return None
    m = files
    places = [("start", launch.start or launch.cwd),
              *[("pythonpath", p) for p in pythonpath_of(m, launch.env, launch.cwd)]]
    said = _FILE_OF_MODULE.search(observed.trouble)
    named = [f for f in (said.groups() if said else ()) if f] + [f.file for f in reversed(observed.stack)]
    for file in named:
        top = m.path.dirname(file) if m.path.basename(file).startswith("__init__.") else file
        layer = next((x for x, p in places if m.same(m.path.dirname(top), p)), None)
        genuine = _genuine(m, interpreter, m.path.basename(top).split(".")[0]) if layer else None
        if layer is not None and genuine is not None:
            return _hidden(m, facts.seat, file, layer, genuine, observed.trouble)
    return None


def _genuine(files: Files, interpreter: Interpreter, name: str) -> str | None:
    """Return the standard library's own module of a name."""
    m = files
    for folder in usual_stdlib(m, interpreter):
        for path in (m.path.join(folder, f"{name}.py"), m.path.join(folder, name, "__init__.py")):
            if m.is_file(path):
                return str(path)
    return None


def _hidden(files: Files, seat: Seat, file: str, layer: str, genuine: str, trouble: str) -> Finding:
    m, top = files, file
    if m.path.basename(file).startswith("__init__."):
        top = m.path.dirname(file)
    folder = m.path.dirname(top)
    evidence = (Evidence(f"{file} was loaded while Python started, and it ended there", file),
                Evidence(f"{genuine} is what it wanted", genuine), Evidence(trouble))
    if layer == "start":
        return Finding.error("hidden-by-file", "certain",
                       f"Your own {file} hides the standard library's {genuine}, which Python loads when it "
                       "starts.", evidence, (rename_file(files, file),))
    return Finding.error("hidden-by-path", "certain",
                   f"The PYTHONPATH entry {folder} puts {file} before the standard library's {genuine}, which "
                   "Python loads when it starts.", (*evidence, *brought_in(files, seat, "PYTHONPATH", folder)),
                   (without_variable(files, seat, "PYTHONPATH", folder),))


def ended_by_start_code(facts: SeatFacts, files: Files, observed: Observation,
                        ender: StartEnder | None) -> Finding | None:
    """Name the code of the environment's own that ends the interpreter at every start, where it was found."""
    interpreter = facts.seat.interpreter
    if interpreter is None or ender is None:
        return None
    todo = set_aside(files, ender.file, *(["so that Python starts without it"] if ender.text else []))
    if ender.line:
        todo = switch_off(files, ender.file, ender.line, ender.text, f"Switch that line of {ender.file} off.")
    return _ended(interpreter, ender.file, ender.line, ender.said, observed.trouble, todo)


def _ended(interpreter: Interpreter, file: str, line: int, why: str, trouble: str, todo: Remedy) -> Finding:
    place = f"line {line} of {file}" if line else file
    evidence = [Evidence("it is run at every start (the site module)", file, line or None)]
    if why not in trouble:
        evidence.append(Evidence(f"run alone, it ends the interpreter: {why}", file, line or None))
    return Finding.error("interpreter-broken", "certain",
                   f"The interpreter {interpreter.path} cannot start: {place}, which it reads at every start, "
                   "ends it.", (*evidence, Evidence(trouble, interpreter.path)), (todo,))


def config_unreadable(facts: SeatFacts, files: Files) -> Finding | None:
    """Find a pyvenv.cfg that is no UTF-8 text, or cannot be read: an interpreter stops at it."""
    interpreter = facts.seat.interpreter
    config = find_venv_config(files, interpreter.path) if interpreter else None
    if interpreter is None or config is None or not config.trouble:
        return None
    base = interpreter.real_path or ""
    again = Remedy(f"Have {base} write it anew; the packages in the environment stay.", "command",
                   argv=(base, "-m", "venv", "--without-pip", config.prefix),
                   changes=f"{config.path}, and the programs in the environment")
    if files.platform == "win32" or files.is_within(base, config.prefix):
        again = Remedy(f"Write {config.path} anew, as UTF-8: the line 'home = FOLDER', with the folder of "
                       "the interpreter that the environment was made from.", "manual", changes=config.path)
    because = "is not text in UTF-8" if not config.is_text else f"cannot be read: {config.trouble}"
    if not files.is_file(config.path):
        again = Remedy(f"Take {config.path} away, which is no regular file, and have the environment made again "
                       "in its place, with the line below.", "manual", changes=config.path,
                       typed=command_line(files, (base, "-m", "venv", "--without-pip", config.prefix)))
    elif config.is_text:
        again = Remedy(f"Let yourself read {config.path}.", "command", argv=("chmod", "u+r", config.path),
                       changes=f"the permissions of {config.path}")
    return Finding.error("interpreter-broken", "certain",
                   f"The interpreter {interpreter.path} cannot start: {config.path} {because}.",
                   (Evidence(config.trouble, config.path),), (again,))
