"""Environments that differ in nothing but their place: what one of them runs, the others run.

Hundreds may have been made of one base. Of all whose program is a link to the same file, and whose ``pyvenv.cfg``
names the same base and version, one is read; of the others only that link and that file are.
"""

from __future__ import annotations

from kalyx.core.facts.interpreters.path_lookup import follow_links
from kalyx.core.lean.record import record, replace

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.interpreters.pyvenv import VenvConfig
    from kalyx.core.model import Interpreter

__all__ = ["Alike"]

LOOPS = 40  # links, as the system counts them


@record
class _WayOut:
    """Where a link leads that is a whole path: the file, its folder, and the links from there on."""

    target: str
    folder: str
    beyond: list[tuple[str, str]]


class Alike:
    """What was read of interpreters, for those that are alike."""

    def __init__(self, files: Files) -> None:
        self._files = files
        self._links: dict[str, list[tuple[str, str]]] = {}
        self._whole: dict[str, _WayOut] = {}  # by what a link says
        self._ways_out: dict[str, tuple[str, ...]] = {}  # the links in a program's folder, and where the last one leads
        self._kinds: dict[str, object] = {}
        self._interpreters: dict[object, Interpreter] = {}
        self._bases: dict[object, str | None] = {}

    def links_of(self, path: str) -> list[tuple[str, str]]:
        """Return what `follow_links` does; from a place outside the program's folder on, they are followed once."""
        if path not in self._links:
            self._links[path] = self._follow(path)
        return self._links[path]

    def _follow(self, path: str) -> list[tuple[str, str]]:
        m, folder = self._files, self._files.path.dirname(path)
        steps: list[tuple[str, str]] = []
        here = path
        while (link := m.read_link(here)) is not None:
            way_out = self._whole.get(link) or self._lead_out(link)
            target = way_out.target if way_out else m.absolute(link, folder)
            steps.append((here, target))
            target_folder = way_out.folder if way_out else m.path.dirname(target)
            if target_folder != folder:
                if way_out:
                    self._ways_out[path] = (*(m.path.basename(link) for link, _ in steps), target)
                beyond = way_out.beyond if way_out else follow_links(m, target)
                return _until_a_loop([*steps, *beyond])
            if len(steps) == LOOPS:
                break
            here = target
        return _until_a_loop(steps)

    def _lead_out(self, link: str) -> _WayOut | None:
        """Read where a link leads that is a whole path; what a relative one means depends on where its folder is."""
        m = self._files
        if not m.path.isabs(link):
            return None
        target = m.absolute(link)
        self._whole[link] = _WayOut(target, m.path.dirname(target), follow_links(m, target))
        return self._whole[link]

    def _kind(self, path: str, config: VenvConfig | None) -> object:
        """Return what is equal for interpreters that are alike; None where only its own files tell what one is."""
        if path not in self._kinds:
            self._kinds[path] = self._kind_of(path, config)
        return self._kinds[path]

    def _kind_of(self, path: str, config: VenvConfig | None) -> object:
        home = config.home if config is not None and not config.trouble else None
        if config is None or not home or not self._files.path.isabs(home):
            return None
        self.links_of(path)
        way_out = self._ways_out.get(path)
        return way_out and (way_out, home, config.keys.get("version"), config.keys.get("version_info"))

    def interpreter(self, path: str, config: VenvConfig | None) -> Interpreter | None:
        """Return what an interpreter is, where one that is alike was read and works; else None."""
        known = self._interpreters.get(self._kind(path, config))
        if known is None or config is None:
            return None
        return replace(known, path=path, prefix=config.prefix)

    def keep(self, path: str, config: VenvConfig | None, interpreter: Interpreter) -> None:
        """Take up what was read of one, for others."""
        kind = self._kind(path, config)
        if kind is not None and interpreter.works:
            self._interpreters[kind] = interpreter

    def base(self, path: str, config: VenvConfig | None, read: Callable[[], str | None]) -> str | None:
        """Return the base prefix, as `read` gives it for one of those that are alike."""
        kind = self._kind(path, config)
        if kind is None:
            return read()
        if kind not in self._bases:
            self._bases[kind] = read()
        return self._bases[kind]


def _until_a_loop(steps: list[tuple[str, str]]) -> list[tuple[str, str]]:
    """Return steps up to the first that leads where they have been before."""
    been = set()
    for number, (link, target) in enumerate(steps, 1):
        been.add(link)
        if target in been or number == LOOPS:
            return steps[:number]
    return steps
