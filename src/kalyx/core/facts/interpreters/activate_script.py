"""The scripts that activate environments for a shell, as they are read: which environment one names."""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.facts.files import Files

__all__ = ["CONDAS", "conda_prefix", "named_by_activate"]

MOST_FOLDERS = 50  # of environments, that a variable names
CONDAS = ("conda", "mamba", "micromamba")

_NAMES = re.compile(r"""^[ \t]*(?:export[ \t]+)?VIRTUAL_ENV=["']?([^"'\n$]+)["']?\s*$""", re.MULTILINE)


def named_by_activate(files: Files, script: str) -> tuple[str, int] | None:
    """Return the prefix that an activation script names, and its line; None where it names none."""
    try:
        match = _NAMES.search(files.read_text(script, 65536))
    except Unreadable:
        return None
    if match is None or not files.path.isabs(match[1]):
        return None
    return match[1], match.string.count("\n", 0, match.start(1)) + 1


def conda_prefix(files: Files, root: str, name: str, env: Mapping[str, str], folder: str) -> str | None:
    """Return the environment that ``conda activate`` means by a name or path; None where there is none.

    `root` is the installation of conda itself; empty where that is not known.
    """
    m = files
    if "/" in name:
        places = [m.located(name, folder)]
    elif name in ("", "base", "root"):
        places = [root] if root else []
    else:
        named = [env.get(v, "").split(":")[:MOST_FOLDERS] for v in ("CONDA_ENVS_DIRS", "CONDA_ENVS_PATH")]
        listed = [p for places in named for p in places if p]
        places = [m.path.join(p, name) for p in (*listed, *([m.path.join(root, "envs")] if root else []),
                                                 m.path.join(env.get("HOME", m.home), ".conda", "envs"))]
    return next((p for p in places if m.is_folder(m.path.join(p, "conda-meta"))), None)
