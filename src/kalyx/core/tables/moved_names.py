"""Parts of packages that were dropped, moved or renamed, and in which version."""

from __future__ import annotations

from kalyx.core.tables.load import load

__all__ = ["known_part", "moved_part"]


def moved_part(part: str) -> tuple[str, str] | None:
    """Return which versions have a part (``module`` or ``module:name``), and its name now, if known."""
    found = load("moved_names.json")["moved"].get(part)
    return (str(found[0]), str(found[1])) if found else None


def known_part(module: str, name: str | None = None) -> tuple[str, str, str] | None:
    """Return the part of what an import asks for that only some versions have, which these are, and its name now.

    It is the nearest one: the name, the module, or one that this lies in; None where none of them is known.
    """
    words = module.split(".")
    parts = [f"{module}:{name}", f"{module}.{name}"] if name else []
    parts += [".".join(words[:n]) for n in range(len(words), 0, -1)]
    return next(((part, *said) for part in parts if (said := moved_part(part)) is not None), None)
