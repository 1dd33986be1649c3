"""Why an import fails: every check of the catalogue, most probable cause first."""

from __future__ import annotations

from kalyx.core.errors import KalyxError, NotRecorded
from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.lean.record import replace
from kalyx.core.model import Finding, ImportReport
from kalyx.core.verdicts.index import CHECKS
from kalyx.core.verdicts.known import report_unknown
from kalyx.core.verdicts.reading.absence import is_absent
from kalyx.core.verdicts.reading.failure import read_failure

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Elsewhere, Frame
    from kalyx.core.model.kinds import Answered
    from kalyx.core.verdicts.index import IndexedCheck
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["function_of", "judge_import", "judge_last_words", "load_checks"]


def judge_import(case: Case) -> ImportReport:
    """Return the whole answer for one observed import."""
    obs, seat = case.obs, case.seat
    failure = read_failure(case) if obs.outcome == "fails" else None
    findings = _findings(case, failure)
    origin = case.modules.source_of(obs.origin) or (obs.search[0] if obs.search else None)
    outcome: Answered = "imports" if obs.outcome == "imports" else "fails"
    if outcome == "imports" and not origin and not case.modules.is_builtin(top_level(obs.module)):
        origin = case.modules.file_of(obs.module)  # it put something without a file in its own place
    elsewhere: tuple[Elsewhere, ...] = ()
    if outcome == "fails" and failure is not None and is_absent(case, failure):
        elsewhere = tuple(case.elsewhere.having(failure.top))
    layer = "stdlib" if case.modules.is_builtin(top_level(obs.module)) and not origin else (
        case.modules.layer_of_file(origin) if origin else None)
    return ImportReport(
        obs.module, obs.name, seat.ref, seat.interpreter, outcome, _error(case),
        (origin or "built-in") if outcome == "imports" else origin,
        layer if outcome == "imports" or origin else None,
        case.distributions.of(origin) if origin and layer != "stdlib" else None,
        tuple(findings), elsewhere, obs.output, later=obs.later)


def judge_last_words(said: str, frames: Sequence[Frame]) -> Finding:
    """Conclude from what an interpreter printed when it died: it could not start, or where it died."""
    if frames:
        from kalyx.core.verdicts.causes.native.crash import died_by_its_word

        return died_by_its_word(said, tuple(frames))
    from kalyx.core.verdicts.seats.interpreter import broken_by_its_word

    return broken_by_its_word(said)


def _findings(case: Case, failure: Failure | None) -> list[Finding]:
    """Return what holds; only those checks are loaded that may say something."""
    if case.obs.outcome == "imports":
        wanted = [c for c in CHECKS if c.also_when_it_imports == "always"
                  or (c.also_when_it_imports and not case.obs.origin)]
        return _all_true(case, failure, wanted)
    wanted = list(CHECKS)
    if is_plainly_absent(case, failure):
        asked = ("absence", "traces") if failure is None or _has_traces(case, failure.top) else ("absence",)
        wanted = [c for c in CHECKS if c.asks in asked]
    return _all_true(case, failure, wanted) or _all_true(case, failure, CHECKS)


def load_checks() -> None:
    """Load the checks that are asked first, while there is time."""
    for check in CHECKS:
        if check.asks == "absence":
            function_of(check)


def function_of(check: IndexedCheck) -> Callable[[Case, Failure | None], Finding | None]:
    """Return the function of a check; its module is loaded where it was not yet."""
    module = __import__(f"kalyx.core.verdicts.causes.{check.module}", fromlist=[check.function])
    function: Callable[[Case, Failure | None], Finding | None] = getattr(module, check.function)
    return function


def is_plainly_absent(case: Case, failure: Failure | None) -> bool:
    """Whether the module that was asked for is not there, and nothing of it was run."""
    return (failure is not None and failure.asker is None and len(case.obs.chain) == 1
            and is_absent(case, failure))


def _has_traces(case: Case, name: str) -> bool:
    """Whether anything in the folders of the path is called somewhat like a module, or cannot be seen, or metadata
    says that it brings the module, or conda may.
    """
    from kalyx.core.tables import import_names

    starts = ("\0~", *["\0" + _plain(n) for n in (name, import_names.distribution_for(name)) if n])
    for layer in case.modules.layers:
        names = case.modules.finder.names(layer.path)
        if not names and case.files.exists(layer.path) and case.files.why_not_listed(layer.path):
            return True  # closed, or a zip file
        text = _plain("\0".join(("", *names)))
        if any(start in text for start in starts):
            return True
    return bool(case.distributions.bringing(name)) or case.files.is_folder(
        case.files.path.join(case.python.prefix, "conda-meta"))


def _plain(name: str) -> str:
    """Return a name as distributions' names are compared, runs of signs left as they are."""
    return name.lower().replace("-", "_").replace(".", "_")


def _all_true(case: Case, failure: Failure | None, checks: Sequence[IndexedCheck]) -> list[Finding]:
    """Return what holds, of these checks, in their order.

    A check that could not be made, as what it asks was not recorded, may hold: those that are silent beside its
    cause say nothing either, nor does a last resort, and nothing that comes after it is certain.
    """
    found: list[Finding] = []
    skipped: set[str] = set()
    for check in checks:
        known = {f.cause for f in found}
        if (known | skipped).intersection(check.silent_beside) or (check.last_resort and (known or skipped)):
            continue
        try:
            finding = function_of(check)(case, failure)
        except NotRecorded as error:
            report_unknown(case.files, error)
            skipped.add(check.cause)
            continue
        except KalyxError:
            raise
        except Exception as error:  # one check's mistake is not to cost the others' answer
            if case.files.env.get("KALYX_DEBUG"):
                raise
            case.files.report(f"the check {check.cause}",
                              f"Kalyx made a mistake in it ({type(error).__name__}: {error})")
            continue
        if isinstance(finding, Finding):
            likely = bool(skipped) and finding.confidence == "certain"
            found.append(replace(finding, confidence="likely") if likely else finding)
    return found


def _error(case: Case) -> dict[str, str] | None:
    error = case.obs.error
    if error is not None:
        return {"type": error.type, "message": error.message}
    if case.obs.outcome == "crash":
        by = f", by {case.obs.ended_by}" if case.obs.ended_by else ""
        return {"type": "Crash", "message": f"the interpreter ended with status {case.obs.status}{by}"}
    if case.obs.outcome == "hang":
        return {"type": "Timeout", "message": f"no end within {case.obs.seconds:.0f} s"}
    return None
