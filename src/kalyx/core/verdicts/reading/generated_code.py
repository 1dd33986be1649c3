"""Code that a tool has written: what its head says of the tool, and which version of that it is for."""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.model import Evidence, version_pair
from kalyx.core.model.names import normal_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case

__all__ = ["generated_for"]

HEAD = 4096  # characters of a file that are its head
_NUMBER = r"\(?v?(\d{1,5}(?:\.\d{1,5}){1,3})\)?"
_BY = re.compile(r"(?i)^#[ ]{0,3}(?:auto-?)?(?:generated|created)\b.{0,200}?\b(?:by|with|using):?[ ]"
                 rf"([A-Za-z][\w ]{{1,60}}?)[ ,]{{1,3}}(?:version[: ]{{1,2}})?{_NUMBER}", re.MULTILINE)
_VERSION = re.compile(rf"(?im)^#[ ]{{0,3}}([A-Za-z][\w ]{{1,60}}?)[ ]version:?[ ]{_NUMBER}")


def generated_for(case: Case, file: str | None) -> tuple[str, Evidence] | None:
    """Return the requirement that generated code has, by its head, and that what is installed does not meet.

    Newer code needs at least the runtime that it names; of older code it is the one that it was written for. None
    where no tool wrote the file, it names no version, or that is met.
    """
    try:
        text = case.files.read_beginning(file, HEAD) if file and file.endswith(".py") else ""
    except Unreadable:
        return None
    for match in (*_VERSION.finditer(text), *_BY.finditer(text)):
        tool, number = match.groups()
        words = [w.lower() for w in tool.split() if len(w) > 3]
        for owner in case.distributions.all() if words else ():
            if not any(normal_name(owner.name).startswith(w) for w in words):
                continue
            theirs, ours = _parts(owner.version), _parts(number)
            if version_pair(owner.version) == version_pair(number) and theirs >= ours:
                continue
            wanted = f"{owner.name}>={number}" if theirs < ours else \
                f"{owner.name}=={'.'.join(number.split('.')[:2])}.*"
            line = text.count("\n", 0, match.start()) + 1
            return wanted, Evidence(f"its head says: {match.group().lstrip('# ')}; {owner.name} {owner.version} is "
                                    "installed", file, line)
    return None


def _parts(version: str) -> list[int]:
    return [int(n) for n in re.findall(r"\d+", version)][:3]
