"""The frames of a traceback: whose code it is, and what stands there."""

from __future__ import annotations

from kalyx.core.model import Evidence
from kalyx.core.verdicts.reading.definitions import installed_as
from kalyx.core.verdicts.reading.failure import own_frames

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Frame

__all__ = ["frame_evidence", "place_of"]


def place_of(case: Case, frames: tuple[Frame, ...]) -> tuple[Frame | None, str]:
    """Return the innermost frame that is not the standard library's, and whose file it is."""
    files = own_frames(frames)
    chosen = next((f for f in reversed(files)
                   if case.modules.layer_of_file(f.file) not in ("stdlib", None)), None)
    chosen = chosen or (files[-1] if files else None)
    if chosen is None:
        return None, ""
    owner = case.distributions.of(chosen.file)
    if owner is not None:
        return chosen, f"the code of {owner.name} {owner.version}"
    if case.modules.layer_of_file(chosen.file) == "stdlib":
        return chosen, "Python's own standard library"
    if case.modules.layer_of_file(chosen.file) in ("env", "base", "user"):
        return chosen, f"the installed {installed_as(case, chosen.file)}"
    return chosen, "your own code"


def frame_evidence(case: Case, frames: tuple[Frame, ...]) -> list[Evidence]:
    shown = own_frames(frames)[-4:]
    found = []
    for frame in shown:
        line = case.modules.code_line(frame.file, frame.line)
        found.append(Evidence(f"in {frame.function}: {line}" if line else f"in {frame.function}",
                              frame.file, frame.line))
    return found
