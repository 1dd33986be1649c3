"""Where things are usually kept: Kalyx's own files on each platform, and what a project says that it needs."""

from __future__ import annotations

from kalyx.core.machine import Machine

__all__ = ["KEPT", "LOCKS", "config_files", "is_project_file", "project_folder", "user_folder"]

KEPT = ".kalyx-kept"  # in the name of what was moved aside, and may be brought back

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


# -- projects --------------------------------------------------------------------------------------
MOST_ABOVE = 4  # folders above the one where Python is started
# What a tool that keeps a lock file is told to add a package, and to bring the environment in line
LOCKS = {"uv.lock": ("uv add", "uv sync"), "poetry.lock": ("poetry add", "poetry install"),
         "pdm.lock": ("pdm add", "pdm sync"), "Pipfile.lock": ("pipenv install", "pipenv sync")}
_TABLES = ("pyproject.toml", "setup.cfg", "Pipfile", "environment.yml", "environment.yaml")


def is_project_file(name: str) -> bool:
    """Whether a file, or folder, of that name may say what a project needs."""
    return name in _TABLES or name in LOCKS or name == "requirements" or (
        name.startswith("requirements") and name.endswith((".txt", ".in")))


def project_folder(machine: Machine, folder: str) -> tuple[str, list[str]] | None:
    """Return the nearest folder that says what a project needs, and the names in it; None if there is none."""
    m = machine
    for _ in range(MOST_ABOVE):
        names = m.scan(folder)[0]
        if any(map(is_project_file, names)):
            return folder, names
        parent = m.path.dirname(folder)
        if ".git" in names or parent in (folder, m.home, m.path.dirname(m.home)):
            return None  # what lies in the home folder itself is no project of those below it
        folder = parent
    return None
