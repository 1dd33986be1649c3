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
from kalyx.core.facts.configuration.own_files import config_files
from kalyx.core.facts.editors.formats import FORMATS
from kalyx.core.facts.editors.table import EDITORS, Editor
from kalyx.core.lean.record import record
from kalyx.core.model import Note
from kalyx.core.toml import load_toml

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

    from kalyx.core.machine.interface import Machine

__all__ = ["Config", "read_config"]


@record
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
        if not own and m.read_link(file) is not None:
            notes.append(Note("config-unreadable", f"{file} is a link; a project's own file has to lie in it.", file))
            continue
        try:
            content = load_toml(m.read_text(file, 1_048_576))
        except Unreadable as error:
            notes.append(Note("config-unreadable", error.message, file))
            continue
        except ValueError as error:
            notes.append(Note("config-unreadable", f"{file} cannot be used: {error}.", file))
            continue
        if not isinstance(content, dict):
            continue
        inside = None if own else m.path.dirname(file)
        roots += _roots(m, content, m.path.dirname(file), inside, notes)
        editors += _editors(m, content, file, inside, notes)
        limits = content.get("limits")
        limit = limits.get("seconds") if own and isinstance(limits, dict) else None
        if isinstance(limit, (int, float)) and not isinstance(limit, bool) and 0 < limit <= 86400:
            seconds = float(limit)
    return Config(tuple(roots), (*editors, *EDITORS), seconds, tuple(notes))


def stays_inside(machine: Machine, pattern: str, folder: str) -> bool:
    """Whether a path or pattern of a project's own file leads nowhere but below the project's folder.

    No variable, home folder, absolute path or ``..``, and no link on the way out.
    """
    m = machine
    parts = pattern.replace("\\", "/").split("/")
    if not pattern or pattern.startswith(("~", "/", "\\")) or "$" in pattern or ":" in pattern or ".." in parts:
        return False
    fixed = [*parts[:next((n for n, part in enumerate(parts) if set(part) & set("*?[")), len(parts))]]
    return m.is_within(m.real_path(m.path.join(folder, *fixed)), m.real_path(folder))


def _roots(m: Machine, content: dict[str, Any], folder: str, inside: str | None, notes: list[Note]) -> list[str]:
    search = content.get("search")
    roots = search.get("roots", []) if isinstance(search, dict) else []
    named = [r for r in roots if isinstance(r, str)] if isinstance(roots, list) else []
    if not isinstance(roots, list):
        file = m.path.join(folder, "kalyx.toml")
        notes.append(Note("config-unreadable", f"{file}: search.roots is no list.", file))
    outside = [r for r in named if inside is not None and not stays_inside(m, r, inside)]
    if outside:
        notes.append(Note("config-unreadable", f"{m.path.join(folder, 'kalyx.toml')}: a project may add search roots "
                          f"inside itself only; {len(outside)} of its {len(named)} lead out and were left out.",
                          m.path.join(folder, "kalyx.toml")))
    return [m.absolute(r, folder) for r in named if r not in outside]


def _editors(m: Machine, content: dict[str, Any], file: str, inside: str | None, notes: list[Note]) -> list[Editor]:
    found = []
    rows = content.get("editors", [])
    if not isinstance(rows, list):
        notes.append(Note("config-unreadable", f"{file}: editors is no list of tables.", file))
    for number, row in enumerate(rows if isinstance(rows, list) else (), 1):
        row = row if isinstance(row, dict) else {}
        files, keys = row.get("files"), row.get("keys")
        if not isinstance(row.get("name"), str) or row.get("format") not in FORMATS or not (
                isinstance(files, list) and isinstance(keys, list)):
            notes.append(Note("config-unreadable", f"{file}: editor {number} needs name, files, keys and "
                              f"a format out of {', '.join(FORMATS)}.", file))
            continue
        if inside is not None and not all(stays_inside(m, str(f), inside) for f in files):
            notes.append(Note("config-unreadable", f"{file}: editor {number} names files outside the project, which "
                              "a project may not.", file))
            continue
        found.append(Editor(row["name"], f"config:{row['name']}", tuple(map(str, files)), row["format"],
                            tuple(map(str, keys)), of_project=inside is not None))
    return found
