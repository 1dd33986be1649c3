"""Why an import fails: every check of the catalogue, most probable cause first."""

from __future__ import annotations

from kalyx.core.facts.cases import Case
from kalyx.core.facts.modules import top_level
from kalyx.core.model import Elsewhere, Finding, ImportReport
from kalyx.core.verdicts import (
    absent,
    damaged,
    foreign,
    hidden,
    names,
    native,
    own_code,
    parts,
    standard_library,
    unreachable,
    versions,
)
from kalyx.core.verdicts.absence import is_absent
from kalyx.core.verdicts.catalogue import CATALOGUE
from kalyx.core.verdicts.failure import Failure, read_failure

__all__ = ["judge_import"]

# imported so that their checks are registered
_GROUPS = (absent, damaged, foreign, hidden, names, native, own_code, parts, standard_library,
           unreachable, versions)
_WHEN_IT_IMPORTS = ("hidden-by-file", "hidden-by-path", "hidden-by-user-site")


# Causes that are not true beside others: the honest rest, "nowhere" where it is somewhere, "not in
# this version" where it is there and cannot be loaded, or something else was asked
_ANY = frozenset(CATALOGUE)
_NOT_WHOLE = frozenset({"foreign-abi", "hidden-by-file", "files-missing", "metadata-only"})
_NOT_BESIDE: dict[str, frozenset[str]] = {
    "raises": _ANY,
    "submodule-absent": _NOT_WHOLE,
    "attribute-absent": _NOT_WHOLE | {"python-too-new"},
    "circular-import": _NOT_WHOLE,
    "python-too-old": frozenset({"python2-source"}),
    "dependency-absent": _NOT_WHOLE | {"extra-absent"},
    "name-differs": frozenset({"metadata-only"}),
    "name-misspelt": frozenset({"metadata-only", "link-broken"}),
    "not-installed": frozenset({"name-differs", "stdlib-removed", "stdlib-not-yet",
                                "stdlib-not-built", "own-code-unreachable", "metadata-only",
                                "user-site-off", "base-site-off", "link-broken"}),
}


def judge_import(case: Case) -> ImportReport:
    """Return the whole answer for one observed import."""
    obs, seat = case.obs, case.seat
    failure = read_failure(case) if obs.outcome == "fails" else None
    findings = _findings(case, failure)
    origin = case.source_of(obs.origin) or (obs.search[0] if obs.search else None)
    outcome = "imports" if obs.outcome == "imports" else "fails"
    elsewhere: tuple[Elsewhere, ...] = ()
    if outcome == "fails" and failure is not None and is_absent(case, failure):
        elsewhere = tuple(case.elsewhere(failure.top))
    layer = "stdlib" if case.is_builtin(top_level(obs.module)) and not origin else (
        case.layer_of_file(origin) if origin else None)
    return ImportReport(
        obs.module, obs.name, seat.ref, seat.interpreter, outcome, _error(case),
        (origin or "built-in") if outcome == "imports" else origin,
        layer if outcome == "imports" or origin else None,
        case.distribution_of(origin) if origin and layer != "stdlib" else None,
        tuple(findings), elsewhere, obs.output)


def _findings(case: Case, failure: Failure | None) -> list[Finding]:
    checks = sorted((c for c in CATALOGUE.values() if c.rank), key=lambda c: c.rank)
    found: list[Finding] = []
    for entry in checks:
        if case.obs.outcome == "imports" and entry.slug not in _WHEN_IT_IMPORTS:
            continue
        if _NOT_BESIDE.get(entry.slug, frozenset()) & {f.cause for f in found}:
            continue
        finding = entry.check(case, failure)
        if isinstance(finding, Finding):
            found.append(finding)
    return found


def _error(case: Case) -> dict[str, str] | None:
    error = case.obs.error
    if error is not None:
        return {"type": error.type, "message": error.message}
    if case.obs.outcome == "crash":
        return {"type": "Crash", "message": f"the interpreter ended with status {case.obs.status}"}
    if case.obs.outcome == "hang":
        return {"type": "Timeout", "message": f"no end within {case.obs.seconds:.0f} s"}
    return None
