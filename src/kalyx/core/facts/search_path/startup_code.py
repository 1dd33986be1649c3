"""What an interpreter runs at every start, before anything that was asked for (the ``site`` module)."""

from __future__ import annotations

import stat
import time

from kalyx.core.errors import Unreadable
from kalyx.core.facts.search_path.layers import pythonpath_of
from kalyx.core.facts.search_path.pth_files import LinkLine, link_lines
from kalyx.core.facts.search_path.site_folders import visible_sites
from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

    from kalyx.core.facts.files import Files
    from kalyx.core.machine.interface import Machine
    from kalyx.core.machine.results import RunResult
    from kalyx.core.model import Interpreter, Launch, Observation

__all__ = ["CUSTOMISERS", "StartEnder", "code_lines", "find_ender", "not_text"]

MOST_TRIED = 60  # lines of code
CUSTOMISERS = ("sitecustomize", "usercustomize")
_THROUGH = "kalyx: through"
# Code is run as `site` does it, which goes on after an exception; what is left of the path must still be one
_TRY = ("import os, sys, site\nsitedir = sys.argv[1]\nsys.path.append(sitedir)\ntry:\n    exec({code!r})\n"
        "except Exception:\n    pass\nif sys.path:\n    print({through!r})\n")


def code_lines(files: Files, folders: Iterable[str]) -> list[LinkLine]:
    """Return the lines of .pth files that are code, and the text of each customiser as if it were one."""
    m = files
    found = []
    for folder in dict.fromkeys(folders):
        names = m.entries(folder)
        found += [line for line in link_lines(m, folder, names) if line.target is None]
        for name in CUSTOMISERS:
            if f"{name}.py" in names:
                file = m.path.join(folder, f"{name}.py")
                try:
                    found.append(LinkLine(file, 0, m.read_text(file, 262_144), None))
                except Unreadable:
                    continue
    return found


def not_text(files: Files, folders: Iterable[str]) -> list[str]:
    """Return the .pth files that are no UTF-8 text, at which newer versions stop."""
    m = files
    found = []
    for folder in dict.fromkeys(folders):
        for name in sorted(n for n in m.entries(folder) if n.endswith(".pth")):
            try:
                m.read_bytes(m.path.join(folder, name), 1_048_576).decode("utf-8")
            except UnicodeDecodeError:
                found.append(str(m.path.join(folder, name)))
            except Unreadable:
                continue
    return found


def waited_for(files: Files, folders: Iterable[str]) -> list[str]:
    """Return the .pth files at which Python waits for ever: pipes that nobody writes to."""
    places = (files.path.join(folder, n) for folder in dict.fromkeys(folders)
              for n in sorted(files.entries(folder)) if n.endswith(".pth"))
    return [p for p in places if (info := files.stat(p)) is not None and stat.S_ISFIFO(info.mode)]


@record
class StartEnder:
    """What ends an interpreter at its start: a file, its line (0: the file as a whole), and what was said then."""

    file: str
    line: int
    text: str
    said: str


def find_ender(machine: Machine, launch: Launch, interpreter: Interpreter, observed: Observation,
               limit: float) -> StartEnder | None:
    """Find the code of an environment's own that ends its interpreter at every start: each is tried alone.

    Runs children of the seat, all together for at most `limit` seconds; None
    where nothing was found, or not in that time.
    """
    m, until = machine, time.monotonic() + limit
    folders = [*visible_sites(m, interpreter), *pythonpath_of(m, launch.env, launch.cwd)]
    for file in waited_for(m, folders):
        return StartEnder(file, 0, "", "it is no regular file, and Python waits for ever to read it")
    if observed.outcome != "no-start":
        return None
    for file in not_text(m, folders) if "UnicodeDecodeError" in observed.output else ():
        return StartEnder(file, 0, "", "it is not text in UTF-8")
    nothing = LinkLine(m.path.join(m.cwd, "nothing.pth"), 0, "pass", None)
    lines = code_lines(m, folders)
    if not lines or not _runs_through(m, interpreter.path, nothing, launch.env, until)[0]:
        return None  # it does not start without any such code either
    for line in lines[:MOST_TRIED]:
        through, ran = _runs_through(m, interpreter.path, line, launch.env, until)
        if ran is None:
            return None
        if not through:
            return StartEnder(line.file, line.line, line.text, ran.complaint() or f"it ended with status {ran.status}")
    return None


def _runs_through(machine: Machine, python: str, line: LinkLine, env: Mapping[str, str],
                  until: float) -> tuple[bool, RunResult | None]:
    """Run a line as `site` would at the next start; return whether the interpreter goes on after it."""
    left = until - time.monotonic()
    if left <= 0:
        return False, None
    code = _TRY.format(code=line.text, through=_THROUGH)
    argv = (python, "-E", "-s", "-S", "-c", code, machine.path.dirname(line.file))
    ran = machine.run(argv, env=env, limit=min(left, 10.0))
    return _THROUGH.encode() in ran.out, ran
