"""Where the folder of a broken link may be now, and how the link comes to lead there."""

from __future__ import annotations

from kalyx.core.model import Edit, Remedy
from kalyx.core.verdicts.remedies import which_pip
from kalyx.core.verdicts.remedies.search_path import reach

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.facts.search_path.pth_files import LinkLine

__all__ = ["moved_to", "renew"]

MOST_CHILDREN = 300  # folders that are looked into, of each that is around


def renew(case: Case, target: str, now: str | None, line: LinkLine | None) -> tuple[Remedy, ...]:
    """Return how a link leads to its folder again; nothing is taken from an index: that has other people's projects."""
    m, served = case.files, which_pip.allowed(case)
    root = next((p for p in (now, m.path.dirname(now)) if any(
        m.is_file(m.path.join(p, f)) for f in ("pyproject.toml", "setup.py"))), None) if now else None
    again = Remedy(f"Put the folder back to {target}.", "manual", changes=target)
    if root and served:
        return (Remedy(f"Install it again from where it is now, {root}.", "command",
                       argv=served.install(root, linked=True), changes="the link"), again)
    if now and line is not None and line.target:
        return (Remedy(f"Have the line name the folder's new place, {now}.", "edit",
                       edits=(Edit(line.file, line.text, now),), changes=line.file), again)
    return (*reach(case, now, "it"), again) if now else (again,)


def moved_to(case: Case, target: str, name: str) -> str | None:
    """Look for the module in the neighbourhood of a folder that is gone; None where it is not seen.

    A folder above it may have been renamed as well: what is left of the path is looked for beside it.
    """
    for place in _places(case, target):
        found = case.modules.finder.find_in(place, name)
        if found is not None and found.kind in ("package", "module"):
            return place
    return None


def _places(case: Case, target: str) -> Iterator[str]:
    m = case.files
    inside = [m.path.basename(target)] if m.path.basename(target) in ("src", "lib") else []
    above, rest = m.path.split(target)
    lost: list[str] = []  # what stands below the folder that may have another name now
    for _ in range(6):
        for child in m.scan(above)[1][:MOST_CHILDREN]:
            yield m.path.join(above, child, *lost)
            yield m.path.join(above, child)
            yield m.path.join(above, child, "src")
            yield m.path.join(above, child, *inside)
        if above in (m.home, m.path.dirname(above)):
            return
        lost.insert(0, rest)
        above, rest = m.path.split(above)
