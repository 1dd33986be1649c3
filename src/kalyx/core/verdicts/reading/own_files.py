"""The person's own modules, in the folders around the start folder."""

from __future__ import annotations

from kalyx.core.verdicts.known import as_known
from kalyx.core.verdicts.reading.absence import (
    asked_whole,
)

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Distribution
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["code_at", "installed_copies", "own_files", "start_folder"]


def start_folder(case: Case) -> str:
    return case.start or case.launch.start or case.launch.cwd


def own_files(case: Case, failure: Failure) -> Iterator[tuple[str, str]]:
    """Yield the folders around the start folder that have a missing module of the person's own, each with its file."""
    for place, found in _files_around(case, failure):
        if case.distributions.installed_into(place, failure.top, found) is None:
            yield place, found


def installed_copies(case: Case, failure: Failure) -> Iterator[tuple[str, str, Distribution]]:
    """Yield the folders around the start folder into which a missing module was installed, its file, and by what."""
    for place, found in _files_around(case, failure):
        owner = case.distributions.installed_into(place, failure.top, found)
        if owner is not None:
            yield place, found, owner


def _files_around(case: Case, failure: Failure) -> Iterator[tuple[str, str]]:
    inside = asked_whole(case, failure).split(".")[1:]
    for place in _own_places(case, start_folder(case)):
        found = code_at(case, place, failure.top, inside)
        if found is not None and not _is_reached(case, place) \
                and case.modules.layer_of_file(found) not in ("stdlib", "env", "base", "user"):
            yield place, found


def code_at(case: Case, place: str, name: str, inside: list[str]) -> str | None:
    """Return the file that a folder has for a module, by a few looks and not by listing it.

    A folder without ``__init__.py`` counts where it has what is asked for `inside` it (PEP 420).
    """
    m = case.files
    start = place.rstrip(m.path.sep) + m.path.sep + name
    files = [f"{start}{m.path.sep}__init__.py", start + ".py"]
    if inside:
        part = m.path.join(start, *inside)
        files += [part + ".py", m.path.join(part, "__init__.py")]
    return next((f for f in files if _is_file(m, f)), None)


def _is_file(files: Files, path: str) -> bool:
    """Whether a file is there; one of which nobody knows on another machine is none to speak of."""
    return as_known(files, lambda: files.is_file(path), False)


def _own_places(case: Case, folder: str) -> list[str]:
    m = case.files
    environments = set(case.elsewhere.known.prefixes)
    children = [folder.rstrip(m.path.sep) + m.path.sep + n for n in m.scan(folder)[1]
                if "." not in n and n not in ("node_modules", "__pycache__")]
    places = [folder, m.path.join(folder, "src"), *[c for c in children if c not in environments][:200]]
    above = folder
    for _ in range(3):
        parent = m.path.dirname(above)
        if parent == above or above == m.home or parent == m.path.dirname(m.home):
            break
        above = parent
        if above not in ("/tmp", "/"):
            places += [above, m.path.join(above, "src")]
    return places


def _is_reached(case: Case, place: str) -> bool:
    """Whether a folder is on the path already, or an environment of its own."""
    m = case.files
    return any(m.same(place, x.path) for x in case.modules.layers) or m.is_file(m.path.join(place, "pyvenv.cfg"))
