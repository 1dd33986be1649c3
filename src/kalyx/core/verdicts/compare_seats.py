"""Why an import works at one seat and not at another: the first difference that matters."""

from __future__ import annotations

from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.model import Comparison, Difference, Evidence
from kalyx.core.verdicts.reading.failure import read_failure

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import ImportReport

__all__ = ["compare_imports"]

VARIABLES = ("PYTHONPATH", "PYTHONHOME", "PYTHONNOUSERSITE", "PYTHONSAFEPATH", "PYTHONSTARTUP",
             "PYTHONUSERBASE", "LD_LIBRARY_PATH", "DYLD_LIBRARY_PATH", "VIRTUAL_ENV", "CONDA_PREFIX")
LAYER_SAYS = {"env": "its environment's own packages", "base": "the packages of its base installation",
              "user": "the user site", "pythonpath": "PYTHONPATH", "start": "the folder it starts from",
              "link": "a folder that a .pth file or an editable install links",
              "stdlib": "the standard library", "other": "a folder that code adds at its start"}


def compare_imports(here: Case, there: Case, here_report: ImportReport,
                    there_report: ImportReport) -> Comparison:
    """Compare one import at two seats. ``there`` is the one to compare with."""
    differences = _differences(here, there)
    outcomes = here_report.outcome, there_report.outcome
    asked = here_report.request
    evidence: list[Evidence] = []
    if outcomes[0] == outcomes[1]:
        verb = "imports" if outcomes[0] == "imports" else "fails"
        says = f"{asked} {verb} at both seats"
        says += _other_origin(here_report, there_report) if verb == "imports" else "."
    elif outcomes[0] == "imports":
        says = f"{asked} works here and fails there: {_first(there, here, there_report, evidence)}"
    else:
        says = f"{asked} works there and fails here: {_first(here, there, here_report, evidence)}"
    return Comparison(here_report.module, here_report.name, here.seat.ref, there.seat.ref, outcomes[0],
                      outcomes[1], says, tuple(evidence), tuple(differences))


def _other_origin(a: ImportReport, b: ImportReport) -> str:
    if a.origin == b.origin:
        return ", from the same file."
    versions = [f"{r.distribution.name} {r.distribution.version}" if r.distribution else str(r.origin)
                for r in (a, b)]
    return f": {versions[0]} here, {versions[1]} there." if versions[0] != versions[1] else \
        f", the same version from two places: {a.origin} here, {b.origin} there."


def _first(bad: Case, good: Case, report: ImportReport, evidence: list[Evidence]) -> str:
    """Return the difference that makes one work and the other fail, as the end of a sentence."""
    failure = read_failure(bad) if bad.obs.outcome == "fails" else None
    name = failure.top if failure is not None and failure.name is None else top_level(report.module)
    offers = [c for c in good.modules.candidates(name) if c[1].kind != "namespace"]
    mine = [c for c in bad.modules.candidates(name) if c[1].kind != "namespace"]
    m = bad.files
    if not offers:
        loaded = good.obs.loaded.get(name, (None,))[0] or good.obs.origin
        evidence.append(Evidence(f"there it is {loaded}", loaded))
        return f"there {name} is {loaded or 'built in'}, which nothing on the path here leads to."
    layer, found = offers[0]
    evidence.append(Evidence(f"where it works, {name} is {found.path}", found.path))
    if mine and not m.same(mine[0][1].path, found.path):
        evidence.append(Evidence(f"where it fails, {name} is {mine[0][1].path}", mine[0][1].path))
        one, two = bad.distributions.of(mine[0][1].path), good.distributions.of(found.path)
        versions = f" ({one.version if one else 'of no distribution'} against {two.version if two else '?'})" \
            if one or two else ""
        return f"another {name} is found{versions}: {mine[0][1].path} instead of {found.path}."
    if not mine:
        return (f"{name} lies in {LAYER_SAYS[layer]} ({found.entry}), and that folder is not on the search "
                f"path of the other{_why_not_there(bad, good, layer)}.")
    if bad.python.version != good.python.version:
        return (f"both find {found.path}, and one is Python {bad.python.version}, the other "
                f"{good.python.version}.")
    changed = [v for v in VARIABLES if bad.launch.env.get(v) != good.launch.env.get(v)]
    if changed:
        return f"both find {found.path}, and their variables differ: {', '.join(changed)}."
    error = bad.obs.error
    return f"both find {found.path}; what differs is what it needs: {error.message if error else 'unknown'}."


def _why_not_there(bad: Case, good: Case, layer: str) -> str:
    if layer == "pythonpath":
        return f": PYTHONPATH is {good.launch.env.get('PYTHONPATH', '')!r} where it works and " \
               f"{bad.launch.env.get('PYTHONPATH', 'not set')!r} where it fails"
    if layer == "start":
        return f": it starts from {bad.start or 'no folder'}"
    if layer == "user":
        return ", which ignores the user site"
    if bad.files.key(bad.python.prefix) != bad.files.key(good.python.prefix):
        return f": it uses {bad.environment_name}"
    return ""


def _differences(here: Case, there: Case) -> list[Difference]:
    """List all that differs between two seats, what decides most first."""
    found = []
    for what, a, b in (
            ("interpreter", here.python.executable, there.python.executable),
            ("environment", here.python.prefix, there.python.prefix),
            ("version", here.python.version, there.python.version),
            ("start folder", here.start, there.start),
            ("user site", _user(here), _user(there))):
        if a != b:
            found.append(Difference(what, str(a or "none"), str(b or "none")))
    for name in VARIABLES:
        one, two = here.launch.env.get(name), there.launch.env.get(name)
        if one != two:
            found.append(Difference(name, one or "not set", two or "not set"))
    only_here = [x.path for x in here.modules.layers if x.path not in {y.path for y in there.modules.layers}]
    only_there = [x.path for x in there.modules.layers if x.path not in {y.path for y in here.modules.layers}]
    if only_here or only_there:
        found.append(Difference("search path", ", ".join(only_here) or "nothing of its own",
                                ", ".join(only_there) or "nothing of its own"))
    return found


def _user(case: Case) -> str:
    return next((x.path for x in case.modules.layers if x.layer == "user"), "off")
