"""What conda's own records say was installed, where the files and their metadata are gone."""

from __future__ import annotations

import json

from kalyx.core.errors import Unreadable
from kalyx.core.facts.interpreters.path_lookup import find_on_path
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.remedies.shell_lines import command_line

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case

__all__ = ["gone_by_conda"]

RECORD_LIMIT = 16 * 1024 * 1024  # bytes of one record


def gone_by_conda(case: Case, module: str) -> Finding | None:
    """Find the conda package that brings an absent module, by the records in ``conda-meta``; None where none does."""
    m, prefix = case.files, case.python.prefix
    folder = m.path.join(prefix, "conda-meta")
    for name in sorted(n for n in m.names_in(folder) if n.endswith(".json")):
        path = m.path.join(folder, name)
        listed = _files_of(case, path, module)
        if listed is None:
            continue
        package, files = listed
        missing = [f for f in files if not m.is_file(m.path.join(prefix, *f.split("/")))]
        if not missing:
            continue
        argv = ("conda", "install", "-y", "-p", prefix, "--force-reinstall", package.replace(" ", "="))
        is_here = bool(find_on_path(m, "conda", first_only=True))
        todo = Remedy(f"Have conda install {package} again.", "command" if is_here else "manual",
                      argv=argv if is_here else (), typed="" if is_here else command_line(m, argv),
                      changes=f"the files of {package} in {prefix}")
        return Finding.error(
            "metadata-only", "certain",
            f"conda installed {package}, which brings {module}, and its files are gone.",
            (Evidence(f"it lists {len(files)} files of {module}", path),
             *[Evidence(f"{f} is not there", m.path.join(prefix, *f.split("/"))) for f in missing[:3]]), (todo,))
    return None


def _files_of(case: Case, path: str, module: str) -> tuple[str, list[str]] | None:
    """Return the package of a record, and the files of a module that it lists; None where it lists none."""
    try:
        data = case.files.read_bytes(path, RECORD_LIMIT)
        if f"site-packages/{module}".encode() not in data:
            return None
        record = json.loads(data)
        files = [f for f in record.get("files", ()) if isinstance(f, str)]
        package = f"{record['name']} {record['version']}"
    except (Unreadable, ValueError, RecursionError, KeyError, AttributeError, TypeError):
        return None
    starts = (f"site-packages/{module}/", f"site-packages/{module}.")
    mine = [f for f in files if any(s in f for s in starts) and not f.endswith(".pyc")]
    return (package, mine) if mine else None
