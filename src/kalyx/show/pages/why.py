"""The page of `kalyx why MODULE`."""

from __future__ import annotations

from kalyx.core.model import Evidence
from kalyx.show.parts import LAYER_NAMES, mend_line, notes, trail

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.answers.why.module import WhyAnswer
    from kalyx.core.model import Comparison, Finding, ImportReport, Seat
    from kalyx.show.page import Page

__all__ = ["lay_out"]


def lay_out(page: Page, answer: WhyAnswer, *, verbose: bool) -> None:
    """Lay out ``why``: one answer after another; of files, what fails in them."""
    if answer.files:
        from kalyx.show.pages import why_files

        why_files.lay_out(page, answer, verbose=verbose)
        return
    for report in answer.imports:
        page.blank()
        _report(page, report, answer.seat, verbose)
    for comparison in answer.comparisons:
        _comparison(page, comparison, verbose)
    notes(page, answer.notes)


def _report(page: Page, report: ImportReport, seat: Seat, verbose: bool) -> None:
    asked = f"{report.name} from {report.module}" if report.name else report.module
    where = _where(seat)
    if report.outcome == "unknown":
        _untried(page, report, asked, where)
        return
    problems = [f for f in report.causes if f.is_problem]
    if report.outcome == "imports":
        page.title("problem" if problems else "ok",
                   f"{asked} imports {where}" + _but(problems))
        if not problems:
            _healthy(page, report, seat)
    else:
        error = report.error or {}
        died = seat.ref == "text" and error.get("type") == "Crash"
        page.title("problem", f"Python died {where}." if died else f"{asked} failed {where}, after its import."
                   if report.later else f"{asked} does not import {where}.")
        if error:
            page.say(f"{error['type']}: {error['message']}".splitlines()[0], "quiet", 2)
    for number, finding in enumerate(report.causes):
        if number:
            page.blank()
            page.say("also true", "slug", 2)
            page.say(finding.because)
            if verbose:
                page.finding(finding, because=False)
                page.say(f"kalyx why --explain {finding.cause} says more.", "quiet", 4)
        else:
            page.finding(finding)
    if seat.ref != "text":
        at = () if seat.kind == "shell" else ("--at", seat.ref)
        mend_line(page, (report.request, *at), report.causes[:1])
    if verbose and seat.trail:
        page.part("the seat")
        trail(page, seat)
    if verbose and report.output.strip():
        page.part("what it printed")
        for row in report.output.splitlines()[-20:]:
            page.whole(row, "quiet", 4)


def _but(problems: Sequence[Finding]) -> str:
    """Return the end of the sentence that something imports, where not all is well with that."""
    if not problems:
        return "."
    if problems[0].cause in ("loaded-replaced", "path-changed"):
        return ", once it is started anew."
    return ", but not from where it should."


def _untried(page: Page, report: ImportReport, asked: str, where: str) -> None:
    """Say what is known of an import that was not tried: what reading shows, or nothing."""
    if report.causes:
        page.title("problem", f"{asked} would not import {where}." if report.origin is None else
                   f"{asked} would import {where}, but not from where it should.")
        page.finding(report.causes[0])
        for finding in report.causes[1:]:
            page.blank()
            page.say(f"also true: {finding.cause}", "slug", 2)
            page.say(finding.because)
    elif report.origin:
        page.title("unknown", f"{asked} is there {where}; whether it imports was not tried.")
        page.part("how we know")
        page.say("reading the search path finds", lead="1  ")
        page.whole(report.origin)
        if report.distribution is not None:
            page.say(f"it belongs to {report.distribution.name} {report.distribution.version}", lead="2  ")
            page.whole(report.distribution.metadata)
    else:
        page.title("unknown", f"{asked}: could not be tried {where}.")


def _comparison(page: Page, comparison: Comparison, verbose: bool) -> None:
    page.part(page.short(f"compared with {comparison.there}"))
    page.say(comparison.says)
    for item in comparison.evidence:
        page.say(item.says, "quiet", 7)
    shown = comparison.differences if verbose else comparison.differences[:6]
    for difference in shown:
        page.say(f"{difference.what}:", indent=4)
        page.whole(f"here   {difference.here}")
        page.whole(f"there  {difference.there}")


def _where(seat: Seat) -> str:
    if seat.ref == "text":
        return "where that text comes from"
    names = {"shell": "in this shell", "env": f"in the environment {seat.label}", "beacon": f"on {seat.label}"}
    place = names.get(seat.kind, f"in {seat.label}" if seat.is_this_kernel else f"in {seat.kind} {seat.label}")
    if seat.interpreter is not None and seat.interpreter.version and seat.environment is not None:
        place += f" ({seat.environment.name}, Python {seat.interpreter.version})"
    return place


def _healthy(page: Page, report: ImportReport, seat: Seat) -> None:
    distribution = report.distribution
    page.part("because")
    if report.origin == "built-in":
        page.say("It is built into the interpreter.")
    elif distribution is not None:
        page.say(f"It comes from {distribution.name} {distribution.version}, in {LAYER_NAMES[report.layer or 'other']}"
                 + (", an editable install." if distribution.editable else "."))
    elif report.layer == "start":
        page.say("It is your own file, in the folder that Python starts from.")
    elif report.layer == "stdlib":
        page.say("It is part of Python's standard library.")
    else:
        page.say(f"It lies in {LAYER_NAMES[report.layer or 'other']}; no installed distribution owns it.")
    steps = [Evidence("the import was tried, and this file was loaded", report.origin)]
    if distribution is not None:
        steps.append(Evidence(f"{distribution.name} {distribution.version} lists it as its own",
                              distribution.metadata))
    if seat.interpreter is not None:
        steps.append(Evidence("the interpreter was", seat.interpreter.path))
    page.evidence(steps)
