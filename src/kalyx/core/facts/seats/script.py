"""The seats of scripts: their own first line, or this shell's python."""

from __future__ import annotations

from kalyx.core.errors import NothingToJudge, Unreadable
from kalyx.core.facts.interpreters.command_words import follow_script, program_at
from kalyx.core.facts.interpreters.examiner import numbered
from kalyx.core.facts.interpreters.path_lookup import is_python_name
from kalyx.core.facts.seats.context import SeatFacts
from kalyx.core.facts.seats.named import PYTHON_FILES, executable_scripts
from kalyx.core.facts.shells import commands
from kalyx.core.lean.record import replace
from kalyx.core.model import Launch, Seat, TrailStep

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files
    from kalyx.core.facts.interpreters.command_words import Started
    from kalyx.core.facts.seats.context import SeatContext

__all__ = ["script_seat", "scripts_here"]

MOST_SCRIPTS = 20


def script_seat(context: SeatContext, file: str) -> SeatFacts:
    """Return the seat of a script: what its own first line starts where it is executable, else this shell's python."""
    m = context.machine
    path = m.absolute(file)
    if not m.is_file(path):
        raise NothingToJudge(f"{path} is not there, or is no file.", "Check the path.")
    ref, label = f"script:{path}", str(m.path.basename(path))
    start = m.path.dirname(m.real_path(path))
    context.examiner.trust.distrust(start)
    started = follow_script(m, path, (), m.env, m.cwd) if m.is_executable(path) else None
    if started is not None:
        return _by_first_line(context, path, started, Seat(ref, "script", label), start)
    python = context.shell_python()
    if python is None:
        return SeatFacts(Seat(ref, "script", label))
    name, examined, step = python
    first = TrailStep(0, f"{label} is started as: {name} {label}", path, None, step.leads_to)
    launch = Launch((step.leads_to or "",), m.env, m.cwd, start, path)
    return context.facts_of(ref, "script", label, examined, [first, step], launch)


def _by_first_line(context: SeatContext, path: str, started: Started, seat: Seat, start: str) -> SeatFacts:
    """Return the seat of an executable script; one of which it cannot be told what runs it has no interpreter."""
    m = context.machine
    program = None if started.trouble else program_at(m, started)
    step = commands.said_in_first_line(path, started, program)
    head = _head_of(m, path)
    nothing = SeatFacts(replace(seat, trail=numbered([step, *_started_otherwise(context)])), script_head=head)
    if started.refused:
        return replace(nothing, cannot_start=started.trouble)
    if started.trouble:
        return replace(nothing, untold=started.trouble)
    if program is None:
        name = started.words[0]
        advice = "" if name.strip().isprintable() and " " not in name else \
            ": all that stands behind env is one word to this system, but with its option -S"
        return replace(nothing, cannot_start=f"PATH has no {name!r}{advice}")
    if program.endswith("\r") and not m.is_there(program):
        return replace(nothing, cannot_start=f"there is no program of the name {program!r}: its first line ends in a "
                       "carriage return, as those of Windows do")
    examined = context.examiner.examine(program, started.folder, env=started.env, by_folder=True)
    if examined.interpreter.known_by == "other":
        return replace(nothing, untold=f"{program} is no Python that can be read")
    if path not in started.words:
        return replace(nothing, untold=f"it starts {program} with something else than itself")
    flags = tuple(w for w in started.words[1:started.words.index(path)] if w != "--")
    refused = next((f for f in flags if " " in f.strip()), None)
    if refused is not None and not started.through:
        return replace(nothing, cannot_start="all that stands behind the program is one word to this system: "
                       f"{refused!r}")
    launch = Launch((program, *flags), dict(started.env), started.folder, start, path)
    steps = [step, *_differs(context, program)]
    return replace(context.facts_of(seat.ref, "script", seat.label, examined, steps, launch), script_head=head)


def _head_of(files: Files, path: str) -> str:
    """Return a script's first line, where it stands once in it and so can be replaced; else nothing."""
    try:
        text = files.read_text(path)
    except Unreadable:
        return ""
    head = text.split("\n")[0]
    return head if text.count(head) == 1 else ""


def scripts_here(context: SeatContext) -> list[str]:
    """Return the executable files of the folder whose first line starts a Python, or that are named as Python's."""
    found = [path for path, started in executable_scripts(context.machine, context.folder)
             if _is_for_python(context, path, started)]
    return found[:MOST_SCRIPTS]


def _is_for_python(context: SeatContext, path: str, started: Started) -> bool:
    """Whether an executable file is a script that a Python runs, by its name or by what its first line starts."""
    m = context.machine
    if path.endswith(PYTHON_FILES) or is_python_name("".join(started.words[:1]).split(" ")[0].rstrip()):
        return path in started.words or path.endswith(PYTHON_FILES)
    program = program_at(m, started) if started.words and not started.trouble else None
    return program is not None and path in started.words and m.is_executable(program) and \
        context.examiner.examine(program, m.cwd, ask=False, by_folder=True).interpreter.may_start


def _started_otherwise(context: SeatContext) -> list[TrailStep]:
    """Say what ``python FILE`` would run."""
    python = context.shell_python()
    return [] if python is None else [TrailStep(
        0, f"started as: {python[0]} FILE it would run {python[1].interpreter.path}", python[2].leads_to)]


def _differs(context: SeatContext, program: str) -> list[TrailStep]:
    """Say when ``python FILE`` would run another environment than the shebang does."""
    python = context.shell_python()
    if python is None:
        return []
    one = context.examiner.examine(program, context.machine.cwd, by_folder=True).interpreter
    two = python[1].interpreter
    if one.prefix == two.prefix:
        return []
    return [TrailStep(0, f"started as: {python[0]} FILE it would run {two.path} instead",
                      python[2].leads_to, None, None)]
