"""The shell: what ``python`` and ``pip`` start, by PATH."""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.interpreters.command_words import ALL, Started, first_line, follow_script, program_at
from kalyx.core.facts.interpreters.examiner import numbered
from kalyx.core.facts.interpreters.path_lookup import (
    find_on_path,
    follow_links,
    is_python_name,
    read_head,
)
from kalyx.core.facts.interpreters.variables import VARIABLES
from kalyx.core.lean.record import record, replace
from kalyx.core.model import Script, TrailStep

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.interpreters.examiner import Examined, Examiner
    from kalyx.core.facts.interpreters.path_lookup import (
        Found,
    )
    from kalyx.core.machine.interface import Machine

__all__ = ["INSTALLERS", "PYTHON_NAMES", "TOOLS", "ShellName", "ask_shell", "find_python", "path_step",
           "read_script", "said_in_first_line", "variable_steps"]

PYTHON_NAMES = ("python", "python3", "py")
INSTALLERS = ("pip", "pip3")
TOOLS = ("jupyter", "ipython", "pytest")  # what installs nothing, and runs in an environment
MOST_HOPS = 5  # scripts that hand over to scripts
ASKED_NAMES = ("python", "python3", "pip", "pip3")


def find_python(files: Files) -> tuple[str, Found] | None:
    """Return the name and place of the first Python command that PATH has."""
    names = PYTHON_NAMES if files.platform == "win32" else PYTHON_NAMES[:2]
    for name in names:
        found = find_on_path(files, name, first_only=True)
        if found:
            return name, found[0]
    return None


def path_step(name: str, found: Found) -> TrailStep:
    """Say where on PATH a command was found."""
    return TrailStep(0, f"{name} is found in PATH entry {found.entry}, {found.folder}",
                     found.folder, None, found.path)


def variable_steps(env: Mapping[str, str]) -> list[TrailStep]:
    """Name the variables that are set and decide what Python runs and imports."""
    return [TrailStep(0, f"the variable {name} is {env[name]!r}") for name in VARIABLES
            if env.get(name)]


@record
class ShellName:
    """What an interactive shell makes of a name: an alias or a function, and its text."""

    name: str
    kind: str
    text: str


def ask_shell(machine: Machine, limit: float) -> tuple[list[ShellName], str]:
    """Ask the user's interactive shell for its aliases and functions; say why not.

    This runs the shell's own start files, so it is only done when asked for.
    """
    shell = machine.env.get("SHELL") or "/bin/sh"
    kind = machine.path.basename(shell)
    if kind not in ("bash", "zsh", "ksh", "sh", "dash"):
        return [], f"{shell} is not a shell that Kalyx can ask"
    lines = "; ".join(f"echo '@@alias {n}'; alias {n} 2>/dev/null; echo '@@function {n}'; "
                      f"typeset -f {n} 2>/dev/null" for n in ASKED_NAMES)
    ran = machine.run([shell, "-i", "-c", lines], limit=limit)
    if ran.timed_out or ran.status is None or "@@alias" not in ran.text():
        return [], f"{shell} did not answer" + (f": {ran.complaint()}" if ran.complaint() else "")
    return parse_shell_names(ran.text()), ""


def parse_shell_names(text: str) -> list[ShellName]:
    """Read what the interactive shell printed: a mark for each question, then its answer."""
    found = []
    for block in re.split(r"^@@", text, flags=re.MULTILINE)[1:]:
        head, _, answer = block.partition("\n")
        kind, _, name = head.strip().partition(" ")
        answer = answer.strip()
        if kind == "alias" and answer:
            value = answer.removeprefix("alias ").partition("=")[2].strip()
            if len(value) > 1 and value[0] == value[-1] == "'":
                value = value[1:-1]
            found.append(ShellName(name, "alias", value))
        elif kind == "function" and answer:
            found.append(ShellName(name, "function", answer))
    return found


def read_script(
    examiner: Examiner, name: str, found: Found, cwd: str, python: Examined | None
) -> Script:
    """Find out which interpreter a script such as ``pip`` belongs to, by reading it.

    `python` is what this shell's ``python`` turned out to be. A wrapper with
    the same text as python's dispatches by its own name; the script beside the
    interpreter that it picked is then the one that runs.
    """
    m = examiner.machine
    steps = [path_step(name, found)]
    steps += [TrailStep(0, f"{link} is a symlink to {target}", link, None, target)
              for link, target in follow_links(m, found.path)]
    path = found.path
    if python is not None and python.wrapper and is_same_wrapper(m, path, python.wrapper):
        folder = m.path.dirname(python.interpreter.path)
        inner = m.path.join(folder, m.path.basename(path))
        if not m.is_executable(inner):
            return Script(name, path, None, numbered(steps),
                          f"{path} is a wrapper, and {folder}, which it picks here, has no {name}")
        steps.append(TrailStep(
            0, f"{path} is the same wrapper script as {python.wrapper}, which picks {folder} here",
            path, 1, inner))
        path = inner
    return _belongs_to(examiner, Script(name, found.path, None), path, steps, cwd)


def is_same_wrapper(machine: Machine, script: str, wrapper: str) -> bool:
    """Whether two files are the same shell script, one that acts by the name it is called by."""
    if not machine.same(machine.path.dirname(script), machine.path.dirname(wrapper)):
        return False
    text = read_head(machine, script)
    line = first_line(text)
    by_name = re.search(rb"\$0|\$\{0|BASH_SOURCE", text)
    return (line is not None and not is_python_name(line.program) and by_name is not None
            and text == read_head(machine, wrapper))


def _belongs_to(examiner: Examiner, script: Script, path: str, steps: list[TrailStep], cwd: str,
                hops: int = MOST_HOPS) -> Script:
    """Return a script with the interpreter that runs it: by its first line, and through what it hands over to."""
    m = examiner.machine
    started = follow_script(m, path, (ALL,), m.env, cwd)
    if started is None and m.platform == "win32" and (stub := read_launcher_stub(m, path)):
        started = Started((stub, path, ALL), m.env, cwd)
    if started is None:
        return replace(script, trail=numbered(steps), trouble=f"{path} is not a script with a first line that names "
                       "a program")
    program = None if started.trouble else program_at(m, started)
    step = said_in_first_line(path, started, program)
    steps.append(step)
    if started.trouble:
        return replace(script, trail=numbered(steps), trouble=f"{path} decides when it runs: {started.trouble}")
    if program is None:
        return replace(script, trail=numbered(steps), cannot_start=True, trouble=f"{step.says}, and PATH has none")
    examined = examiner.examine(program, cwd)
    if examined.interpreter.known_by != "other":
        module = started.words[started.words.index("-m") + 1] if "-m" in started.words[:-1] else None
        return replace(script, interpreter=examined.interpreter, module=module,
                       trail=numbered([*steps, *examined.steps]))
    if hops and ALL in started.words and path not in started.words[1:] and not m.same(program, path):
        return _belongs_to(examiner, script, program, steps, cwd, hops - 1)
    return replace(script, trail=numbered(steps),
                   trouble=f"{path} is a {m.path.basename(program)} script: it decides when it runs")


def said_in_first_line(path: str, started: Started, program: str | None) -> TrailStep:
    """Return the step from a script to the program that runs it."""
    word = started.words[0] if started.words else ""
    through = [t.rsplit("/", 1)[-1] for t in started.through]
    if started.trouble:
        says = f"{path} starts {started.through[-1]}: {started.trouble}"
    elif not through:
        says = f"{path} names {word} in its first line"
    elif through == ["env"]:
        says = f"{path} asks env for {word}{'' if '/' in word else ' on PATH'}"
    else:
        says = f"{path} hands over to {word}, through {', '.join(through)}"
    return TrailStep(0, says, path, started.line, program)


def read_launcher_stub(machine: Machine, path: str) -> str | None:
    """Return the interpreter that a Windows launcher names: a program with a first line appended; None without."""
    try:
        data = machine.read_bytes(path, 4 * 1024 * 1024)
    except Unreadable:
        return None
    start = data.rfind(b"#!")
    line = data[start + 2:].splitlines()[0].decode("utf-8", "replace").strip() if start >= 0 else ""
    if "python" not in line.lower():
        return None
    program = line.strip('"') if line.startswith('"') else line
    return program.split('" ')[0]
