"""What entering an environment changes, and what leaving it brings back: names of variables and their values."""

from __future__ import annotations

import base64
import json
import zlib

from kalyx.core.facts.environments.activation import activation_variables, conda_variables
from kalyx.core.facts.interpreters.environment import program_folder
from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.facts.files import Files
    from kalyx.core.model import Environment

    Variables = dict[str, str | None]

__all__ = ["KEPT", "Kept", "entered_variables", "read_kept", "write_kept"]

KEPT = "KALYX_BEFORE"  # holds what was there before, and how many environments were entered before
MOST_KEPT = 1_000_000  # characters


@record
class Kept:
    """What a shell had before it entered an environment.

    ``variables`` have None where there was none; ``depth`` counts the environments entered before, ``script`` is
    whether the environment's own script was read, ``folder`` the environment.
    """

    variables: Mapping[str, str | None]
    depth: int
    script: bool
    folder: str


def entered_variables(files: Files, environment: Environment, before: Mapping[str, str]) -> Variables:
    """Return the variables that entering an environment sets, and (None) takes away."""
    m, prefix = files, environment.path
    found: Variables = {name: None for name in ("PYTHONHOME", "VIRTUAL_ENV", "VIRTUAL_ENV_PROMPT") if name in before}
    found.update(activation_variables(m, environment))
    folders = str(found.pop("PATH", None) or m.path_separator.join([program_folder(m, prefix), "${PATH}"]))
    folders = folders.removesuffix("${PATH}").rstrip(m.path_separator)
    found["PATH"] = m.path_separator.join([folders, *_without_active(files, before)])
    if environment.kind == "conda":
        level = int(before["CONDA_SHLVL"]) if before.get("CONDA_SHLVL", "").isdecimal() else 0
        found["CONDA_SHLVL"] = str(level + 1)
        found["CONDA_PROMPT_MODIFIER"] = f"({environment.name}) "
        if level and before.get("CONDA_PREFIX"):
            found[f"CONDA_PREFIX_{level}"] = before["CONDA_PREFIX"]
        found.update(conda_variables(m, prefix))
    elif environment.kind == "venv":
        found["VIRTUAL_ENV_PROMPT"] = environment.name
    return found


def _without_active(files: Files, before: Mapping[str, str]) -> list[str]:
    """Return the entries of PATH, without those of the environment that is active."""
    m = files
    entries = before.get("PATH", "").split(m.path_separator) if before.get("PATH") else []
    if not before.get("VIRTUAL_ENV"):
        return entries
    active = program_folder(m, before["VIRTUAL_ENV"])
    return [e for e in entries if m.path.normcase(e.rstrip("/\\")) != m.path.normcase(active)]


def write_kept(kept: Kept) -> str:
    """Return what a variable holds so that `read_kept` reads it: letters, digits and ``-_=`` only."""
    said = json.dumps([dict(kept.variables), kept.depth, kept.script, kept.folder])
    return base64.urlsafe_b64encode(zlib.compress(said.encode("utf-8", "surrogatepass"), 9)).decode("ascii")


def read_kept(text: str) -> Kept | None:
    """Return what a variable says that was there before; None where it does not say that."""
    try:
        data = zlib.decompressobj().decompress(base64.urlsafe_b64decode(text.encode("ascii")), MOST_KEPT)
        variables, depth, script, folder = json.loads(data.decode("utf-8", "surrogatepass"))
        good = isinstance(variables, dict) and all(isinstance(v, (str, type(None))) for v in variables.values())
    except (ValueError, TypeError, zlib.error):
        return None
    if not good or not isinstance(depth, int) or not isinstance(folder, str) or not all(map(_is_name, variables)):
        return None
    return Kept(variables, depth, bool(script), folder)


def _is_name(name: str) -> bool:
    return name.isascii() and name.isidentifier()
