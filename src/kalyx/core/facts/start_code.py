"""What an interpreter runs at every start, before anything that was asked for (the ``site`` module)."""

from __future__ import annotations

from collections.abc import Iterable

from kalyx.core.errors import Unreadable
from kalyx.core.facts.layers import LinkLine, link_lines
from kalyx.core.machine import Machine, RunResult

__all__ = ["CUSTOMISERS", "code_lines", "not_text", "runs_through"]

CUSTOMISERS = ("sitecustomize", "usercustomize")
_THROUGH = "kalyx: through"
# Code is run as `site` does it, which goes on after an exception; what is left of the path must still be one
_TRY = ("import os, sys, site\nsitedir = sys.argv[1]\nsys.path.append(sitedir)\ntry:\n    exec({code!r})\n"
        "except Exception:\n    pass\nif sys.path:\n    print({through!r})\n")


def code_lines(machine: Machine, folders: Iterable[str]) -> list[LinkLine]:
    """Return the lines of .pth files that are code, and the text of each customiser as if it were one."""
    m = machine
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


def not_text(machine: Machine, folders: Iterable[str]) -> list[str]:
    """Return the .pth files that are no UTF-8 text, at which newer versions stop."""
    m = machine
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


def runs_through(machine: Machine, python: str, line: LinkLine, env: dict[str, str]) -> tuple[bool, RunResult]:
    """Run a line as `site` would at the next start; return whether the interpreter goes on after it."""
    code = _TRY.format(code=line.text, through=_THROUGH)
    argv = (python, "-E", "-s", "-S", "-c", code, machine.path.dirname(line.file))
    ran = machine.run(argv, env=env, limit=10)
    return _THROUGH.encode() in ran.out, ran
