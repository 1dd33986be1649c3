"""The scripts, modules and notebooks of a project."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files

__all__ = ["find_sources"]

MOST_FILES = 200
MOST_FOLDERS = 400


def find_sources(files: Files, folder: str, depth: int = 6, most: int = MOST_FILES) -> tuple[list[str], bool]:
    """Return the scripts, modules and notebooks of a project, and whether the search was cut short.

    Environments, hidden folders, caches and build results are left out.
    """
    m = files
    found: list[str] = []
    queue, looked, cut = [(folder, 0)], 0, False
    while queue:
        here, level = queue.pop(0)
        looked += 1
        if looked > MOST_FOLDERS * (most // MOST_FILES) or len(found) > most:
            cut = True
            break
        names, folders, more = m.scan(here)
        cut = cut or more
        if "pyvenv.cfg" in names or "conda-meta" in names:
            continue
        found += [p for n in names if n.endswith((".py", ".pyw", ".ipynb")) and not n.startswith(".")
                  and m.is_file(p := m.path.join(here, n))]
        if level < depth:
            queue += [(m.path.join(here, n), level + 1) for n in folders
                      if not n.startswith(".") and not n.endswith((".egg-info", ".dist-info"))
                      and n not in ("node_modules", "__pycache__", "build", "dist", "site-packages")]
    return found[:most], cut or len(found) > most
