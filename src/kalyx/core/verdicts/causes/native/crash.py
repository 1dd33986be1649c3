"""The interpreter dies during the import."""

from __future__ import annotations

from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.reading.failure import own_frames
from kalyx.core.verdicts.reading.frames import frame_evidence, place_of

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Frame
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["crash", "died_by_its_word"]


@cause("crash", "the child died during the import, of a signal or by ending itself",
       asks="anything", after=("attribute-absent",), not_beside=("file-corrupt",),
       why_here="what it crashed in may be a file that was cut off")
def crash(case: Case, failure: Failure | None) -> Finding | None:
    """Name the signal, and what was being loaded.

    Looks like: Python, or the kernel, dies: `Segmentation fault`, `Kernel died`.
    Why: Native code of a package ended the process, or the code itself did.
    How Kalyx knows: The child that tried the import ended by a signal or by itself; its last frames
        were written down.
    What to do: Look at the place that is named; install that package again, or another version.
    """
    if case.obs.outcome != "crash":
        return None
    import signal

    status = case.obs.status or 0
    try:
        how = (f"died of {signal.Signals(-status).name}" if status < 0
               else f"ended itself with status {status}")
    except ValueError:
        how = f"died of signal {-status}"
    by = case.obs.ended_by
    if by == "a signal to its parent":
        how = "sent a signal that was to end the process that had started it"
    elif by and not how.endswith(by):
        how += f", by {by}"
    frame, whose = place_of(case, case.obs.stack)
    where = f", in {whose}" if frame else ""
    return Finding.error(
        "crash", "certain",
        f"Python {how} while it imported {case.obs.module}{where}.",
        (Evidence(f"{case.python.executable} {how}", case.python.executable),
         Evidence("what was being imported", case.modules.file_of(case.obs.module)),
         *frame_evidence(case, case.obs.stack)),
        (Remedy(f"Look at {frame.file}, line {frame.line}: it ends the process." if by and frame else
                "Look at the place named above: the code there ends the process, or a compiled "
                "part it loads does.", "manual", changes="nothing"),))


def died_by_its_word(said: str, frames: tuple[Frame, ...]) -> Finding:
    """Conclude from the last words of an interpreter alone where it died."""
    shown = own_frames(frames) or list(frames)
    last = shown[-1]
    return Finding.error(
        "crash", "likely", f"Python died ({said}) in {last.function}, {last.file}, line {last.line}.",
        tuple(Evidence(f"in {f.function}", f.file, f.line) for f in shown[-4:]),
        (Remedy(f"Install again the package to which {last.file} belongs, or another version of it: native "
                "code that it calls ended the process.", "manual", changes="that package"),))
