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


def copies_of(case: Case, library: str, asker: str | None = None) -> list[str]:
    """Return where on the machine the library is: beside what asks for it, with a package, in the usual places."""
    m = case.files
    folders = _folders_beside(case, asker)
    folders += [m.path.join(p, "lib") for p in (case.python.prefix, case.python.base_prefix)]
    folders += [m.path.join(e.path, "lib") for e in case.elsewhere.known.environments]
    folders += _PLACES
    found = [p for f in dict.fromkeys(folders) if m.is_file(p := m.path.join(f, library))]
    return found or _with_a_package(case, library)


def _folders_beside(case: Case, asker: str | None) -> list[str]:
    """Return the folder of what asks for a library, and those in which packages keep theirs."""
    m, found = case.files, []
    if asker:
        folder = m.path.dirname(asker)
        found = [folder, *(m.path.join(folder, n) for n in ("lib", "libs", ".libs"))]
    for layer in case.modules.layers:
        if layer.layer in ("env", "base", "user"):
            found += [m.path.join(layer.path, n) for n in case.modules.finder.names(layer.path) if n.endswith(".libs")]
    return found


def _with_a_package(case: Case, library: str) -> list[str]:
    """Return where a distribution of the seat has put a library, by its record."""
    m, found = case.files, []
    for distribution in case.distributions.all():
        rows = case.distributions.record(distribution).rows
        found += [p for row in rows if row.endswith(library) and row.replace("\\", "/").rpartition("/")[2] == library
                  and m.is_file(p := m.path.normpath(m.path.join(distribution.location, row)))]
    return found
