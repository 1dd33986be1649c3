"""What part of a package is asked for, where the table knows which of its versions have that."""

from __future__ import annotations

import ast

from kalyx.core.facts.packaging.requirements import is_met
from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.facts.source_code.syntax import parse
from kalyx.core.lean.record import record
from kalyx.core.model import Evidence
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.tables import import_names, moved_names
from kalyx.core.verdicts.reading.failure import own_frames, read_failure

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case

__all__ = ["AskedPart", "asked_part", "part_evidence"]


@record
class AskedPart:
    """A module, or a name in one (``module:name``), and the requirement of a version that has it."""

    part: str
    versions: str
    now: str = ""  # what to import instead with other versions

    @property
    def shown(self) -> str:
        """The part as code writes it."""
        return self.part.replace(":", ".")

    @property
    def went(self) -> bool:
        """Whether newer versions lack it, and not older ones."""
        return "<" in self.versions

    def lacks(self, version: str | None) -> bool:
        """Whether a version is known to have it not."""
        return bool(version) and is_met(self.versions, version or "") is False

    def evidence(self) -> Evidence:
        """Say what the table says."""
        now = f"; with another version it is {self.now.replace('builtins:', '').replace(':', '.')}" if self.now else ""
        return Evidence(f"{self.versions} has {self.shown}{now}, by the table of well-known parts that Kalyx ships")


def asked_part(case: Case, name: str) -> AskedPart | None:
    """Return what is asked of a distribution that only some of its versions have; None where nothing of it is known."""
    for module, member in _asked(case):
        said = moved_names.known_part(module, member)
        top = top_level(module)
        if said is None and import_names.bound_for(top):
            said = (top, f"{import_names.distribution_for(top) or top}{import_names.bound_for(top)}", "")
        if said is not None and normal_name(requirement_name(said[1])) == normal_name(name):
            return AskedPart(*said)
    return None


def part_evidence(case: Case, name: str) -> list[Evidence]:
    """Say which versions of a distribution have what is asked of it, where that is not all."""
    part = asked_part(case, name)
    return [part.evidence()] if part is not None else []


def _asked(case: Case) -> list[tuple[str, str]]:
    """Return the modules that are asked for on the way to a failure, and of each the name in it, where one is."""
    failure, error = read_failure(case), case.obs.error
    found = [(failure.module, failure.name or "")] if failure is not None else []
    for frame in reversed(own_frames(error.frames)) if error is not None else ():
        found += _imported_by(case.modules.code_line(frame.file, frame.line))
    return [*found, (case.obs.module, case.obs.name or "")]


def _imported_by(line: str) -> list[tuple[str, str]]:
    try:
        tree = parse(line.strip())
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return []
    found = []
    for node in tree.body:
        if isinstance(node, ast.ImportFrom) and node.module and not node.level:
            found += [(node.module, alias.name) for alias in node.names]
        elif isinstance(node, ast.Import):
            found += [(alias.name, "") for alias in node.names]
    return found
