"""What a kernel's name and label claim: an environment, a version of Python."""

from __future__ import annotations

import re

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.model import Environment, Kernel

__all__ = ["claimed_version", "claims_of", "forms_of", "names_of", "plain_name"]

_VERSION = re.compile(r"(?:python|\bpy)[ ._-]?(\d)(?:\.?(\d{1,2}))?(?![\d])", re.IGNORECASE)


def plain_name(name: str) -> str:
    """Return a name in the form in which names of kernels and environments are compared."""
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")


def claims_of(kernel: Kernel) -> set[str]:
    """Return the names of environments that a kernel's own name and label may stand for."""
    return {plain_name(kernel.name), plain_name(re.split(r"[(\[]", kernel.label)[0])} - {
        "", "python", "python2", "python3", "python-3", "venv", "env"}


def forms_of(name: str) -> set[str]:
    """Return the forms in which an environment's name may stand in a kernel's."""
    return {plain_name(name), plain_name(name.split("/")[0])}


def names_of(environment: Environment) -> set[str]:
    """Return the forms in which an environment's own name may stand in a kernel's."""
    return forms_of(environment.name)


def claimed_version(kernel: Kernel, version: str) -> str | None:
    """Return the version that a kernel's label or name claims, where it runs another; None where it does not."""
    real = version.split(".")
    for text in (kernel.label, kernel.name):
        match = _VERSION.search(text)
        if match and (match.group(1) != real[0]
                      or (match.group(2) and match.group(2) != real[1])):
            return match.group(1) + (f".{match.group(2)}" if match.group(2) else "")
    return None
