"""Environments that something names, wherever they lie: kernels, settings, first lines, pip, live processes.

What stands in no usual place is known by those who use it; of what runs, by what runs in or below the folder.
Read only; nothing is run.
"""

from __future__ import annotations

from kalyx.core.errors import Unreadable
from kalyx.core.facts.editors.settings import find_settings
from kalyx.core.facts.interpreters.command_words import follow_script
from kalyx.core.facts.interpreters.environment import is_environment, prefix_of
from kalyx.core.facts.interpreters.path_lookup import find_on_path, follow_links, is_python_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

    from kalyx.core.facts.editors.table import Editor
    from kalyx.core.facts.interpreters.command_words import Started
    from kalyx.core.machine.interface import Machine

__all__ = ["PYTHON_FILES", "executable_scripts", "named_prefixes"]

MOST_PROCESSES = 4000  # that are looked at
PYTHON_FILES = (".py", ".pyw")


def named_prefixes(machine: Machine, folder: str, editors: Iterable[Editor]) -> list[str]:
    """Return the prefixes of the programs that are named around a folder, and by what runs now."""
    m = machine
    programs: list[str] = []
    for setting in find_settings(m, folder, editors):
        programs += [s.program for s in (setting, *setting.loses) if s.program]
    programs += [s.words[0] for _, s in executable_scripts(m, folder) if s.words]
    for name in ("pip", "pip3", "python", "python3"):
        for found in find_on_path(m, name, first_only=True):
            programs += [found.path, *(target for _, target in follow_links(m, found.path))]
            started = follow_script(m, found.path, (), m.env, folder)
            programs += started.words[:1] if started is not None and not started.trouble else []
    programs += _running(m, folder)
    wanted = dict.fromkeys(p for p in programs if m.path.isabs(p) and is_python_name(p))
    prefixes = dict.fromkeys(prefix_of(m, p) for p in wanted)
    return [p for p in prefixes if is_environment(m, p)]


def _running(machine: Machine, folder: str) -> list[str]:
    """Return what the Pythons were started by that run in or below a folder, where the system shows it as files (proc).

    Its links are looked at alone: reading the whole table of processes takes longer than all else here.
    """
    m, found = machine, []
    own = m.read_link("/proc/self") if m.platform == "linux" else None
    for number in m.entries("/proc")[:MOST_PROCESSES] if own else ():
        place = f"/proc/{number}"
        cwd = m.read_link(f"{place}/cwd") if number.isdigit() and number != own else None
        program = m.read_link(f"{place}/exe") if cwd and m.is_within(cwd, folder) else None
        if not program or not is_python_name(program):
            continue
        try:
            word = m.read_bytes(f"{place}/cmdline", 4096).split(b"\0")[0].decode("utf-8", "surrogateescape")
            parent = m.read_bytes(f"{place}/stat", 4096).rpartition(b") ")[2].split()[1:2]
        except Unreadable:
            continue
        if parent == [str(own).encode()]:  # of its own children one may be a copy of this process
            continue
        named = m.located(word, cwd) if "/" in word else program
        found.append(named if m.same(named, program) else program)
    return found


def executable_scripts(machine: Machine, folder: str) -> Iterator[tuple[str, Started]]:
    """Yield the executable scripts of a folder and its folders of programs, with what their first line starts."""
    m = machine
    if m.platform == "win32":
        return
    for place in (folder, *(m.path.join(folder, n) for n in ("bin", "scripts"))):
        if m.is_file(m.path.join(m.path.dirname(place), "pyvenv.cfg")):
            continue  # the programs of an environment
        names, folders, _ = m.scan(place)
        programs = set(names).difference(folders)
        for name in (n for n in names if n in programs and ("." not in n or n.endswith(PYTHON_FILES))):
            path = str(m.path.join(place, name))
            started = follow_script(m, path, (), m.env, m.cwd) if m.is_executable(path) else None
            if started is not None:
                yield path, started
