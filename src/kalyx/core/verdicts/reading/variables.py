"""Variables behind a failure: those that the exception speaks of, and those that are not set."""

from __future__ import annotations

import re

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import ObservedError

__all__ = ["variable_not_set", "variables_behind"]

# Variables that are set everywhere, and whose values say nothing of a failure
_EVERYWHERE = frozenset({
    "HOME", "PATH", "PWD", "OLDPWD", "USER", "LOGNAME", "SHELL", "SHLVL", "TERM", "LANG", "LC_ALL", "_",
    "HOSTNAME", "OSTYPE", "HOSTTYPE", "MACHTYPE", "VIRTUAL_ENV", "CONDA_DEFAULT_ENV", "CONDA_PREFIX",
    "PYTHONPATH", "USERNAME", "OS", "COMPUTERNAME", "EDITOR"})


def variable_not_set(error: ObservedError) -> str:
    """Return the name of the variable that ``os.environ`` was asked for and has not; else nothing."""
    if error.type != "KeyError" or not error.frames or error.frames[-1].function != "__getitem__":
        return ""
    known = error.frames[-1].file.replace("\\", "/").endswith("/os.py") or "frozen os" in error.frames[-1].file
    return error.message.strip("'\"") if known else ""


def variables_behind(case: Case, error: ObservedError) -> list[tuple[str, str]]:
    """Return the variables of which the failure speaks, and how they are set.

    By a value in quotes, by a warning that is raised, or by name: then the value is not shown, as
    it may be a secret.
    """
    env = case.launch.env
    found = [("PYTHONWARNINGS", repr(env["PYTHONWARNINGS"]))] if error.type.endswith("Warning") \
        and "error" in env.get("PYTHONWARNINGS", "") else []
    for name, value in sorted(env.items()):
        quoted = len(value) > 2 and any(q + value + q in error.message for q in "'\"`")
        named = "_" in name and re.search(rf"\b{re.escape(name)}\b", error.message) is not None
        if (quoted or named) and name not in _EVERYWHERE:
            found.append((name, repr(value) if quoted else "set"))
    return found[:3]
