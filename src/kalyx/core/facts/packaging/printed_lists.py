"""Lists of what is installed, as the programs that install print them: columns, exports, JSON."""

from __future__ import annotations

import re

from kalyx.core.lean.record import record
from kalyx.core.tables.import_names import distribution_by_conda

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping
    from typing import Any

__all__ = ["PrintedList", "PrintedRow", "list_in_json", "list_in_text"]

MOST_LINES = 50_000
HEAD = 60  # lines in which a list says what it is
_COLUMNS = re.compile(r"Package\s+Version\b")
_CONDA_COLUMNS = re.compile(r"#\s*Name\s+Version\s+Build\b")
_EXPORTED = re.compile(r"^([\w.-]{1,200})=([^\s=]{1,200})=([^\s=]{1,200})")  # name=version=build
_BUILT_FOR_PYTHON = re.compile(r"(?<![^_])py(?:\d|h|_|\s|$)")


@record
class PrintedRow:
    """A distribution of a list. ``place`` is the folder of an editable project, ``direct`` a direct URL (PEP 610)."""

    name: str
    version: str
    place: str = ""
    direct: Mapping[str, Any] | None = None
    is_python: bool = True  # False: a package of conda's that has no Python in it


@record
class PrintedList:
    """The rows of a list, and the version of Python that it is of, where it tells that."""

    rows: tuple[PrintedRow, ...]
    python: str | None = None


def list_in_text(text: str) -> PrintedList | None:
    """Return what a text lists in columns, as an export, or as files of conda's; None where it is another list."""
    lines = text.splitlines()[:MOST_LINES]
    head = lines[:HEAD]
    said = [line.strip() for line in lines if line.strip() and not line.lstrip().startswith("#")]
    if any(line.strip() == "@EXPLICIT" for line in head):
        return _of_conda([parts for line in said if (parts := _of_file(line))])
    if any(_CONDA_COLUMNS.match(line) for line in head):
        words = [line.split() for line in said]
        return _of_conda([(w[0], w[1], " ".join(w[2:])) for w in words if len(w) >= 2])
    if len(said) > 1 and _COLUMNS.match(said[0]) and set(said[1]) <= {"-", " "}:
        rows = (line.split(None, 2) for line in said[2:])
        return PrintedList(tuple(PrintedRow(r[0], r[1], "".join(r[2:])) for r in rows if len(r) > 1))
    exported = [_EXPORTED.fullmatch(line) for line in said]
    if exported and all(exported):
        return _of_conda([m.groups() for m in exported if m])
    return None


def list_in_json(content: Any) -> PrintedList | None:
    """Return what a document lists: rows with names and versions, or a report of what pip finds installed.

    None where it is another document.

    Raises:
        KeyError, TypeError, AttributeError: it looks like one, and is none.
    """
    if isinstance(content, list) and content and all(isinstance(row, dict) for row in content):
        if "build_string" in content[0]:
            return _of_conda([(str(r["name"]), str(r["version"]), f"{r['build_string']} {r.get('channel', '')}")
                              for r in content])
        place = "editable_project_location"
        return PrintedList(tuple(PrintedRow(str(r["name"]), str(r["version"]), str(r.get(place, "")))
                                 for r in content))
    if isinstance(content, dict) and isinstance(content.get("installed"), list):
        python = content.get("environment", {}).get("python_full_version")
        return PrintedList(tuple(_of_report(content["installed"])), str(python) if python else None)
    return None


def _of_report(installed: list[Any]) -> Iterator[PrintedRow]:
    for one in installed:
        said = one["metadata"]
        yield PrintedRow(str(said["name"]), str(said["version"]), direct=one.get("direct_url") or {})


def _of_file(url: str) -> tuple[str, ...]:
    """Return name, version and build of a file of conda's; empty where it is another."""
    name = url.partition("#")[0].rpartition("/")[2]
    plain = name.removesuffix(".conda").removesuffix(".tar.bz2")
    parts = tuple(plain.rsplit("-", 2))
    return parts if plain != name and len(parts) == 3 else ()


def _of_conda(rows: list[tuple[Any, ...]]) -> PrintedList:
    """Return the distributions that packages of conda's bring: of each its name, its version and its build.

    A build says by its name for which Python it is, and none where it is for none.
    """
    python = next((version for name, version, _ in rows if name == "python"), None)
    found = []
    for name, version, build in rows:
        by_pip = "pypi" in build
        is_python = by_pip or _BUILT_FOR_PYTHON.search(build) is not None
        if name != "python":
            found.append(PrintedRow(name if by_pip else distribution_by_conda(name.lower()), version,
                                    is_python=is_python))
    return PrintedList(tuple(found), python)
