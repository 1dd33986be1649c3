"""Lists of packages that are no environment: requirements, lock files, and what ``packages --json`` printed."""

from __future__ import annotations

import json
import re

from kalyx.core.errors import NothingToJudge, Unreadable
from kalyx.core.facts.packaging.project import read_list
from kalyx.core.model import Listed, Side
from kalyx.core.model.names import normal_name, requirement_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

    from kalyx.core.facts.files import Files

__all__ = ["is_package_list", "read_package_list", "why_unread"]

LIMIT = 64 * 1024 * 1024  # bytes
_NAME = re.compile(r"[A-Za-z0-9][\w.-]{0,200}")
_VERSION = re.compile(r"[\w.!+-]{0,100}")
_ENDINGS = (".txt", ".in", ".toml", ".yml", ".yaml", ".json", ".cfg")


def is_package_list(files: Files, name: str) -> bool:
    """Whether a word names a file that lists packages, and no seat."""
    return files.is_file(files.absolute(name)) and name.lower().endswith(_ENDINGS)


def read_package_list(files: Files, name: str) -> Side:
    """Return a side of what a file lists.

    Raises:
        NothingToJudge: it cannot be read, or lists nothing.
    """
    path = files.absolute(name)
    if path.lower().endswith(".json"):
        return _of_document(files, path, name)
    listed: dict[str, Listed] = {}
    for one in read_list(files, path):
        if one.optional:
            continue
        found = _of_requirement(one.requirement)
        if found is not None:
            listed.setdefault(normal_name(found.name), found)
    trouble = why_unread(files, path) if not listed else ""
    if trouble:
        raise NothingToJudge(f"{path} cannot be read as a list of requirements: {trouble}.",
                             "Name a requirements or lock file, or what kalyx packages --json printed.")
    return Side(path, "requirements", name, listed)


def why_unread(files: Files, path: str) -> str:
    """Return why a list cannot be read as one; empty where it can, and has nothing in it."""
    try:
        text = files.read_text(path, LIMIT)
        if path.lower().endswith((".toml", "pipfile")):
            from kalyx.core.toml import load_toml

            load_toml(text)
    except Unreadable as error:
        return error.reason
    except (ValueError, RecursionError) as error:
        return str(error)
    return "" if not text.strip() or "\0" not in text else "it is no text"


def _of_requirement(text: str) -> Listed | None:
    from packaging.requirements import InvalidRequirement, Requirement

    try:
        parsed = Requirement(text)
    except InvalidRequirement:
        name = requirement_name(text)
        return Listed(name, None, requirement=text) if name else None
    return Listed(parsed.name, None, str(parsed.specifier), parsed.url or "", text,
                  str(parsed.marker) if parsed.marker else "", extras=tuple(sorted(parsed.extras)))


def _of_row(row: dict[str, Any]) -> Listed | None:
    """Return a distribution of a listing; None where its name is none, or its version no word (PEP 508, 440)."""
    name, version = str(row["name"]), str(row["version"] or "")
    if not _NAME.fullmatch(name) or not _VERSION.fullmatch(version):
        return None
    return Listed(name, version or None, origin="an editable project" if row.get("editable") else "",
                  requirement=f"{name}=={version}" if version else name)


def _of_document(files: Files, path: str, name: str) -> Side:
    try:
        document = json.loads(files.read_whole(path, LIMIT).decode("utf-8-sig"))
        result = document["result"]
        rows: list[dict[str, Any]] = [d for d in result["distributions"] if not d.get("hidden_by")]
        seat = result.get("seat") or {}
        interpreter = (seat.get("interpreter") or {}) if isinstance(seat, dict) else {}
        listed = {normal_name(one.name): one for one in map(_of_row, rows) if one is not None}
    except (Unreadable, ValueError, KeyError, TypeError, AttributeError, RecursionError) as error:
        raise NothingToJudge(f"{path} is no listing of packages: {error}.",
                             "kalyx packages --json prints one.") from None
    return Side(path, "packages", name, listed, interpreter.get("version"))
