"""The seats of scripts: their own first line, or this shell's python."""

from __future__ import annotations

from kalyx.core.errors import NothingToJudge, Unreadable
from kalyx.core.facts.interpreters.path_lookup import is_python_name, parse_shebang, read_head
from kalyx.core.facts.seats.context import SeatFacts
from kalyx.core.facts.shells import commands
from kalyx.core.model import Launch, Seat, TrailStep

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files
    from kalyx.core.facts.seats.context import SeatContext

__all__ = ["script_seat", "scripts_here"]

MOST_SCRIPTS = 20


def script_seat(context: SeatContext, file: str) -> SeatFacts:
    """Return the seat of a script: its shebang when it is executable, else this shell's python."""
    m = context.machine
    path = m.absolute(file)
    if not m.is_file(path):
        raise NothingToJudge(f"{path} is not there, or is no file.", "Check the path.")
    ref, label = f"script:{path}", str(m.path.basename(path))
    start = m.path.dirname(m.real_path(path))
    context.examiner.trust.distrust(start)
    shebang = parse_shebang(read_head(m, path))
    if m.is_executable(path) and shebang is not None and is_python_name(shebang.program):
        program, step = commands.resolve_shebang(m, shebang, path, m.env)
        flags = shebang.args if shebang.form != "sh" else ()
        if program is not None:
            examined = context.examiner.examine(program, m.cwd, by_folder=True)
            steps = [step, *_differs(context, program)]
            launch = Launch((program, *flags), m.env, m.cwd, start, path)
            seat = context.seat_of(ref, "script", label, examined, steps, launch)
            return SeatFacts(seat, examined, script_head=_head_of(m, path))
    python = context.shell_python()
    if python is None:
        return SeatFacts(Seat(ref, "script", label))
    name, examined, step = python
    first = TrailStep(0, f"{label} is started as: {name} {label}", path, None, step.leads_to)
    launch = Launch((step.leads_to or "",), m.env, m.cwd, start, path)
    return SeatFacts(context.seat_of(ref, "script", label, examined, [first, step], launch), examined)


def _head_of(files: Files, path: str) -> str:
    """Return a script's first line, where it stands once in it and so can be replaced; else nothing."""
    try:
        text = files.read_text(path)
    except Unreadable:
        return ""
    head = text.split("\n")[0].rstrip("\r")
    return head if text.count(head) == 1 else ""


def scripts_here(context: SeatContext) -> list[str]:
    """Return the executable files of the folder whose first line asks for a Python."""
    m, found = context.machine, []
    for folder in (context.folder, *(m.path.join(context.folder, n) for n in ("bin", "scripts"))):
        if m.is_file(m.path.join(m.path.dirname(folder), "pyvenv.cfg")):
            continue  # the programs of an environment
        names = [n for n in m.scan(folder)[0] if "." not in n or n.endswith((".py", ".pyw"))]
        for path in (m.path.join(folder, n) for n in names):
            if m.is_executable(path) and m.platform != "win32":
                head = parse_shebang(read_head(m, path))
                if head is not None and is_python_name(head.program):
                    found.append(str(path))
    return found[:MOST_SCRIPTS]


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
