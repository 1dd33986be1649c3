"""The checkout around a folder, and what its version control leaves out, by its ignore files; nothing is run."""

from __future__ import annotations

import fnmatch
import re

from kalyx.core.errors import Unreadable
from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files

__all__ = ["Checkout", "checkout_of", "ignoring_line", "is_ignored"]

LIMIT = 1024 * 1024  # bytes of an ignore file
# The folder or file that a checkout's root has, the program, its ignore file, and how that is written
_KINDS = (
    (".git", "git", ".gitignore", "git"), (".jj", "jj", ".gitignore", "git"), (".pijul", "pijul", ".ignore", "git"),
    (".hg", "hg", ".hgignore", "hg"), (".bzr", "bzr", ".bzrignore", "bzr"),
    (".fslckout", "fossil", ".fossil-settings/ignore-glob", "fossil"),
    ("_FOSSIL_", "fossil", ".fossil-settings/ignore-glob", "fossil"),
)


@record
class Checkout:
    """A checkout: its root, the program that it belongs to, and its ignore file, which may not be there."""

    root: str
    program: str
    ignore_file: str
    syntax: str


def checkout_of(files: Files, folder: str) -> Checkout | None:
    """Return the checkout that a folder lies in; None where there is none."""
    m, here = files, folder
    while True:
        for mark, program, name, syntax in _KINDS:
            if m.lstat(m.path.join(here, mark)) is not None:
                return Checkout(here, program, m.path.join(here, *name.split("/")), syntax)
        if m.path.dirname(here) == here:
            return None
        here = m.path.dirname(here)


def is_ignored(files: Files, checkout: Checkout, path: str) -> bool | None:
    """Whether a checkout leaves a path out, by its ignore files; None where they take more than reading.

    Of gitignore(5) the last pattern that fits counts; of the others any.
    """
    if checkout.syntax == "git":
        return _is_left_out_by_git(files, checkout, path)
    try:
        lines = files.read_text(checkout.ignore_file, LIMIT).splitlines()
    except Unreadable:
        return False
    inside = files.path.relpath(path, checkout.root).replace(files.path.sep, "/")
    return {"hg": _by_hgignore, "bzr": _by_bzrignore, "fossil": _by_ignore_glob}[checkout.syntax](lines, inside)


def ignoring_line(files: Files, checkout: Checkout, folder: str) -> str:
    """Return the line of an ignore file that leaves a folder out, in the words of its program."""
    inside = files.path.relpath(folder, checkout.root).replace(files.path.sep, "/")
    if checkout.syntax == "hg":
        return f"re:^{re.escape(inside)}/"
    escaped = re.sub(r"([*?\[\]\\])", r"\\\1", inside)
    if checkout.syntax == "bzr":
        return f"./{escaped}"
    if checkout.syntax == "fossil":
        return re.sub(r"([*?\[])", r"[\1]", inside) + "/*"
    return f"/{escaped}/" if not escaped.endswith(" ") else f"/{escaped[:-1]}\\ /"


# -- the formats ----------------------------------------------------------------------------------
def _is_left_out_by_git(files: Files, checkout: Checkout, path: str) -> bool:
    m, root = files, checkout.root
    config = m.env.get("XDG_CONFIG_HOME") or m.path.join(m.home, ".config")
    ignored = _decide(m, m.path.join(config, "git", "ignore"), root, path, False)
    ignored = _decide(m, m.path.join(root, ".git", "info", "exclude"), root, path, ignored)
    folder = root
    for part in ("", *m.path.relpath(path, root).split(m.path.sep)[:-1]):
        folder = m.path.join(folder, part) if part else folder
        ignored = _decide(m, m.path.join(folder, m.path.basename(checkout.ignore_file)), folder, path, ignored)
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


def _by_hgignore(lines: list[str], inside: str) -> bool | None:
    """Read an hgignore(5): globs fit at any depth, expressions anywhere; of those, the plain ones are read."""
    syntax, untold = "re", False
    for raw in lines:
        line = re.sub(r"(^|[^\\])#.*", r"\1", raw).rstrip()
        if line.startswith("syntax:"):
            syntax = {"regexp": "re"}.get(line[7:].strip(), line[7:].strip())
            continue
        kind, colon, rest = line.partition(":")
        kinds = {"re": "re", "regexp": "re", "glob": "glob", "rootglob": "rootglob", "relglob": "glob", "relre": "re"}
        own, pattern = (kinds[kind], rest) if colon and kind in kinds else (syntax, line)
        if not pattern:
            continue
        if own == "re":
            fits = _fits_plainly(pattern, inside)
            untold = untold or fits is None
        else:
            fits = any(fnmatch.fnmatchcase(part, pattern) for part in _beginnings(inside, own == "glob"))
        if fits:
            return True
    return None if untold else False


def _fits_plainly(pattern: str, inside: str) -> bool | None:
    """Whether an expression fits, where it is letters with signs taken literally; None where it is more than that."""
    begins, ends = pattern.startswith("^"), pattern.endswith("$")
    text = pattern[begins:len(pattern) - ends]
    plain = re.sub(r"\\([^A-Za-z0-9])", "", text)
    if re.search(r"[.*+?()\[\]{}|^$\\]", plain):
        return None
    text = re.sub(r"\\(.)", r"\1", text)
    if begins:
        return inside == text if ends else inside.startswith(text)
    return inside.endswith(text) if ends else text in inside


def _beginnings(inside: str, at_any_depth: bool) -> list[str]:
    """Return a path and the folders above it; with `at_any_depth` also without the folders before."""
    parts = inside.split("/")
    return ["/".join(parts[first:last]) for last in range(1, len(parts) + 1)
            for first in (range(last) if at_any_depth else (0,))]


def _by_bzrignore(lines: list[str], inside: str) -> bool:
    patterns = [line.strip() for line in lines if line.strip() and not line.startswith(("#", "RE:", "!"))]
    return any(fnmatch.fnmatchcase(one, p.removeprefix("./").rstrip("/")) for p in patterns
               for one in _beginnings(inside, "/" not in p.rstrip("/")))


def _by_ignore_glob(lines: list[str], inside: str) -> bool:
    patterns = [p.strip().strip("'\"") for line in lines for p in line.split(",") if p.strip()]
    return any(fnmatch.fnmatchcase(inside, p) for p in patterns)
