"""The import does not come to an end."""

from __future__ import annotations

from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.reading.frames import frame_evidence, place_of

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["hang"]


@cause("hang", "no answer within the limit",
       asks="anything", after=("crash",),
       why_here="nothing was raised: all else has no say")
def hang(case: Case, failure: Failure | None) -> Finding | None:
    """Name what was being loaded when the time was up.

    Looks like: The import never ends.
    Why: The code waits: for a lock, a network, an input that does not come.
    How Kalyx knows: The time limit passed; the frame at that moment is named.
    What to do: Look at the place that is named; give it longer with --timeout if it is only slow.
    """
    if case.obs.outcome != "hang":
        return None
    frame, whose = place_of(case, case.obs.stack)
    where = f"; it was in {whose} ({frame.file}, line {frame.line})" if frame else ""
    return Finding.error(
        "hang", "certain",
        f"The import of {case.obs.module} did not end within {case.obs.seconds:.0f} s{where}.",
        tuple(frame_evidence(case, case.obs.stack)) or (
            Evidence(f"it was ended after {case.obs.seconds:.0f} s; where it was is not known",
                     case.python.executable),),
        (Remedy(f"{'Look at the place named above; give' if frame else 'Give'} it longer with --timeout if it is only "
                "slow.", "manual", changes="nothing"),))
