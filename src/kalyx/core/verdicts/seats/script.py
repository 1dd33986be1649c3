"""Findings about scripts: what their own first line starts."""

from __future__ import annotations

from kalyx.core.facts.shells.commands import find_python
from kalyx.core.model import Edit, Evidence, Finding, Remedy
from kalyx.core.verdicts.remedies.shell_lines import command_line

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files
    from kalyx.core.facts.seats.context import SeatFacts

__all__ = ["judge_script"]


def judge_script(facts: SeatFacts, files: Files) -> list[Finding]:
    """Return what is wrong with a script whose first line starts nothing."""
    path = facts.seat.ref.partition(":")[2]
    evidence = tuple(Evidence(s.says, s.where, s.line) for s in facts.seat.trail[:1])
    if not facts.cannot_start:
        return []
    return [Finding.error(
        "interpreter-gone", "certain", f"{path} cannot be started: {facts.cannot_start}.",
        (*evidence, Evidence(facts.cannot_start, path, 1)), _ways_out(facts, files, path))]


def _ways_out(facts: SeatFacts, files: Files, path: str) -> tuple[Remedy, ...]:
    """Return the edit of the first line to what PATH finds, and how to start the script without it."""
    found = find_python(files)
    python = found[0] if found else "python3"
    line = Remedy(f"Or name the Python when you start it, so that its first line does not count: {python} {path}",
                  "manual", changes="nothing but what you type", typed=command_line(files, (python, path)))
    head = facts.script_head
    if not head:
        return (line,)
    named = head[2:].strip()
    after = f"#!{named}" if head.endswith("\r") and files.is_executable(named) else f"#!/usr/bin/env {python}"
    return (Remedy(f"Make its first line {after}", "edit", edits=(Edit(path, head, after),),
                   changes=f"the first line of {path}"), line)
