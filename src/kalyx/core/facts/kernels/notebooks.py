"""Which kernel a notebook names (the notebook format's ``metadata.kernelspec``)."""

from __future__ import annotations

import json
import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.interpreters.environment import is_environment
from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files

__all__ = ["NotebookKernel", "find_notebooks", "read_notebook"]

LARGE = 4 * 1024 * 1024  # bytes; above, only the end is read, where the metadata stands
MOST_NOTEBOOKS = 40
MOST_FOLDERS = 200


@record
class NotebookKernel:
    """What a notebook says about its kernel. ``trouble`` when it cannot be read."""

    path: str
    name: str | None = None
    label: str | None = None
    language: str | None = None
    line: int | None = None
    trouble: str = ""


def read_notebook(files: Files, path: str) -> NotebookKernel:
    """Read the kernel that a notebook names."""
    info = files.stat(path)
    try:
        data = files.read_bytes(path, 512 * 1024 * 1024 if info and info.size > LARGE else LARGE)
    except Unreadable as error:
        return NotebookKernel(path, trouble=error.reason)
    if len(data) > LARGE:
        return _from_tail(path, data.decode("utf-8", "replace"))
    try:
        text = data.decode("utf-8")  # as the server reads it: no other encoding, and no mark before it
        content = json.loads(text)
    except UnicodeDecodeError as error:
        return NotebookKernel(path, trouble=f"it is not text in UTF-8: {error.reason}")
    except (ValueError, RecursionError) as error:
        return NotebookKernel(path, trouble=f"it is not JSON: {error}")
    metadata = content.get("metadata") if isinstance(content, dict) else None
    if not isinstance(metadata, dict):
        return NotebookKernel(path, trouble="it has no metadata, so it is no notebook")
    spec = metadata.get("kernelspec")
    if not isinstance(spec, dict) or not isinstance(spec.get("name"), str):
        return NotebookKernel(path)
    info = metadata.get("language_info")
    language = spec.get("language") or (info.get("name") if isinstance(info, dict) else None)
    return NotebookKernel(path, spec["name"], _text(spec.get("display_name")), _text(language),
                          _line_of(text, spec["name"]))


def _text(value: object) -> str | None:
    return value if isinstance(value, str) else None


def _line_of(text: str, name: str) -> int | None:
    match = None
    for match in re.finditer(r'"name"\s*:\s*' + re.escape(json.dumps(name)), text):
        if '"kernelspec"' in text[max(0, match.start() - 400): match.start()]:
            break
    return text.count("\n", 0, match.start()) + 1 if match else None


def _from_tail(path: str, text: str) -> NotebookKernel:
    start = text.rfind('"kernelspec"')
    match = re.match(r'"kernelspec"\s*:\s*(\{[^{}]*\})', text[start:]) if start >= 0 else None
    if not match:
        return NotebookKernel(path)
    try:
        spec = json.loads(match.group(1))
    except ValueError:
        return NotebookKernel(path)
    return NotebookKernel(path, _text(spec.get("name")), _text(spec.get("display_name")),
                          _text(spec.get("language")), text.count("\n", 0, start) + 1)


def find_notebooks(files: Files, folder: str, depth: int = 2) -> tuple[list[str], bool]:
    """Return the notebooks in a folder and below it, and whether the search was cut short."""
    m = files
    found: list[str] = []
    queue = [(folder, 0)]
    looked, cut = 0, False
    while queue and len(found) <= MOST_NOTEBOOKS:
        here, level = queue.pop(0)
        if level and is_environment(m, here):
            continue
        looked += 1
        if looked > MOST_FOLDERS:
            cut = True
            break
        names, folders, more = m.scan(here)
        cut = cut or more
        if "pyvenv.cfg" in names or "conda-meta" in names:
            continue
        found += [p for n in names if n.endswith(".ipynb") and not m.is_folder(p := m.path.join(here, n))]
        if level < depth:
            queue += [(m.path.join(here, n), level + 1) for n in folders
                      if "." not in n and n not in ("node_modules", "__pycache__")]
    return found[:MOST_NOTEBOOKS], cut or len(found) > MOST_NOTEBOOKS
