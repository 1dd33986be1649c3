"""What the checks for absent modules share: what was missing, who asked, where was searched."""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.model import Evidence
from kalyx.core.tables import import_names

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Frame
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["absent_name", "asked_by_person", "asked_near_home", "asked_whole", "asker_evidence", "imported_at",
           "is_absent", "known_distribution", "searched", "unread"]


def is_absent(case: Case, failure: Failure | None) -> bool:
    """Whether the failure is that a whole top-level module is not in this seat."""
    if failure is None or failure.name is not None or "." in failure.module:
        return False
    return not any(c.kind != "namespace" for _, c in case.modules.candidates(failure.top))


def absent_name(case: Case, failure: Failure | None) -> str | None:
    """Return the top-level module that is not in this seat, None where the failure is another."""
    if failure is None or not is_absent(case, failure):
        return None
    return failure.top


def asked_by_person(case: Case, failure: Failure) -> bool:
    """Whether it is the very module that was asked for."""
    return failure.asker is None and failure.top == top_level(case.obs.module)


def asked_whole(case: Case, failure: Failure) -> str:
    """Return the dotted name that was asked for, of which ``failure.module`` may be the first part."""
    if failure.asker is None:
        return case.obs.module if top_level(case.obs.module) == failure.top else failure.module
    words = case.modules.code_line(failure.asker.file, failure.asker.line).replace(",", " ").split()
    return max((w for w in words if w == failure.top or w.startswith(failure.top + ".")), key=len,
               default=failure.module)


def known_distribution(case: Case, failure: Failure) -> str | None:
    """Return the distribution that the table has for what was asked for."""
    return import_names.distribution_for(asked_whole(case, failure))


def searched(case: Case) -> list[Evidence]:
    """Return the folders that were searched, by layer, as one piece of evidence."""
    grouped: dict[str, list[str]] = {}
    for layer in case.modules.layers:
        grouped.setdefault(layer.layer, []).append(layer.path)
    if "stdlib" in grouped:  # one folder stands for the zip, the modules and lib-dynload
        grouped["stdlib"] = [p for p in grouped["stdlib"]
                             if not p.endswith((".zip", "lib-dynload"))][:1] or grouped["stdlib"]
    said = "; ".join(f"{layer} {', '.join(paths)}" for layer, paths in grouped.items())
    return [Evidence(f"it is in no layer of the path: {said}", kind="searched")] if said else []


def unread(case: Case) -> list[Evidence]:
    """Return what is on the path and could not be read: while there is any, nobody knows that a module is absent."""
    m, found = case.files, []
    for layer in case.modules.layers:
        why = m.why_not_listed(layer.path) if m.is_folder(layer.path) else ""
        if why:
            found.append(Evidence(f"{layer.path} could not be listed: {why}", layer.path))
        for name in case.modules.finder.names(layer.path):
            if name.endswith((".pth", ".egg-link")):
                why = _why_unread(case, m.path.join(layer.path, name))
                found += [Evidence(f"{name} could not be read: {why}", m.path.join(layer.path, name))] if why else []
    return found


def _why_unread(case: Case, path: str) -> str:
    try:
        case.files.read_bytes(path, 1)
    except Unreadable as error:
        return error.reason
    return ""


def asked_near_home(case: Case, failure: Failure) -> bool:
    """Whether the person's own code asked for it, not an installed package."""
    if failure.asker is None:
        return True
    layer = case.modules.layer_of_file(failure.asker.file)
    return layer == "start" or (layer == "link" and case.distributions.of(failure.asker.file) is None)


def asker_evidence(case: Case, failure: Failure) -> list[Evidence]:
    """Return the line of code that asked."""
    frame: Frame | None = failure.asker
    if frame is None:
        return []
    line = case.modules.code_line(frame.file, frame.line)
    return [Evidence(f"it was asked for by: {line}" if line else "it was asked for here",
                     frame.file, frame.line)]


_IMPORT = re.compile(r"(?<!\s)\s*(?:from\s+(\.*)(\w[\w.]*|)\s+)?import\s+(.+)")


def imported_at(case: Case, frame: Frame) -> list[str | None]:
    """Return the files of the modules that a line of code imports."""
    m = case.files
    match = _IMPORT.match(case.modules.code_line(frame.file, frame.line))
    if match is None:
        return []
    dots, module, names = match.group(1) or "", match.group(2) or "", match.group(3)
    parts = [n.split(" as ")[0].strip() for n in names.partition("#")[0].strip("() ").split(",")]
    if match.group(2) is None and not dots:  # import a, b.c
        return [case.modules.file_of(n) for n in parts]
    if not dots:
        return [case.modules.file_of(module), *[case.modules.file_of(f"{module}.{n}") for n in parts]]
    folder = frame.file
    for _ in dots:
        folder = m.path.dirname(folder)
    folder = m.path.join(folder, *module.split(".")[:-1]) if module else folder
    found = [case.modules.finder.find_in(folder, n) for n in ([module.split(".")[-1]] if module else parts)]
    return [c.path for c in found if c is not None]
