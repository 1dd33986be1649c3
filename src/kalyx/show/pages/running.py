"""The page of `kalyx running`."""

from __future__ import annotations

from kalyx.show.parts import show_findings

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.running import RunningAnswer
    from kalyx.show.page import Page

__all__ = ["lay_out"]

KIND_NAMES = {"kernel": "notebook kernels", "server": "notebook servers",
              "language-server": "language servers", "script": "scripts", "module": "modules",
              "command": "commands", "shell": "interactive"}


def lay_out(page: Page, answer: RunningAnswer, *, verbose: bool) -> None:
    """Lay out ``running``: the processes by kind, each with interpreter, environment, folder."""
    count = len(answer.processes)
    ill = sum(bool(p.findings) for p in answer.processes)
    page.title(answer.status, f"{count} Python process{'es' if count != 1 else ''} "
               f"{'are' if count != 1 else 'is'} running" + (
                   f"; under {ill} the interpreter has changed." if ill else "."))
    last = ""
    for process in answer.processes:
        if process.kind != last:
            last = process.kind
            page.blank()
            page.say(KIND_NAMES[process.kind], "part", 2)
        interpreter = process.interpreter
        version = f"Python {interpreter.version or '?'}" if interpreter else "?"
        name = process.environment.name if process.environment else "?"
        mark = "!" if process.findings else " "
        page.say(f"{mark} {process.pid:<8} {version:<15} {name:<20} {process.what[:200]}", indent=2)
        if interpreter is not None:
            page.whole(interpreter.path, "path", 13)
        for label, value in (("in", process.folder), ("connection file", process.connection_file),
                             ("notebook", process.notebook),
                             ("server", f"process {process.server}" if process.server else None)):
            if value and (label != "in" or verbose or process.kind in ("kernel", "server", "script")):
                page.whole(f"{label} {value}", "quiet", 13)
    show_findings(page, tuple(f for p in answer.processes for f in p.findings), verbose)
    for note in answer.notes:
        page.blank()
        page.say(note.message, "quiet", 2, "· ")
