"""The environment variables that may leave a machine: those that decide which Python runs and what it imports."""

from __future__ import annotations

from kalyx.core.masks import MASK, is_secret_name, masked

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

__all__ = ["deciding", "may_leave"]

_NAMES = frozenset({
    "PATH", "PATHEXT", "HOME", "USERPROFILE", "SHELL", "PWD", "APPDATA", "LOCALAPPDATA", "PROGRAMDATA", "SystemRoot",
    "SYSTEMROOT", "COMSPEC", "TMPDIR", "TEMP", "TMP", "LANG", "LC_ALL", "LC_CTYPE", "ZDOTDIR", "ENV", "BASH_ENV",
    "LOADEDMODULES", "_LMFILES_", "MODULEPATH", "MPLBACKEND", "__PYVENV_LAUNCHER__", "LIBPATH", "SHLIB_PATH",
    "IPYTHONDIR", "KERNEL_LAUNCH_TIMEOUT", "PROJ_LIB", "PROJ_DATA", "GDAL_DATA", "_OLD_VIRTUAL_PATH"})
_STARTS = ("PYTHON", "PIP_", "LD_", "DYLD_", "CONDA_", "VIRTUAL_ENV", "PYENV_", "JUPYTER_", "XDG_")


def may_leave(name: str) -> bool:
    """Whether a variable is one of those that decide, by its name."""
    return (name in _NAMES or name.startswith(_STARTS) or (name.endswith("_VERSION") and "PY" in name)) \
        and not is_secret_name(name)


def deciding(env: Mapping[str, str]) -> dict[str, str]:
    """Return those of the variables that decide; names and passwords in addresses are hidden."""
    return {name: masked(value) for name, value in env.items() if may_leave(name)}


def with_hidden(env: Mapping[str, str]) -> dict[str, str]:
    """Return all variables by name, with the values of those that decide, and others' hidden."""
    return {name: masked(value) if may_leave(name) else MASK for name, value in env.items()}
