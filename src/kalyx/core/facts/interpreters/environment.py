"""The environment that an interpreter belongs to: what it is, how it is called, where its programs lie."""

from __future__ import annotations

from kalyx.core.machine.interface import Machine
from kalyx.core.model import Environment, Interpreter

__all__ = ["environment_of", "is_environment", "name_of", "program_folder", "python_in"]

# -- environments --------------------------------------------------------------------------
USUAL_NAMES = (".venv", "venv", "env", ".env", "virtualenv", ".virtualenv")


def name_of(machine: Machine, prefix: str) -> str:
    """Name an environment: its folder, with the parent's before the usual ``.venv``."""
    base = machine.path.basename(prefix.rstrip(machine.path.sep)) or prefix
    if base in USUAL_NAMES:
        parent = machine.path.basename(machine.path.dirname(prefix))
        return f"{parent}/{base}" if parent else str(base)
    return str(base)


def is_environment(machine: Machine, folder: str) -> bool:
    """Whether a folder is an environment: pyvenv.cfg or conda-meta, and not just the name."""
    inside = folder + machine.path.sep
    return machine.exists(inside + "pyvenv.cfg") or machine.exists(inside + "conda-meta")


def environment_of(machine: Machine, interpreter: Interpreter | None) -> Environment | None:
    """Describe the environment that an interpreter runs in; None when its prefix is unknown."""
    if interpreter is None or interpreter.prefix is None:
        return None
    m, prefix = machine, interpreter.prefix
    if prefix != interpreter.base_prefix or m.is_file(m.path.join(prefix, "pyvenv.cfg")):
        kind = "venv"
    elif m.is_folder(m.path.join(prefix, "conda-meta")):
        kind = "conda"
    else:
        kind = "base"
    return Environment(prefix, name_of(m, prefix), kind, interpreter.base_prefix,
                       interpreter.version, (), interpreter)


def program_folder(machine: Machine, prefix: str) -> str:
    """Return the folder of an environment's programs."""
    if machine.platform == "win32":
        return str(machine.path.join(prefix, "Scripts"))
    return str(machine.path.join(prefix, "bin"))


def python_in(machine: Machine, prefix: str) -> str:
    """Return the path that an environment's interpreter has, whether it is there or not."""
    m = machine
    if m.platform == "win32":
        inside = m.path.join(prefix, "Scripts", "python.exe")
        return str(inside if m.exists(inside) or m.is_file(m.path.join(prefix, "pyvenv.cfg"))
                   else m.path.join(prefix, "python.exe"))
    for name in ("python", "python3", "pypy3"):
        path = m.path.join(prefix, "bin", name)
        if m.read_link(path) is not None or m.exists(path):
            return str(path)
    return str(m.path.join(prefix, "bin", "python"))
