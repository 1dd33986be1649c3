"""Where things are usually kept: Kalyx's own files on each platform, and what a project says that it needs."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.machine.interface import Machine

__all__ = ["RETIRED", "config_files", "user_folder"]

RETIRED = ".kalyx-kept"  # in the name of what was moved aside, and may be brought back
# platform: (configuration: variable, folder below home), (data: variable, folder below home)
_FOLDERS = {
    "win32": (("APPDATA", ("AppData", "Roaming")), ("LOCALAPPDATA", ("AppData", "Local"))),
    "darwin": (("", ("Library", "Application Support")), ("", ("Library", "Application Support"))),
    "": (("XDG_CONFIG_HOME", (".config",)), ("XDG_DATA_HOME", (".local", "share"))),
}


def user_folder(machine: Machine, what: str) -> str:
    """Return Kalyx's own folder for ``config`` or ``data``, there or not."""
    m = machine
    config, data = _FOLDERS.get(m.platform, _FOLDERS[""])
    variable, below = config if what == "config" else data
    return str(m.path.join(m.env.get(variable) or m.path.join(m.home, *below), "kalyx"))


def config_files(machine: Machine, folder: str) -> list[str]:
    """Return the configuration files that are there: the user's own first, then the folder's."""
    m = machine
    files = (m.path.join(user_folder(m, "config"), "kalyx.toml"), m.path.join(folder, "kalyx.toml"))
    return [f for f in files if m.exists(f)]
