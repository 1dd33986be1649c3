"""The pages of ``here``, ``why`` and ``enrol``."""

from __future__ import annotations

from kalyx.core.lean.record import TYPE_CHECKING
from kalyx.core.model import Comparison, Evidence, Finding, ImportReport, Note, Seat
from kalyx.core.verdicts.index import BRIEFS
from kalyx.show.page import Page

if TYPE_CHECKING:
    from kalyx.core.answers.enrol import EnrolAnswer
    from kalyx.core.answers.here import HereAnswer
    from kalyx.core.answers.why.module import WhyAnswer
    from kalyx.core.verdicts.explanations import Explanation

__all__ = ["enrol_page", "explain_page", "here_page", "why_page"]

MOST_TRAILS = 4


def seat_name(seat: Seat, folder: str) -> str:
    """Name a seat as it is typed, relative to the folder where that is shorter."""
    kind, colon, rest = seat.ref.partition(":")
    if colon and rest.startswith((folder.rstrip("/") + "/", folder.rstrip("\\") + "\\")):
        rest = rest[len(folder.rstrip("/\\")) + 1:]
    return kind + colon + rest


def _notes(page: Page, notes: tuple[Note, ...]) -> None:
    for note in notes:
        page.blank()
        page.say(note.message, "quiet", 2, "· ")


# -- here --------------------------------------------------------------------------------------
def here_page(page: Page, answer: HereAnswer, *, verbose: bool) -> None:
    """Lay out ``here``: the verdict, the seats, then each finding in three parts."""
    page.title(answer.status, here_sentence(answer))
    page.blank()
    for seat in answer.seats:
        _seat_row(page, seat, answer.folder)
    findings = _all_findings(answer)
    if not findings or verbose:
        _trails(page, answer, verbose)
    if len(findings) == 1:
        page.finding(findings[0])
    elif findings:
        page.findings(findings, verbose=verbose)
    if not verbose:
        for note in (f for s in answer.seats for f in s.findings if not f.is_problem):
            page.blank()
            page.say(note.because, "quiet", 2, "· ")
    _notes(page, answer.notes)


def _all_findings(answer: HereAnswer) -> list[Finding]:
    found = [*answer.findings, *[f for s in answer.seats for f in s.findings]]
    unique = list({f.because: f for f in found}.values())  # two notebooks may share a kernel
    return [f for f in unique if f.is_problem]


def here_sentence(answer: HereAnswer) -> str:
    """Return the verdict on a folder in one sentence."""
    findings = _all_findings(answer)
    known = [s for s in answer.seats if s.environment is not None]
    if len(findings) == 1:
        return findings[0].because
    if findings:
        briefs = list(dict.fromkeys(BRIEFS[f.cause] for f in findings))
        return f"{len(findings)} things are wrong here: {'; '.join(briefs)}."
    if not known:
        first = next((s.interpreter for s in answer.seats if s.interpreter is not None), None)
        if first is not None and first.known_by in ("other", "unknown"):
            return f"What {first.path} runs could not be found out: {first.trouble}."
        return f"No Python could be found for {answer.folder}."
    environment = known[0].environment
    assert environment is not None
    place = f"{environment.path} (Python {environment.python_version or '?'})"
    if len(known) == 1:
        return f"Python here is {place}" + (
            ", and pip belongs to it." if known[0].scripts else ".")
    return f"All {len(known)} seats agree on {place}."


def _seat_row(page: Page, seat: Seat, folder: str) -> None:
    name = seat_name(seat, folder)
    interpreter = seat.interpreter
    if seat.environment is None:
        what = "no interpreter" if interpreter is None else f"{interpreter.path} does not run"
        if interpreter is not None and interpreter.known_by == "gone":
            what = f"{interpreter.path} is not there"
        if interpreter is not None and interpreter.known_by == "other":
            what = f"{interpreter.path}: {interpreter.trouble}"
        if interpreter is not None and interpreter.known_by == "unknown":
            what = f"{interpreter.path} was read, not run"
        page.say(f"{name:<34} {what}", "plain", 2)
        return
    assert interpreter is not None
    version = f"Python {interpreter.version or '?'}"
    page.say(f"{name:<34} {version:<15} {seat.environment.name} ({seat.environment.kind})", indent=2)
    page.whole(interpreter.path, "path", 4)
    for script in seat.scripts:
        its = script.interpreter
        if its is None:
            page.say(f"  {script.name:<32} {script.trouble}", "quiet", 2)
        elif its.prefix != interpreter.prefix or not its.works:
            shown = f"Python {its.version}" if its.works else "cannot start"
            page.say(f"  {script.name:<32} {shown:<15} {its.prefix or its.path}", indent=2)


def _trails(page: Page, answer: HereAnswer, verbose: bool) -> None:
    page.part("how we know")
    shown = [s for s in answer.seats if s.trail]
    for seat in shown if verbose else shown[:MOST_TRAILS]:
        page.say(seat_name(seat, answer.folder), "lead", 4)
        _trail(page, seat)
        for script in seat.scripts[:None if verbose else 1]:
            if script.trail:
                page.say(f"{script.name} in this shell", "lead", 4)
                for step in script.trail:
                    page.say(step.says, indent=6, lead=f"{step.step}  ")


def _trail(page: Page, seat: Seat) -> None:
    for step in seat.trail:
        page.say(step.says, indent=6, lead=f"{step.step}  ")
        if step.where and (step.line or step.where not in step.says):
            page.whole(f"{step.where}:{step.line}" if step.line else step.where, indent=9)


# -- why ----------------------------------------------------------------------------------------
def why_page(page: Page, answer: WhyAnswer, *, verbose: bool) -> None:
    """Lay out ``why``: one answer after another; of files, what fails in them."""
    if answer.files:
        from kalyx.show.files_text import files_page

        files_page(page, answer, verbose=verbose)
        return
    for report in answer.imports:
        page.blank()
        _report(page, report, answer.seat, verbose)
    for comparison in answer.comparisons:
        _comparison(page, comparison, verbose)
    _notes(page, answer.notes)


def _report(page: Page, report: ImportReport, seat: Seat, verbose: bool) -> None:
    asked = f"{report.name} from {report.module}" if report.name else report.module
    where = _where(seat)
    if report.outcome == "unknown":
        _untried(page, report, asked, where)
        return
    problems = [f for f in report.causes if f.is_problem]
    if report.outcome == "imports":
        page.title("problem" if problems else "ok",
                   f"{asked} imports {where}" + (", but not from where it should." if problems
                                                 else "."))
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
            page.say(f"also true: {finding.cause}", "slug", 2)
            page.say(finding.because)
            if verbose:
                page.finding(finding, because=False)
        else:
            page.finding(finding)
    if verbose and seat.trail:
        page.part("the seat")
        _trail(page, seat)
    if verbose and report.output.strip():
        page.part("what it printed")
        for row in report.output.splitlines()[-20:]:
            page.whole(row, "quiet", 4)


def explain_page(page: Page, answer: Explanation, *, verbose: bool) -> None:
    """Lay out ``why --explain``: one cause in words."""
    page.title("unknown", f"{answer.cause}: {answer.true_when}.")
    for name, text in (("looks like", answer.looks_like), ("why", answer.why),
                       ("how we know", answer.how_we_know), ("what to do", answer.what_to_do)):
        page.part(name)
        page.say(text)


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
    names = {"shell": "in this shell", "env": f"in the environment {seat.label}"}
    place = names.get(seat.kind, f"in {seat.kind} {seat.label}")
    if seat.interpreter is not None and seat.interpreter.version and seat.environment is not None:
        place += f" ({seat.environment.name}, Python {seat.interpreter.version})"
    return place


def _healthy(page: Page, report: ImportReport, seat: Seat) -> None:
    distribution = report.distribution
    page.part("because")
    if report.origin == "built-in":
        page.say("It is built into the interpreter.")
    elif distribution is not None:
        page.say(f"It comes from {distribution.name} {distribution.version}, in the layer "
                 f"{report.layer}" + (", an editable install." if distribution.editable else "."))
    elif report.layer == "start":
        page.say("It is your own file, in the folder that Python starts from.")
    elif report.layer == "stdlib":
        page.say("It is part of Python's standard library.")
    else:
        page.say(f"It lies in the layer {report.layer}; no installed distribution owns it.")
    steps = [Evidence("the import was tried, and this file was loaded", report.origin)]
    if distribution is not None:
        steps.append(Evidence(f"{distribution.name} {distribution.version} lists it as its own",
                              distribution.metadata))
    if seat.interpreter is not None:
        steps.append(Evidence("the interpreter was", seat.interpreter.path))
    page.evidence(steps)


# -- enrol ----------------------------------------------------------------------------------------
def enrol_page(page: Page, answer: EnrolAnswer, *, verbose: bool) -> None:
    """Lay out ``enrol``: what was registered, and the proof."""
    kernel, proof = answer.kernel, answer.proof
    if answer.findings:
        page.title("problem", answer.findings[0].because)
        page.finding(answer.findings[0], because=False)
        return
    assert kernel is not None
    if answer.dry_run:
        page.title("ok", f"This would register the kernel {kernel.name} ({kernel.label}).")
        page.part("the plan")
        page.whole(kernel.spec, indent=4)
        for row in answer.text.splitlines():
            page.whole(row, "after", 4, "+ ")
        return
    assert proof is not None
    page.title("ok", f"{kernel.label} is a notebook kernel now, and it answered as itself.")
    page.part("because")
    scope = {"user": "for you", "env": "in the environment",
             "system": "for everyone"}.get(kernel.scope, "there")
    page.say(f"The kernel {kernel.name} was registered {scope}, started, and asked who it is over "
             "the kernel messaging protocol. Its answer is the environment that you named.")
    page.part("how we know")
    page.say("registered in", lead="1  ")
    page.whole(kernel.spec)
    page.say(f"asked for {proof.asked}; it answered in {proof.seconds} s:", lead="2  ")
    page.whole(f"sys.executable  {proof.executable}")
    page.whole(f"sys.prefix      {proof.prefix}")
    if proof.pip:
        page.whole(f"pip in a cell   {proof.pip}")
    page.say("that is the interpreter of the environment:", lead="3  ")
    page.whole(kernel.interpreter.path if kernel.interpreter else "")
    page.part("what to do")
    page.say(f"Choose {kernel.label} in the notebook's kernel menu; reload the page if it was "
             "open.", lead="a  ")
