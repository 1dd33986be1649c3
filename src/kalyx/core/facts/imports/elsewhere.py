"""What the other environments of the machine have, seen from a case."""

from __future__ import annotations

from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.facts.search_path.site_folders import user_site

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.environments.neighbours import Neighbours
    from kalyx.core.facts.files import Files
    from kalyx.core.facts.imports.modules import SeenModules
    from kalyx.core.model import Elsewhere, Launch, RunningPython

__all__ = ["OtherEnvironments"]


class OtherEnvironments:
    """The environments beside the seat's own; ``known`` answers about all of the machine."""

    def __init__(self, files: Files, known: Neighbours, modules: SeenModules, python: RunningPython,
                 launch: Launch) -> None:
        """Look from a seat whose Python and modules are given."""
        self.known = known
        self._files = files
        self._modules = modules
        self._python = python
        self._launch = launch

    def having(self, module: str) -> Sequence[Elsewhere]:
        """Return the other environments that have a module.

        The user site of this seat's own Python is none of them: it is judged by itself.
        """
        m, python = self._files, self._python
        own = user_site(m, python.version or "0.0", python.implementation, self._launch.env)
        mine = m.path.dirname(m.path.dirname(own)), python.short_version
        return [e for e in self.known.having(top_level(module), python.prefix)
                if (e.environment.path, e.environment.python_version) != mine]

    def part(self, rows: Sequence[str], name: str | None = None, version: str | None = None
             ) -> tuple[str, str] | None:
        """Return a file that another environment has and this seat has not: its row and its path there.

        `rows` are paths in a site folder, without ending; with a `name` and `version` only where that
        distribution brings it.
        """
        tops = dict.fromkeys(row.split("/")[0] for row in rows)
        endings = (".py", "/__init__.py", *self._modules.finder.suffixes)
        for other in (e for top in tops for e in self.having(top)):
            if (name and other.name != name) or (version and other.version != version):
                continue
            for site in self.known.sites(other.environment):
                for row in (row + ending for row in rows for ending in endings):
                    if self._is_only_there(site, row):
                        return row, str(self._files.path.join(site, row))
        return None

    def _is_only_there(self, site: str, row: str) -> bool:
        m = self._files
        return m.is_file(m.path.join(site, row)) and not any(
            m.exists(m.path.join(folder, row)) for folder in self._modules.folders)
