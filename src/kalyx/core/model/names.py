"""Names of distributions and requirements, as they are compared."""

from __future__ import annotations

import re

__all__ = ["OWN_TOOLS", "normal_name", "requirement_extras", "requirement_name"]

OWN_TOOLS = ("pip", "setuptools", "wheel")  # an environment's own, which a new one brings, and which it is not for


def normal_name(name: str) -> str:
    """Return a distribution's name in the form that compares (PEP 503)."""
    if name.isalnum():
        return name.lower()
    name = name.replace("_", "-").replace(".", "-").lower()
    while "--" in name:
        name = name.replace("--", "-")
    return name


def requirement_name(requirement: str) -> str:
    """Return the distribution's name at the head of a requirement (PEP 508)."""
    if requirement.isascii() and requirement.isalnum():
        return requirement  # mostly it is just a name
    match = re.match(r"(?<!\s)\s*([A-Za-z0-9][A-Za-z0-9._-]*)", requirement)
    return match.group(1).rstrip("._-") if match else ""


def requirement_extras(requirement: str) -> tuple[str, ...]:
    """Return the extras that a requirement asks for, in order; mostly none (PEP 508)."""
    head, bracket, rest = requirement.partition("[")
    if not bracket or head.strip() != requirement_name(requirement):
        return ()
    words = [word.strip() for word in rest.partition("]")[0].split(",")]
    return tuple(sorted(w for w in words if w and requirement_name(w) == w))
