"""The files by which a folder is a project."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files

__all__ = ["LOCKS", "MOST_ABOVE", "is_lock", "is_project_file", "project_folder"]

MOST_ABOVE = 4  # folders above the one where Python is started
# What a tool that keeps a lock file is told to add a package, and to bring the environment in line
LOCKS = {"uv.lock": ("uv add", "uv sync"), "poetry.lock": ("poetry add", "poetry install"),
         "pdm.lock": ("pdm add", "pdm sync"), "Pipfile.lock": ("pipenv install", "pipenv sync")}
_TABLES = ("pyproject.toml", "setup.cfg", "setup.py", "Pipfile", "pixi.toml", "environment.yml", "environment.yaml")


def is_lock(name: str) -> bool:
    """Whether a file of that name is a lock file as PEP 751 has it."""
    return name.startswith("pylock.") and name.endswith(".toml") and name.count(".") <= 2


def is_project_file(name: str) -> bool:
    """Whether a file, or folder, of that name may say what a project needs."""
    return name in _TABLES or name in LOCKS or is_lock(name) or name == "requirements" or (
        name.startswith("requirements") and name.endswith((".txt", ".in")))


def project_folder(files: Files, folder: str) -> tuple[str, list[str]] | None:
    """Return the nearest folder that says what a project needs, and the names in it; None if there is none."""
    m = files
    for _ in range(MOST_ABOVE):
        names = m.scan(folder)[0]
        if any(map(is_project_file, names)):
            return folder, names
        parent = m.path.dirname(folder)
        if ".git" in names or parent in (folder, m.home, m.path.dirname(m.home)):
            return None  # what lies in the home folder itself is no project of those below it
        folder = parent
    return None
