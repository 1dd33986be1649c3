"""Modules that import each other before either is done."""

from __future__ import annotations

import re

from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.reading.definitions import will_have
from kalyx.core.verdicts.reading.failure import own_frames

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["circular_import"]


@cause("circular-import", "partially initialised module",
       asks="anything", after=("symbol-missing",), not_beside=("hiding", "unfit", "damage"),
       why_here="half a module may also come of files that are missing, or hide one")
def circular_import(case: Case, failure: Failure | None) -> Finding | None:
    """Show the ring, file by file with the lines that import.

    Looks like: `cannot import name ... from partially initialized module`.
    Why: Modules import each other in a ring, and one is asked for a name before it has come to it.
    How Kalyx knows: The ring, file by file, with the lines that import.
    What to do: Move one of the imports into the function that needs it, or what both need into a third
        module.
    """
    error = next((e for e in case.obs.chain if "partially initialized module" in e.message), None)
    if error is not None:
        match = re.search(r"partially initialized module '([\w.]+)'", error.message)
        half_made = match.group(1) if match else ""
    elif failure is not None and failure.name is not None and case.python.version_pair < (3, 8):
        error, half_made = failure.error, failure.module  # it says no more than that a name is missing
    else:
        return None
    file = case.modules.file_of(half_made) if half_made else None
    if failure is not None and failure.name and not will_have(case, half_made, failure.name):
        return None
    ring = [f for f in own_frames(error.frames) if f.function == "<module>"]
    start = next((n for n, f in enumerate(ring) if file and case.files.same(f.file, file)), None)
    if start is None or start == len(ring) - 1:
        return None  # the half-made module asked for a part of its own: no ring, something missing
    around = ring[start:]
    names = " imports ".join(_module_name(case, f.file) for f in (*around, around[0]))
    return Finding.error(
        "circular-import", "certain",
        f"The modules import each other in a ring: {names}.",
        tuple(Evidence(case.modules.code_line(f.file, f.line) or f"in {f.function}", f.file, f.line)
              for f in around),
        (Remedy(f"Move the import in {around[-1].file}, line {around[-1].line}, into the function that "
                "needs it, or what both need into a third module.", "manual",
                changes=around[-1].file),))


def _module_name(case: Case, file: str) -> str:
    m = case.files
    name = str(m.path.basename(file))
    return f"{m.path.basename(m.path.dirname(file))}/{name}" if name == "__init__.py" else name
