"""The pages of ``packages``, ``envs`` and ``running``."""

from __future__ import annotations

from kalyx.core.lean.record import TYPE_CHECKING
from kalyx.core.model import Distribution, Finding
from kalyx.show.page import Page

if TYPE_CHECKING:
    from kalyx.core.answers.envs import EnvsAnswer
    from kalyx.core.answers.packages import PackagesAnswer
    from kalyx.core.answers.running import RunningAnswer

__all__ = ["envs_page", "human_size", "packages_page", "running_page"]

LAYER_SAYS = {
    "start": "the folder that Python starts from", "pythonpath": "the variable PYTHONPATH",
    "stdlib": "the standard library", "env": "the environment itself",
    "base": "the base installation", "user": "the user site",
    "link": "linked by a .pth file", "other": "added by something else",
}


def human_size(size: int | None) -> str:
    """Write a number of bytes with a unit; ``?`` when unknown."""
    if size is None:
        return "?"
    number = float(size)
    for unit in ("B", "kB", "MB"):
        if number < 1000:
            return f"{number:.0f} {unit}" if unit == "B" else f"{number:.1f} {unit}"
        number /= 1000
    return f"{number:.1f} GB"


def show_findings(page: Page, findings: tuple[Finding, ...], verbose: bool) -> None:
    """Add the problems in three parts, and the notes as single lines."""
    problems = [f for f in findings if f.is_problem]
    if len(problems) == 1:
        page.finding(problems[0])
    elif problems:
        page.findings(problems, verbose=verbose)
    for note in (f for f in findings if not f.is_problem):
        page.blank()
        page.say(note.because, "quiet", 2, "· ")


# -- packages ------------------------------------------------------------------------------
def packages_page(page: Page, answer: PackagesAnswer, *, verbose: bool) -> None:
    """Lay out ``packages``: the sum, then each layer with what lies in it."""
    environment = answer.seat.environment
    place = f"{environment.name} ({environment.path})" if environment else answer.seat.ref
    visible = [d for d in answer.distributions if d.hidden_by is None]
    problems = sum(f.is_problem for f in answer.findings)
    tail = f"; {problems} thing{'s are' if problems > 1 else ' is'} wrong" if problems else ""
    if answer.closed:
        tail += f"; {', '.join(answer.closed)} could not be looked into"
    asked = f" for {answer.asked}" if answer.asked else ""
    page.title(answer.status, f"{len(visible)} distribution{'s' if len(visible) != 1 else ''}{asked} "
               f"can be imported from {place}{tail}.")
    for layer in answer.layers:
        found = [d for d in answer.distributions if d.location == layer.path]
        if not found and not verbose:
            continue
        page.blank()
        page.say(f"{layer.layer}: {LAYER_SAYS[layer.layer]}", "part", 2)
        page.whole(layer.path, "path", 4)
        for distribution in sorted(found, key=lambda d: d.name.lower()):
            page.say(_package_row(distribution), indent=4)
    show_findings(page, answer.findings, verbose)
    for note in answer.notes:
        page.blank()
        page.say(note.message, "quiet", 2, "· ")


def _package_row(distribution: Distribution) -> str:
    said = []
    if distribution.size is not None:
        said.append(human_size(distribution.size))
    if distribution.editable:
        said.append("editable")
    if distribution.requested is not None:
        said.append("asked for" if distribution.requested else "brought along")
    modules = [m for m in distribution.modules if m.lower() != distribution.name.lower()
               and not m.startswith("_")]
    if modules:
        said.append("import " + ", ".join(modules[:4]) + (" …" if len(modules) > 4 else ""))
    if distribution.hidden_by is not None:
        said.append(f"hidden by {distribution.hidden_by['version']} in "
                    f"{distribution.hidden_by['location']}")
    said += [f"hides {h['version']} in {h['location']}" for h in distribution.hides]
    return f"{distribution.name:<28} {distribution.version:<14} {'; '.join(said)}".rstrip()


# -- envs ------------------------------------------------------------------------------------
def envs_page(page: Page, answer: EnvsAnswer, *, verbose: bool) -> None:
    """Lay out ``envs``: the sum, then each environment, what ails it, and what to do."""
    listed = answer.environments
    ill = [e for e in listed if any(f.is_problem for f in e.environment.findings)]
    count = f"{len(listed)} environment{'s' if len(listed) != 1 else ''}"
    fit = (" that fits" if len(listed) == 1 else " that fit") if answer.filtered else " on this machine"
    page.title(answer.status, f"{count}{fit}" + (f", {len(ill)} of them not well." if ill else "."))
    page.blank()
    for item in listed:
        environment = item.environment
        mark = "!" if item in ill else " "
        size = f"  {human_size(item.size)}" if item.size is not None else ""
        page.say(f"{mark} {environment.name:<26} {environment.kind:<6} Python "
                 f"{environment.python_version or '?':<9}{size}"
                 + ("  open to its base" if item.open_to_base else ""), indent=2)
        page.whole(environment.path, "path", 4)
        for other in item.other_paths:
            page.whole(f"also {other}", "path", 4)
        if item.used_by:
            page.say("used by " + ", ".join(item.used_by), "quiet", 4)
    show_findings(page, tuple(f for e in listed for f in e.environment.findings), verbose)
    for note in answer.notes:
        page.blank()
        page.say(note.message, "quiet", 2, "· ")


# -- running -----------------------------------------------------------------------------------
KIND_NAMES = {"kernel": "notebook kernels", "server": "notebook servers",
              "language-server": "language servers", "script": "scripts", "module": "modules",
              "command": "commands", "shell": "interactive"}


def running_page(page: Page, answer: RunningAnswer, *, verbose: bool) -> None:
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
