"""What was being imported when an exception was raised, as its traceback tells."""

from __future__ import annotations

from kalyx.core.facts.tracebacks.parser import place_of
from kalyx.core.lean.record import replace

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.tracebacks.parser import Traceback
    from kalyx.core.model import Frame, ObservedError

__all__ = ["asked_later", "frames_after", "missing_name"]


def missing_name(found: Traceback) -> str | None:
    """Return the module that a traceback says is not there; None where it names none."""
    return next((e.name for e in found.chain if e.name), None)


def asked_later(found: Traceback, module: str) -> str | None:
    """Return what asked, where that was code of a package or no import at all: then who asked tells more
    than the import tried by itself.
    """
    request = found.request()
    frames = [request[2]] if request else list(reversed(found.chain[0].frames))
    for frame in frames:
        place = place_of(frame.file)
        if place.kind in ("site", "user"):
            rest = frame.file[len(place.folder):].strip("/\\").replace("\\", "/")
            return rest.split("/")[0].removesuffix(".py")
    return "the script" if module == "__main__" else None


def frames_after(error: ObservedError, asking: Frame | None) -> ObservedError:
    """Return an exception with the frames after the one that made the request."""
    if asking is None or asking not in error.frames:
        return error
    place = error.frames.index(asking)
    return replace(error, frames=error.frames[place + 1:])
