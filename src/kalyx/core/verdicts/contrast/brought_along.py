"""What a list of requirements brings with it: what it names requires, by the metadata of the other side."""

from __future__ import annotations

from kalyx.core.facts.packaging.requirements import applies
from kalyx.core.model.names import OWN_TOOLS, normal_name, requirement_extras, requirement_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.model import Side

__all__ = ["brought_along"]


def brought_along(asked: Side, other: Side) -> set[str]:
    """Return what the other side has beside what a list asks for, and that the list does not speak against.

    That is what the distributions that it names require, and an environment's own tools. It is nothing where the list
    is a lock, which names all, or an environment.
    """
    if asked.kind != "requirements" or asked.is_whole:
        return set()
    found: dict[str, set[str]] = {}
    queue = [(name, ("", *one.extras)) for name, one in asked.listed.items()]
    while queue:
        name, extras = queue.pop()
        new = set(extras) - found.get(name, set())
        there = other.listed.get(name)
        if not new or there is None:
            continue
        found.setdefault(name, set()).update(new)
        for requirement in there.whole.requires if there.whole else ():
            if applies(requirement, other.markers, sorted(found[name])):
                queue.append((normal_name(requirement_name(requirement)), ("", *requirement_extras(requirement))))
    return {*found, *OWN_TOOLS} - asked.listed.keys()
