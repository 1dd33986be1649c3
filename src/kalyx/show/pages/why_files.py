"""The page of ``why FILE`` and ``why FOLDER``: what of all that is imported fails, and what mends it."""

from __future__ import annotations

from kalyx.core.lean.record import replace
from kalyx.core.model import Evidence
from kalyx.show.parts import LAYER_NAMES, mend_line

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.answers.why.module import WhyAnswer
    from kalyx.core.model import Finding, ImportGroup, ImportReport, Place
    from kalyx.show.page import Page

__all__ = ["lay_out"]

GUARD_SAYS = {"try": "in a try, or under a condition", "typing": "for type checkers only"}


def lay_out(page: Page, answer: WhyAnswer, *, verbose: bool) -> None:
    """Lay out the answer about files: the count, each cause once, what is guarded, the files."""
    needed = [r for r in answer.imports if r.needed]
    page.title(answer.status, _sentence(answer, needed))
    findings = [_as_finding(g, answer.imports) for g in answer.groups]
    if len(findings) == 1:
        page.finding(findings[0])
    elif findings:
        page.findings(findings, verbose=verbose)
    elif needed and answer.status == "ok":
        page.part("because")
        page.say(_where_from(needed))
    if len(answer.files) == 1:
        mend_line(page, (answer.files[0].path,), findings)
    guarded = [r for r in answer.imports if not r.needed and r.outcome == "fails"]
    if guarded:
        page.blank()
        named = ", ".join(f"{r.request} ({_place(r.asked[0])}, {GUARD_SAYS.get(r.asked[0].guard, '')})"
                          for r in guarded[:6])
        page.say(f"The code itself does without: {named}" + (
            f" and {len(guarded) - 6} more." if len(guarded) > 6 else "."), "quiet", 2, "· ")
    if len(answer.files) > 1:
        _files(page, answer, verbose)
    elif verbose:
        _modules(page, answer.imports)
    for note in answer.notes:
        page.blank()
        page.say(note.message, "quiet", 2, "· ")


def _sentence(answer: WhyAnswer, needed: Sequence[ImportReport]) -> str:
    """Sum up what files import: what fails, what comes from the wrong place, what could not be tried."""
    broken = [r for r in needed if r.asked and r.asked[0].guard == "file"]
    needed = [r for r in needed if r not in broken]
    failing = {(r.seat, r.module) for r in needed if r.outcome == "fails"}
    if broken and not failing:
        return f"{_not_compiled(broken)}{_where(broken)}."
    is_one = len(answer.files) == 1
    where = _where(needed) if is_one else ""
    modules = {(r.seat, r.module) for r in needed}
    wrong = {(r.seat, r.module) for r in needed if r.outcome == "imports" and any(f.is_problem for f in r.causes)}
    who = answer.files[0].path.replace("\\", "/").rsplit("/", 1)[-1] if is_one else f"these {len(answer.files)} files"
    they_import = f"{who} {'imports' if is_one else 'import'}"
    count = f"{len(modules)} module{'s' if len(modules) != 1 else ''}"
    if not modules:
        return f"{they_import} nothing{' that it needs' if any(i.asked for i in answer.imports) else ''}{where}."
    if failing:
        what = "The one module" if len(modules) == 1 else f"{len(failing)} of the {count}"
        too = f", and {_not_compiled(broken)}" if broken else ""
        more = f", and {len(wrong)} not from where it should" if wrong else ""
        return f"{what} that {they_import} cannot be imported{where}{too}{more}."
    if wrong:
        what, some = ("The one module", "") if len(modules) == 1 else (f"The {count}", f"{len(wrong)} ")
        return f"{what} that {they_import} can be imported{where}, but {some}not from where it should."
    if any(r.outcome == "unknown" for r in needed):
        return f"Not all of the {count} that {they_import} could be tried{where}."
    what = "The one module" if len(modules) == 1 else f"All {count}"
    return f"{what} that {they_import} can be imported{where}."


def _not_compiled(reports: Sequence[ImportReport]) -> str:
    """Say which file cannot be compiled, or how many."""
    which = reports[0].asked[0].path if len(reports) == 1 else f"{len(reports)} files"
    return f"{which} cannot be compiled"


def _where(reports: Sequence[ImportReport]) -> str:
    interpreter = next((r.interpreter for r in reports if r.interpreter), None)
    if interpreter is None or not interpreter.prefix:
        return ""
    return f" in {interpreter.prefix} (Python {interpreter.version or '?'})"


def _place(place: Place) -> str:
    name = place.path.replace("\\", "/").rsplit("/", 1)[-1]
    cell = f", code cell {place.cell}" if place.cell else ""
    return f"{name}{cell}, line {place.line}"


def _as_finding(group: ImportGroup, reports: Sequence[ImportReport]) -> Finding:
    """Return a group as one finding: the lines that ask first, then how we know."""
    members = [r for r in reports if r.seat == group.seat and r.request in group.imports
               and r.causes and r.causes[0].cause]
    lines = []
    for report in members:
        for place in (p for p in report.asked[:1] if p.guard != "file"):
            text = f": {place.text}" if place.text else ""
            if len(members) > 1:
                text += f" - {report.causes[0].because}"
            lines.append(Evidence(f"{_place(place)}{text}", place.path, None if place.cell else place.line))
    first = members[0].causes[0]
    evidence = first.evidence if len(members) == 1 else ()
    return replace(first, because=group.because, remedies=group.remedies, evidence=(*lines, *evidence))


def _where_from(reports: Sequence[ImportReport]) -> str:
    """Say in a sentence which layers the modules come from."""
    layers: dict[str, list[str]] = {}
    for report in reports:
        if report.name is None:
            layers.setdefault(report.layer or "other", []).append(
                f"{report.distribution.name} {report.distribution.version}" if report.distribution
                else report.module)
    parts = []
    for layer, names in layers.items():
        unique = list(dict.fromkeys(names))
        shown = ", ".join(unique[:5]) + (f" and {len(unique) - 5} more" if len(unique) > 5 else "")
        parts.append(f"{LAYER_NAMES[layer]}: {shown}")
    count = sum(report.name is None for report in reports)
    return ("It comes from " if count == 1 else "They come from ") + "; from ".join(parts) + "."


def _files(page: Page, answer: WhyAnswer, verbose: bool) -> None:
    page.part("file by file")
    shown = [f for f in answer.files if f.failing or f.trouble or verbose]
    for file in shown[:40]:
        mark = "!" if file.failing or file.trouble else " "
        count = file.trouble or f"{file.imports} import"
        if file.failing:
            count = f"{len(file.failing)} of {file.imports} fail: {', '.join(file.failing[:5])}"
        page.whole(file.path, lead=f"{mark} ", indent=4)
        page.say(count, "quiet", 8)
    well = len(answer.files) - len([f for f in answer.files if f.failing or f.trouble])
    if well and not verbose:
        page.say(f"{'Nothing fails in' if shown else 'In none of the'} {well} "
                 f"{'more' if shown else ''}".rstrip() + (" files." if well != 1 else " file."), "quiet", 4)


def _modules(page: Page, reports: Sequence[ImportReport]) -> None:
    page.part("module by module")
    for report in reports:
        what = report.distribution
        says = f"{what.name} {what.version}" if what else (report.layer or report.outcome)
        mark = " " if report.outcome == "imports" else "!"
        page.say(f"{report.request:<28} {says}", lead=f"{mark} ")
