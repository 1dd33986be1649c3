"""The page of `kalyx packages`."""

from __future__ import annotations

from kalyx.show.parts import human_size, mend_line, show_findings

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.packages import PackagesAnswer
    from kalyx.core.model import Distribution
    from kalyx.show.page import Page

__all__ = ["lay_out"]

LAYER_SAYS = {
    "start": "the folder that Python starts from", "pythonpath": "the variable PYTHONPATH",
    "stdlib": "the standard library", "env": "the environment itself",
    "base": "the base installation", "user": "the user site",
    "link": "linked by a .pth file", "other": "added by something else",
}


# -- packages ------------------------------------------------------------------------------
def lay_out(page: Page, answer: PackagesAnswer, *, verbose: bool) -> None:
    """Lay out ``packages``: the sum, then each layer with what lies in it."""
    environment = answer.seat.environment
    found_wrong = answer.all_findings
    if environment is None:
        page.title(answer.status, f"What {answer.seat.ref} can import cannot be told: it cannot run.")
        show_findings(page, found_wrong, verbose)
        return
    place = f"{environment.name} ({environment.path})"
    visible = [d for d in answer.distributions if d.hidden_by is None]
    problems = sum(f.is_problem for f in found_wrong)
    tail = f"; {problems} thing{'s are' if problems > 1 else ' is'} wrong" if problems else ""
    if answer.closed:
        tail += f"; {', '.join(answer.closed)} could not be looked into"
    asked = f" for {answer.asked}" if answer.asked else ""
    unmet = sum(f.cause in ("version-conflict", "dependency-absent") for f in found_wrong)
    if answer.only_conflicts:
        says = f"{unmet} declared requirement{'s are' if unmet > 1 else ' is'} not met" if unmet else \
            "All that is declared to be required is met"
        page.title(answer.status, f"{says} in {place}.")
        show_findings(page, found_wrong, verbose)
        mend_line(page, ("--at", answer.seat.ref), found_wrong)
        return
    page.title(answer.status, f"{len(visible)} distribution{'s' if len(visible) != 1 else ''}{asked} "
               f"can be imported from {place}{tail}.")
    for layer in answer.layers:
        found = [d for d in answer.distributions if d.location == layer.path]
        if not found and not verbose:
            continue
        page.blank()
        page.say(f"{layer.layer}: {LAYER_SAYS[layer.layer]}", "part", 2)
        page.whole(layer.path, "path", 4)
        rows = sorted(found, key=lambda d: d.name.lower())
        widths = max((len(d.name) for d in rows), default=0), max((len(d.version) for d in rows), default=0)
        for distribution in rows:
            page.say(_package_row(distribution, *widths), indent=4)
    show_findings(page, found_wrong, verbose)
    for note in answer.notes:
        page.blank()
        page.say(note.message, "quiet", 2, "· ")


def _package_row(distribution: Distribution, name: int, version: int) -> str:
    """Return the row of a distribution, its name and version as wide as the layer's widest."""
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
    return f"{distribution.name:<{name}}  {distribution.version:<{version}}  {'; '.join(said)}".rstrip()
