"""Whether a checkout's version control ignores a file, read from its ignore files; no program is run."""

from __future__ import annotations

from kalyx.core.errors import Unreadable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files

__all__ = ["checkout_of", "is_ignored"]

LIMIT = 1024 * 1024  # bytes of an ignore file


def checkout_of(files: Files, folder: str) -> str | None:
    """Return the root of the git checkout that a folder lies in; None where there is none."""
    m, here = files, folder
    while m.lstat(m.path.join(here, ".git")) is None:
        if m.path.dirname(here) == here:
            return None
        here = m.path.dirname(here)
    return here


def is_ignored(files: Files, checkout: str, path: str) -> bool:
    """Whether git would leave a path out, by the files that gitignore(5) names; the last pattern that fits counts."""
    m = files
    config = m.env.get("XDG_CONFIG_HOME") or m.path.join(m.home, ".config")
    ignored = _decide(m, m.path.join(config, "git", "ignore"), checkout, path, False)
    ignored = _decide(m, m.path.join(checkout, ".git", "info", "exclude"), checkout, path, ignored)
    folder = checkout
    for part in ("", *m.path.relpath(path, checkout).split(m.path.sep)[:-1]):
        folder = m.path.join(folder, part) if part else folder
        ignored = _decide(m, m.path.join(folder, ".gitignore"), folder, path, ignored)
    return ignored


def _decide(files: Files, file: str, folder: str, path: str, ignored: bool) -> bool:
    """Return what an ignore file makes of a path; as before where none of its patterns fits."""
    from pathspec import GitIgnoreSpec

    m = files
    try:
        lines = m.read_text(file, LIMIT).splitlines()
        spec = GitIgnoreSpec.from_lines(lines)
    except (Unreadable, ValueError):
        return ignored
    inside = m.path.relpath(path, folder).replace(m.path.sep, "/")
    found = spec.check_file(inside).include
    return ignored if found is None else found
