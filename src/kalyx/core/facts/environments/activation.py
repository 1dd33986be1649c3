"""What activating an environment sets, and which environment an activation script names."""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.interpreters.activate_script import named_by_activate
from kalyx.core.facts.interpreters.command_words import follow_script
from kalyx.core.facts.interpreters.environment import prefix_of, program_folder
from kalyx.core.model import Evidence

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files
    from kalyx.core.model import Environment

__all__ = ["activation_variables", "conda_hooks", "conda_variables", "place_named"]

_NAME = re.compile(r"[A-Za-z_]\w*", re.ASCII)


def place_named(m: Files, prefix: str) -> tuple[str, Evidence] | None:
    """Return the prefix that activation or the pip script names, and where it does."""
    folder = program_folder(m, prefix)
    activate = m.path.join(folder, "activate")
    named = named_by_activate(m, activate)
    if named is not None:
        return named[0], Evidence(f"activation sets VIRTUAL_ENV to {named[0]}", activate, named[1])
    script = m.path.join(folder, "pip")
    started = follow_script(m, script, (), {}, folder)
    if started is None or started.trouble or not started.words[0].startswith("/") or "python" not in started.words[0]:
        return None
    return prefix_of(m, started.words[0]), Evidence(f"its pip script names {started.words[0]}", script, started.line)


def activation_variables(files: Files, environment: Environment) -> dict[str, str]:
    """Return what makes cells behave as if the environment were active: PATH first, and its names.

    ``${PATH}`` is filled in by whoever starts the kernel (the kernelspec format).
    """
    m, prefix = files, environment.path
    if environment.kind == "base":
        return {}
    folders = [program_folder(m, prefix)]
    if environment.kind == "conda" and m.platform == "win32":
        folders = [prefix, m.path.join(prefix, "Library", "mingw-w64", "bin"),
                   m.path.join(prefix, "Library", "usr", "bin"), m.path.join(prefix, "Library", "bin"),
                   m.path.join(prefix, "Scripts")]
    found = {"PATH": m.path_separator.join([*folders, "${PATH}"])}
    if environment.kind == "conda":
        found |= {"CONDA_PREFIX": prefix, "CONDA_DEFAULT_ENV": str(m.path.basename(prefix))}
        for name, *inside in (("GDAL_DATA", "share", "gdal"), ("PROJ_DATA", "share", "proj"),
                              ("PROJ_LIB", "share", "proj")):
            if m.is_folder(m.path.join(prefix, *inside)):
                found[name] = m.path.join(prefix, *inside)
    else:
        found["VIRTUAL_ENV"] = prefix
    return found


def conda_variables(files: Files, prefix: str) -> dict[str, str]:
    """Return the variables that a person has had conda keep for an environment (``conda-meta/state``)."""
    import json

    try:
        said = json.loads(files.read_text(files.path.join(prefix, "conda-meta", "state"), 262_144))
        kept = said.get("env_vars", {})
        return {k: v for k, v in kept.items() if _NAME.fullmatch(k) and isinstance(v, str) and k != "PATH"}
    except (Unreadable, ValueError, AttributeError):
        return {}


def conda_hooks(files: Files, prefix: str) -> list[str]:
    """Return the scripts that conda runs when an environment is activated."""
    folder = files.path.join(prefix, "etc", "conda", "activate.d")
    return [files.path.join(folder, name) for name in files.names_in(folder)]
