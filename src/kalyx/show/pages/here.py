"""The page of `kalyx here`."""

from __future__ import annotations

from kalyx.show.parts import mend_line, notes, seat_name, trail

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.here import HereAnswer
    from kalyx.core.model import Finding, Seat
    from kalyx.show.page import Page

__all__ = ["here_sentence", "lay_out"]

MOST_TRAILS = 4


# -- here --------------------------------------------------------------------------------------
def lay_out(page: Page, answer: HereAnswer, *, verbose: bool) -> None:
    """Lay out ``here``: the verdict, the seats, then each finding in three parts."""
    page.title(answer.status, here_sentence(answer))
    page.blank()
    page.table([row for seat in answer.seats for row in _seat_rows(seat, answer.folder)])
    findings = _all_findings(answer)
    if not findings or verbose:
        _trails(page, answer, verbose)
    if len(findings) == 1:
        page.finding(findings[0])
    elif findings:
        page.findings(findings, verbose=verbose)
    mend_line(page, (), findings)
    if not verbose:
        for note in (f for s in answer.seats for f in s.all_findings if not f.is_problem):
            page.blank()
            page.say(note.because, "quiet", 2, "· ")
    notes(page, answer.notes)


def _all_findings(answer: HereAnswer) -> list[Finding]:
    found = [*answer.findings, *[f for s in answer.seats for f in s.all_findings]]
    unique = list({f.because: f for f in found}.values())  # two notebooks may share a kernel
    return [f for f in unique if f.is_problem]


def here_sentence(answer: HereAnswer) -> str:
    """Return the verdict on a folder in one sentence."""
    findings = _all_findings(answer)
    known = [s for s in answer.seats if s.environment is not None]
    if len(findings) == 1:
        return findings[0].because
    if findings:
        from kalyx.core.verdicts.index import BRIEFS

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
            ", and pip belongs to it." if _has_its_pip(known[0]) else ".")
    return f"All {len(known)} seats agree on {place}."


def _has_its_pip(seat: Seat) -> bool:
    """Whether the pip that the shell starts is one, and of the shell's own Python."""
    pips = [s.interpreter for s in seat.scripts if s.name == "pip"]
    absent = any(f.cause == "pip-absent" for f in seat.findings)
    return not absent and bool(pips) and all(p is not None and p.works and seat.interpreter is not None
                                             and p.prefix == seat.interpreter.prefix for p in pips)


def _seat_rows(seat: Seat, folder: str) -> list[list[str]]:
    """Return a row for a seat, and one for each of its scripts that is another Python's: the path stands last."""
    name = seat_name(seat, folder)
    interpreter = seat.interpreter
    if seat.environment is None or interpreter is None:
        if interpreter is None:
            return [[name, "no interpreter", "", ""]]
        says = {"gone": "is not there", "unknown": "read, not run", "other": "cannot be told"}
        why = f": {interpreter.trouble}" if interpreter.known_by == "other" else ""
        return [[name, says.get(interpreter.known_by, "does not run"), "", f"{interpreter.path}{why}"]]
    rows = [[name, f"Python {interpreter.version or '?'}", f"{seat.environment.name} ({seat.environment.kind})",
             interpreter.path]]
    for script in seat.scripts:
        its = script.interpreter
        if its is None:
            rows.append([f"  {script.name}", "cannot be told", "", script.trouble])
        elif its.prefix != interpreter.prefix or not its.works:
            rows.append([f"  {script.name}", f"Python {its.version}" if its.works else "cannot start", "",
                         its.prefix or its.path])
    return rows


def _trails(page: Page, answer: HereAnswer, verbose: bool) -> None:
    page.part("how we know")
    shown = [s for s in answer.seats if s.trail]
    for seat in shown if verbose else shown[:MOST_TRAILS]:
        page.say(seat_name(seat, answer.folder), "lead", 4)
        trail(page, seat)
        for script in seat.scripts[:None if verbose else 1]:
            if script.trail:
                page.say(f"{script.name} in this shell", "lead", 4)
                for step in script.trail:
                    page.say(step.says, indent=6, lead=f"{step.step}  ")
