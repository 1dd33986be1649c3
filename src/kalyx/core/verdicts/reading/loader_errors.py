"""What the system's loader complains of: which file, whose, and what it needs."""

from __future__ import annotations

from kalyx.core.model import Evidence

TYPE_CHECKING = False
if TYPE_CHECKING:
    import re

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Distribution, Frame, ObservedError

__all__ = ["copies_of", "failed_file", "find_error", "frame_of", "loader_evidence", "owner_of", "who_needs"]

_PLACES = ("/usr/local/lib", "/usr/lib", "/usr/lib/x86_64-linux-gnu", "/usr/lib/aarch64-linux-gnu", "/opt/lib",
           "/opt/homebrew/lib", "/usr/local/cuda/lib64")


def find_error(case: Case, pattern: re.Pattern[str]) -> tuple[ObservedError, re.Match[str]] | None:
    for error in case.obs.chain:
        match = pattern.search(error.message)
        if match:
            return error, match
    return None


def owner_of(case: Case, error: ObservedError) -> Distribution | None:
    return case.distributions.of(failed_file(case, error))


def failed_file(case: Case, error: ObservedError) -> str | None:
    """Return the file that failed: of the frames, those of compiled code have none."""
    frame = frame_of(case, error)
    return error.path or (frame.file if frame else None)


def frame_of(case: Case, error: ObservedError) -> Frame | None:
    """Return the innermost place in a file; in the standard library only where there is no other."""
    files = [f for f in reversed(error.frames) if case.files.is_file(f.file)]
    return next((f for f in files if case.modules.layer_of_file(f.file) != "stdlib"), files[0] if files else None)


def who_needs(case: Case, error: ObservedError, owner: Distribution | None) -> str:
    return f"{owner.name} {owner.version}" if owner else error.path or case.obs.module


def loader_evidence(error: ObservedError, owner: Distribution | None) -> list[Evidence]:
    found = [Evidence(f"the loader says: {error.message.splitlines()[0]}", error.path)]
    if owner is not None:
        found.append(Evidence(f"it belongs to {owner.name} {owner.version}", owner.metadata))
    return found


def copies_of(case: Case, library: str) -> list[str]:
    """Return where on the machine the library is: in this prefix, other environments, usual places."""
    m = case.files
    folders = [m.path.join(p, "lib") for p in (case.python.prefix, case.python.base_prefix)]
    folders += [m.path.join(e.path, "lib") for e in case.elsewhere.known.environments]
    folders += _PLACES
    for layer in case.modules.layers:
        if layer.layer in ("env", "base", "user"):
            folders += [m.path.join(layer.path, n) for n in case.modules.finder.names(layer.path)
                        if n.endswith(".libs")]
    found = [m.path.join(f, library) for f in dict.fromkeys(folders)]
    return [p for p in found if m.is_file(p)]
