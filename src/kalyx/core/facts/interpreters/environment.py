"""The environment that an interpreter belongs to: what it is, how it is called, where its programs lie."""

from __future__ import annotations

import re

from kalyx.core.model import Environment

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files
    from kalyx.core.model import Interpreter
    from kalyx.core.model.kinds import EnvironmentKind

__all__ = ["USUAL_NAMES", "environment_of", "is_environment", "name_of", "prefix_of", "program_folder", "python_in"]

_VERSIONED = re.compile(r"(python|pypy)\d\.\d+t?")
USUAL_NAMES = (".venv", "venv", "env", ".env", "virtualenv", ".virtualenv")


def name_of(files: Files, prefix: str) -> str:
    """Name an environment: its folder, with the parent's before the usual ``.venv``."""
    base = files.path.basename(prefix.rstrip(files.path.sep)) or prefix
    if base in USUAL_NAMES:
        parent = files.path.basename(files.path.dirname(prefix))
        return f"{parent}/{base}" if parent else str(base)
    return str(base)


def is_environment(files: Files, folder: str) -> bool:
    """Whether a folder is an environment: pyvenv.cfg or conda-meta, and not just the name."""
    inside = folder + files.path.sep
    return files.exists(inside + "pyvenv.cfg") or files.exists(inside + "conda-meta")


def environment_of(files: Files, interpreter: Interpreter | None) -> Environment | None:
    """Describe the environment that an interpreter runs in; None when its prefix is unknown."""
    if interpreter is None or interpreter.prefix is None:
        return None
    m, prefix = files, interpreter.prefix
    if prefix != interpreter.base_prefix or m.is_file(m.path.join(prefix, "pyvenv.cfg")):
        kind: EnvironmentKind = "venv"
    elif m.is_folder(m.path.join(prefix, "conda-meta")):
        kind = "conda"
    else:
        kind = "base"
    return Environment(prefix, name_of(m, prefix), kind, interpreter.base_prefix,
                       interpreter.version, (), interpreter)


def prefix_of(files: Files, program: str) -> str:
    """Return the prefix that a program lies in, by its path: ``bin`` or ``Scripts`` in it, or itself on Windows."""
    folder = files.path.dirname(program)
    if files.platform == "win32" and files.path.basename(folder).lower() not in ("scripts", "bin"):
        return str(folder)
    return str(files.path.dirname(folder))


def program_folder(files: Files, prefix: str) -> str:
    """Return the folder of an environment's programs."""
    if files.platform == "win32":
        return str(files.path.join(prefix, "Scripts"))
    return str(files.path.join(prefix, "bin"))


def python_in(files: Files, prefix: str) -> str:
    """Return the path that an environment's interpreter has, whether it is there or not."""
    m = files
    if m.platform == "win32":
        inside = m.path.join(prefix, "Scripts", "python.exe")
        return str(inside if m.exists(inside) or m.is_file(m.path.join(prefix, "pyvenv.cfg"))
                   else m.path.join(prefix, "python.exe"))
    inside = prefix.rstrip("/") + "/bin/"
    for name in ("python", "python3", "pypy3"):
        path = inside + name
        if m.read_link(path) is not None or m.exists(path):
            return path
    alone = next((n for n in m.entries(m.path.join(prefix, "bin")) if _VERSIONED.fullmatch(n)), "python")
    return str(m.path.join(prefix, "bin", alone))
