"""Where things are usually kept: Kalyx's own files on each platform, and what a project says that it needs."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.machine.interface import Machine

__all__ = ["RETIRED", "config_files", "user_folder"]

RETIRED = ".kalyx-kept"  # in the name of what was moved aside, and may be brought back
# platform: what is kept there: variable, folder below home
_FOLDERS: dict[str, dict[str, tuple[str, tuple[str, ...]]]] = {
    "win32": {"config": ("APPDATA", ("AppData", "Roaming")), "data": ("LOCALAPPDATA", ("AppData", "Local")),
              "cache": ("LOCALAPPDATA", ("AppData", "Local", "Temp"))},
    "darwin": {"config": ("", ("Library", "Application Support")), "data": ("", ("Library", "Application Support")),
               "cache": ("", ("Library", "Caches"))},
    "": {"config": ("XDG_CONFIG_HOME", (".config",)), "data": ("XDG_DATA_HOME", (".local", "share")),
         "cache": ("XDG_CACHE_HOME", (".cache",))},
}


def user_folder(machine: Machine, what: str) -> str:
    """Return Kalyx's own folder for ``config``, ``data`` or ``cache``, there or not."""
    m = machine
    variable, below = _FOLDERS.get(m.platform, _FOLDERS[""])[what]
    return str(m.path.join(m.env.get(variable) or m.path.join(m.home, *below), "kalyx"))


def config_files(machine: Machine, folder: str) -> list[str]:
    """Return the configuration files that are there: the user's own first, then the folder's."""
    m = machine
    files = (m.path.join(user_folder(m, "config"), "kalyx.toml"), m.path.join(folder, "kalyx.toml"))
    return [f for f in files if m.exists(f)]
