"""Why an import failed in a running Python, of what that process told: the exception that it met, and its state."""

from __future__ import annotations

import re

from kalyx.core.answers.why.module import WhyAnswer, explain, observe_request
from kalyx.core.answers.why.requested import asked_later, frames_after, missing_name
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.imports.case import Case
from kalyx.core.facts.imports.kept_observation import as_data, observation_of
from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.facts.seats.live import added_folders, started_path
from kalyx.core.facts.tracebacks.parser import parse_traceback, place_of
from kalyx.core.lean.record import replace
from kalyx.core.verdicts.seats.live import imports_anew, replaced_modules, taken_off, taken_off_with

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping
    from typing import Any

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.seats.context import SeatContext, SeatFacts
    from kalyx.core.model import LivePython, Observation

__all__ = ["answer_failed"]


def answer_failed(context: SeatContext, told: Mapping[str, Any], text: str, limit: float) -> WhyAnswer | None:
    """Explain the exception that code in a running Python met; None where it is of no import.

    `told` is the exception as an observation has it (its chain, the loaded modules), `text` its traceback. Nothing is
    run, except that the import is tried in a new process for up to `limit` seconds where the process has another
    state than a new one would have: only that shows whether the state is the reason.

    Raises:
        ValueError: what was told is no observation.
    """
    facts = context.live
    assert facts is not None and facts.live is not None
    observed = _observed(facts.live, told, text)
    if observed is None:
        return None
    neighbours = Neighbours(context.machine, context)
    report = explain(context, facts, (observed.module, observed.name), observed, neighbours)
    case = Case(context.machine, facts.seat, observed, neighbours)
    relevant = _relevant(facts.live, observed, context.machine)
    absent = observed.error.name if observed.error and observed.error.type == "ModuleNotFoundError" else None
    taken = taken_off_with(case, facts.live, top_level(absent)) if absent else None
    if taken is not None:
        report = replace(report, causes=(taken,))
    elif observed.later:  # an import by itself would show nothing of it
        old = replaced_modules(facts.live.changed_of(relevant), facts.live)
        report = report if old is None else replace(report, causes=(old, *report.causes))
    elif _has_other_state(context.machine, facts, case, relevant):
        fresh = observe_request(context, facts.seat, (observed.module, observed.name), limit,
                                added_folders(context.machine, facts))
        if fresh is not None and fresh.outcome == "imports":
            report = replace(report, causes=(imports_anew(case, facts.live, fresh, relevant),))
    return WhyAnswer(facts.seat, (report,))


def _observed(live: LivePython, told: Mapping[str, Any], text: str) -> Observation | None:
    """Return what was seen of the import that failed; None where the traceback shows none."""
    found = parse_traceback(text)
    if found is None:
        return None
    request = found.request()
    asking = request[2] if request else None
    module, name = request[:2] if request else (missing_name(found) or "__main__", None)
    error = found.chain[0]
    if asking is None and len(error.frames) == 1 and error.type == "ModuleNotFoundError":
        asking = error.frames[0]  # its line cannot be had, and it was that which asked
    later = asking is None or place_of(asking.file).kind in ("site", "user")
    if module == "__main__":
        module = asked_later(found, module) or module
    if not all(part.isidentifier() for part in module.split(".")) or module == "__main__":
        return None
    seen = observation_of({**told, "module": module, "name": name, "outcome": "fails", "python": as_data(live.python)})
    return replace(seen, later=later, chain=tuple(frames_after(e, asking) for e in seen.chain))


def _relevant(live: LivePython, observed: Observation, files: Files) -> set[str]:
    """Return the top-level packages that bear on a failure: asked for, run through, or named by the exception."""
    found = {top_level(observed.module)}
    for error in observed.chain:
        found |= {top_level(error.name)} if error.name else set()
        found |= set(re.findall(r"[A-Za-z_]\w{0,99}", error.message[:4000])) & {one.top for one in live.changed}
        for frame in error.frames:
            entry = max((p for p in live.python.path if p and files.is_within(frame.file, p)), key=len, default="")
            rest = frame.file[len(entry):].replace("\\", "/").strip("/") if entry else ""
            found |= {rest.split("/")[0].removesuffix(".py")} if rest else set()
    return found


def _has_other_state(files: Files, facts: SeatFacts, case: Case, relevant: set[str]) -> bool:
    """Whether a running Python differs from one that is started now in what may bear on a failure."""
    live, error = facts.live, case.obs.error
    assert live is not None
    if live.changed_of(relevant) or taken_off(live, files):
        return True
    now = {files.key(files.located(p, live.python.cwd)) for p in live.python.path if p}
    if any(files.key(p) not in now and files.is_folder(p) for p in started_path(files, facts)):
        return True
    if error is None or error.type != "ModuleNotFoundError" or not error.name:
        return False
    return bool(case.modules.file_of(error.name))  # it is there, and was not found
