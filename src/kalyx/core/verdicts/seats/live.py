"""Findings about a running Python that told of itself: what it has loaded, and its search path, against the disk."""

from __future__ import annotations

from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.lean.record import replace
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.facts.seats.context import SeatFacts
    from kalyx.core.model import ChangedModule, LivePython, Observation

__all__ = ["imports_anew", "judge_live", "path_taken_off", "replaced_modules", "taken_off", "taken_off_with"]

MOST_NAMED = 4
RESTART = "Restart the kernel: only then does it import what is there now."


def judge_live(facts: SeatFacts, files: Files) -> list[Finding]:
    """Return what is wrong with a running Python, whatever it is to import."""
    assert facts.live is not None
    found = [replaced_modules(facts.live.changed, facts.live), path_taken_off(facts.live, files)]
    return [f for f in found if f is not None]


def replaced_modules(changed: Sequence[ChangedModule], live: LivePython, now: str = "") -> Finding | None:
    """Say that modules are loaded of files which were replaced or are gone; None where there are none.

    `now` says what is there instead.
    """
    if not changed:
        return None
    tops = list(dict.fromkeys(one.top for one in changed))
    versions = {one.name: one.version for one in changed if one.version}
    named = ", ".join(f"{t} {versions[t]}" if t in versions else t for t in tops[:MOST_NAMED])
    more = f" and {len(tops) - MOST_NAMED} more" if len(tops) > MOST_NAMED else ""
    says = "are gone" if all(one.how == "gone" for one in changed) else "were changed"
    evidence = [Evidence(f"{one.name} was loaded of it, and it " + (
        "is not there any more" if one.how == "gone" else "has been written anew since"), one.file)
        for one in changed[:MOST_NAMED]]
    return Finding.warning("loaded-replaced", "certain", f"This kernel still has {named}{more} loaded, of files that "
                           f"{says} since{now}.", tuple(evidence), (_restart(live),))


def _restart(live: LivePython) -> Remedy:
    return Remedy(RESTART, "manual", changes=f"process {live.pid}")


def taken_off(live: LivePython, files: Files) -> list[str]:
    """Return the folders that were on the search path, are there, and are not on it any more."""
    cwd = live.python.cwd
    now = {files.key(files.located(p or cwd, cwd)) for p in live.python.path}
    then = [files.located(p, cwd) for p in live.path_then if p]
    return [p for p in dict.fromkeys(then) if files.key(p) not in now and files.exists(p)]


@cause("path-changed", "code that ran in a live Python has taken a folder off its search path",
       brief="a folder was taken off the search path of a running process")
def path_taken_off(live: LivePython, files: Files, folders: Sequence[str] = (), holds: str = "") -> Finding | None:
    """Compare sys.path as it is with what it was.

    Looks like: A notebook that has imported a package before does not find it any more, or finds another one.
    Why: sys.path is a list that any code may change; a cell that sets or cuts it does so for all cells after it.
    How Kalyx knows: It keeps what sys.path was when it was loaded into the kernel, and holds it against what it is.
    What to do: Put the folder back, or restart the kernel.
    """
    gone = list(folders) or taken_off(live, files)
    if not gone:
        return None
    which = f", which has {holds}," if holds else ""
    back = "\n".join(["import sys", *[f"sys.path.append({p!r})" for p in gone]])
    return Finding.warning(
        "path-changed", "certain", f"{gone[0]}{which} was taken off sys.path by code that ran in this kernel.",
        tuple(Evidence("it was on sys.path when Kalyx was loaded here, and is not now", p) for p in gone),
        (Remedy("Put it back, in a cell:", "manual", typed=back, changes="sys.path of this kernel"), _restart(live)))


def imports_anew(case: Case, live: LivePython, fresh: Observation, relevant: set[str]) -> Finding:
    """Say why a running Python fails at an import that the same interpreter, started anew, carries out."""
    tried = Evidence(f"started anew from the same folder, {case.python.executable} imports {fresh.module}",
                     fresh.origin)
    changed = replaced_modules(live.changed_of(relevant), live, f"; a Python that is started now imports "
                               f"{fresh.module}")
    if changed is not None:
        return _with(changed, tried)
    taken = taken_off_with(case, live, top_level(fresh.module))
    return _with(taken if taken is not None else _put_there_since(case, live, fresh), tried)


def taken_off_with(case: Case, live: LivePython, top: str) -> Finding | None:
    """Say that a folder which has a module was taken off the search path; None where none has it, or another has."""
    if case.modules.file_of(top) is not None:
        return None
    folder = next((p for p in taken_off(live, case.files) if case.modules.finder.find_all([p], top)), None)
    return None if folder is None else path_taken_off(live, case.files, [folder], top)


def _put_there_since(case: Case, live: LivePython, fresh: Observation) -> Finding:
    """Say that a module came to be importable after the process had begun, or that nobody knows what is in its way."""
    origin = fresh.origin or next(iter(fresh.search), "")
    found = case.modules.candidates(top_level(fresh.module))
    layer = found[0][1].entry if found else ""
    if origin and not layer:
        because = (f"{fresh.module} can be imported by a Python that is started now, and not by this kernel: its "
                   "folder came to the search path after the kernel had started.")
        evidence = Evidence("no entry of sys.path of this kernel leads to it", origin)
        return Finding.warning("loaded-replaced", "certain", because, (evidence,), (_restart(live),))
    if layer and case.obs.error is not None and case.obs.error.type == "ModuleNotFoundError":
        again = Remedy("Have Python look again, in a cell:", "manual", typed=(
            "import importlib\nimportlib.invalidate_caches()"), changes="what this kernel remembers of folders")
        because = f"{fresh.module} was put into {layer} after this kernel had looked there."
        return Finding.warning("loaded-replaced", "likely", because, (Evidence("it is there", origin),),
                               (again, _restart(live)))
    because = (f"A Python that is started now imports {fresh.module}; in this kernel something that ran before is in "
               "the way.")
    return Finding.warning("loaded-replaced", "likely", because, (), (_restart(live),))


def _with(finding: Finding, first: Evidence) -> Finding:
    return replace(finding, evidence=(first, *finding.evidence))
