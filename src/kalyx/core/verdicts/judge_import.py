"""Why an import fails: every check of the catalogue, most probable cause first."""

from __future__ import annotations

from collections.abc import Iterable

from kalyx.core.errors import KalyxError
from kalyx.core.facts.imports.case import Case
from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.model import Elsewhere, Finding, ImportReport
from kalyx.core.verdicts.catalogue import IMPORT_CHECKS
from kalyx.core.verdicts.reading.absence import is_absent
from kalyx.core.verdicts.reading.failure import Failure, read_failure

__all__ = ["judge_import", "load_checks"]

# The modules whose checks are registered: those that may say something about a module that is
# plainly not there; those that ask for something of its name besides; and all others. What is not
# needed is not loaded.
_OF_ABSENCE = ("absent.standard_library", "absent.not_installed", "absent.names", "unreachable.site_off",
               "unreachable.own_folders", "unreachable.links")
_OF_TRACES = ("unreachable.hidden", "unreachable.other_copies", "damaged.missing_files", "damaged.corrupt_files",
              "damaged.mixed_install", "incompatible.binaries", "damaged.unreadable")
_OTHERS = ("damaged.bytecode", "native.libraries", "native.binary_mismatch", "native.crash", "native.hang",
           "own_code.circular_import", "own_code.relative_import", "own_code.raises", "absent.parts",
           "incompatible.python2", "own_code.version_conflict", "native.symbols", "incompatible.python_version")
_WHEN_IT_IMPORTS = ("hidden-by-file", "hidden-by-path", "hidden-by-user-site", "file-unreadable",
                    "namespace-split", "files-missing")

LAST_RESORT = 97  # checks of this rank and above speak where nothing else was found

# Causes that are not true beside others: the honest rest, "nowhere" where it is somewhere, "not in
# this version" where it is there and cannot be loaded, or something else was asked
_NOTHING: frozenset[str] = frozenset()
_NOT_WHOLE = frozenset({"foreign-abi", "foreign-platform", "hidden-by-file", "hidden-by-path",
                        "hidden-by-user-site", "files-missing",
                        "metadata-only", "mixed-install", "file-corrupt", "file-unreadable",
                        "bytecode-stale", "namespace-split"})
_NOT_BESIDE: dict[str, frozenset[str]] = {
    "foreign-abi": frozenset({"foreign-platform"}),
    "files-missing": frozenset({"file-corrupt"}),
    "mixed-install": frozenset({"files-missing", "metadata-only", "file-corrupt", "foreign-abi",
                                "foreign-platform"}),
    "submodule-absent": _NOT_WHOLE | {"version-conflict", "name-differs", "stdlib-removed", "stdlib-not-yet"},
    "attribute-absent": _NOT_WHOLE | {"python-too-new", "python-too-old", "version-conflict",
                                      "circular-import", "name-differs"},
    "circular-import": _NOT_WHOLE,
    "python2-source": frozenset({"file-corrupt"}),
    "python-too-old": frozenset({"python2-source", "file-corrupt"}),
    "library-missing": frozenset({"files-missing", "file-corrupt", "foreign-platform"}),
    "symbol-missing": frozenset({"foreign-platform"}),
    "crash": frozenset({"file-corrupt"}),
    "binary-mismatch": frozenset({"files-missing"}),
    "dependency-absent": _NOT_WHOLE | {"extra-absent", "site-off"},
    "name-differs": frozenset({"metadata-only", "mixed-install", "file-unreadable", "site-off"}),
    "name-misspelt": frozenset({"metadata-only", "link-broken", "mixed-install", "file-unreadable",
                                "site-off", "env-version-skew", "stdlib-removed", "stdlib-not-yet"}),
    "base-site-off": frozenset({"pip-absent"}),
    "installed-elsewhere": frozenset({"pip-absent", "metadata-only", "files-missing", "mixed-install",
                                      "file-unreadable"}),
    "not-installed": frozenset({"pip-absent", "name-differs", "stdlib-removed", "stdlib-not-yet",
                                "stdlib-not-built", "own-code-unreachable", "metadata-only",
                                "user-site-off", "base-site-off", "link-broken", "site-off",
                                "env-version-skew", "mixed-install", "file-unreadable"}),
}


def judge_import(case: Case) -> ImportReport:
    """Return the whole answer for one observed import."""
    obs, seat = case.obs, case.seat
    failure = read_failure(case) if obs.outcome == "fails" else None
    findings = _findings(case, failure)
    origin = case.modules.source_of(obs.origin) or (obs.search[0] if obs.search else None)
    outcome = "imports" if obs.outcome == "imports" else "fails"
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


def _findings(case: Case, failure: Failure | None) -> list[Finding]:
    if case.obs.outcome == "imports":
        load_checks(("unreachable.hidden", "unreachable.other_copies",
                     *(() if case.obs.origin else ("damaged.unreadable", "damaged.missing_files"))))
    else:
        load_checks(_OF_ABSENCE)
        if not is_plainly_absent(case, failure):
            load_checks((*_OF_TRACES, *_OTHERS))
        elif failure is None or _has_traces(case, failure.top):
            load_checks(_OF_TRACES)
    found = _all_true(case, failure)
    if not found and case.obs.outcome != "imports":
        load_checks((*_OF_TRACES, *_OTHERS))
        found = _all_true(case, failure)
    return found


def load_checks(modules: Iterable[str] = _OF_ABSENCE) -> None:
    """Load modules of checks, by name; each once."""
    for name in modules:
        __import__(f"kalyx.core.verdicts.causes.{name}")


def is_plainly_absent(case: Case, failure: Failure | None) -> bool:
    """Whether the module that was asked for is not there, and nothing of it was run."""
    return (failure is not None and failure.asker is None and len(case.obs.chain) == 1
            and is_absent(case, failure))


def _has_traces(case: Case, name: str) -> bool:
    """Whether anything in the folders of the path is called somewhat like a module, or cannot be seen."""
    from kalyx.core.tables import import_names

    starts = ("\0~", *["\0" + _plain(n) for n in (name, import_names.distribution_for(name)) if n])
    for layer in case.modules.layers:
        names = case.modules.finder.names(layer.path)
        if not names and case.files.exists(layer.path) and case.files.why_not_listed(layer.path):
            return True  # closed, or a zip file
        text = _plain("\0".join(("", *names)))
        if any(start in text for start in starts):
            return True
    return False


def _plain(name: str) -> str:
    """Return a name as distributions' names are compared, runs of signs left as they are."""
    return name.lower().replace("-", "_").replace(".", "_")


def _all_true(case: Case, failure: Failure | None) -> list[Finding]:
    """Return what holds, of the checks that are loaded."""
    found: list[Finding] = []
    for rank, slug, check in sorted(IMPORT_CHECKS, key=lambda c: c[:2]):
        if case.obs.outcome == "imports" and slug not in _WHEN_IT_IMPORTS:
            continue
        known = {f.cause for f in found}
        if _NOT_BESIDE.get(slug, _NOTHING) & known or (known and rank >= LAST_RESORT):
            continue
        try:
            finding = check(case, failure)
        except KalyxError:
            raise
        except Exception as error:  # one check's mistake is not to cost the others' answer
            if case.files.env.get("KALYX_DEBUG"):
                raise
            case.files.report(f"the check {slug}", f"Kalyx made a mistake in it ({type(error).__name__}: {error})")
            continue
        if isinstance(finding, Finding):
            found.append(finding)
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
