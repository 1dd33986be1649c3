"""``kalyx.toml``: more places to search and more editors, from the user and from a project.

[search]
roots = ["~/science/envs"]          # folders whose sub-folders are environments

[limits]
seconds = 30                     # user's own file only

[[editors]]
name = "my editor"
files = [".myeditor/conf.json"]
format = "json"                  # json, json-workspace, json-build, json-venv, ini, toml, xml-project
keys = ["python"]
"""

from __future__ import annotations

from kalyx.core.errors import Unreadable
from kalyx.core.facts.editors import EDITORS, Editor
from kalyx.core.facts.places import config_files
from kalyx.core.facts.settings_formats import FORMATS, load_toml
from kalyx.core.machine import Machine
from kalyx.core.model import Note
from kalyx.core.record import TYPE_CHECKING, dataclass

if TYPE_CHECKING:
    from typing import Any

__all__ = ["Config", "read_config"]


@dataclass(frozen=True)
class Config:
    """What the configuration files say; ``notes`` name what in them could not be used."""

    roots: tuple[str, ...] = ()
    editors: tuple[Editor, ...] = EDITORS
    seconds: float | None = None
    notes: tuple[Note, ...] = ()


def read_config(machine: Machine, folder: str) -> Config:
    """Read the user's file and the folder's; the folder's may add places and editors only."""
    m = machine
    roots: list[str] = []
    editors: list[Editor] = []
    notes: list[Note] = []
    seconds = None
    for file in config_files(m, folder):
        own = file != m.path.join(folder, "kalyx.toml")
        try:
            content = load_toml(m.read_text(file, 1_048_576))
        except Unreadable as error:
            notes.append(Note("config-unreadable", error.message, file))
            continue
        except ValueError as error:
            notes.append(Note("config-unreadable", f"{file} cannot be used: {error}.", file))
            continue
        roots += _roots(m, content, m.path.dirname(file))
        editors += _editors(content, file, notes)
        limit = content.get("limits", {}).get("seconds") if own else None
        if isinstance(limit, (int, float)) and 0 < limit <= 86400:
            seconds = float(limit)
    return Config(tuple(roots), (*editors, *EDITORS), seconds, tuple(notes))


def _roots(m: Machine, content: dict[str, Any], folder: str) -> list[str]:
    search = content.get("search")
    roots = search.get("roots", []) if isinstance(search, dict) else []
    return [m.absolute(r, folder) for r in roots if isinstance(r, str)] if isinstance(roots, list) \
        else []


def _editors(content: dict[str, Any], file: str, notes: list[Note]) -> list[Editor]:
    found = []
    rows = content.get("editors", [])
    for number, row in enumerate(rows if isinstance(rows, list) else (), 1):
        files, keys = row.get("files"), row.get("keys")
        if not isinstance(row.get("name"), str) or row.get("format") not in FORMATS or not (
                isinstance(files, list) and isinstance(keys, list)):
            notes.append(Note("config-unreadable", f"{file}: editor {number} needs name, files, keys and "
                              f"a format out of {', '.join(FORMATS)}.", file))
            continue
        found.append(Editor(row["name"], f"config:{row['name']}", tuple(map(str, files)), row["format"],
                            tuple(map(str, keys))))
    return found
