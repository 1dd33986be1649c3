"""Which package the dots of a relative import mean in a file (PEP 328)."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files

__all__ = ["named_from", "package_root"]


def package_root(files: Files, path: str) -> str:
    """Return the folder that holds the outermost package around a file; its own where there is none."""
    m = files
    folder = m.path.dirname(path)
    while m.is_file(m.path.join(folder, "__init__.py")) and m.path.dirname(folder) != folder:
        folder = m.path.dirname(folder)
    return str(folder)


def named_from(files: Files, path: str, module: str, root: str = "", *, alone: bool = False) -> str | None:
    """Return the full name of a module that is written with leading dots; None where the file is in no package.

    A `root` is the folder of the project: below it folders without ``__init__.py`` are packages too (PEP 420).
    `alone`: the file is run as a script, so that it is part of no package wherever it lies.
    """
    m = files
    dots = len(module) - len(module.lstrip("."))
    if path.endswith(".ipynb") or alone:
        return None
    outermost = package_root(m, path)
    if root and outermost == m.path.dirname(path) and m.is_within(outermost, root):
        outermost = root
    parts = path[len(outermost):].strip(m.path.sep).split(m.path.sep)[:-1]
    package = ".".join(parts[: len(parts) - dots + 1])
    return ".".join(p for p in (package, module[dots:]) if p) if package else None
