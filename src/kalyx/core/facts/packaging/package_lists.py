"""Lists of packages that are no environment: requirements, lock files, and what lists what is installed."""

from __future__ import annotations

import json
import re

from kalyx.core.errors import NothingToJudge, Unreadable
from kalyx.core.facts.packaging.direct_reference import (
    UNREAD,
    DirectReference,
    editable_in,
    reference_of,
    where_there,
)
from kalyx.core.facts.packaging.file_urls import path_of_url, url_of
from kalyx.core.facts.packaging.lock_files import Pin, pins_in_json, pins_in_toml
from kalyx.core.facts.packaging.own_name import own_name
from kalyx.core.facts.packaging.printed_lists import list_in_json, list_in_text
from kalyx.core.facts.packaging.project import read_list, read_project
from kalyx.core.facts.packaging.project_files import is_lock
from kalyx.core.facts.packaging.requirements import applies
from kalyx.core.facts.text_encoding import decode_text
from kalyx.core.lean.record import replace
from kalyx.core.model import Listed, Side
from kalyx.core.model.names import normal_name, requirement_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping
    from typing import Any

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.packaging.printed_lists import PrintedList, PrintedRow
    from kalyx.core.facts.packaging.project import Declared

__all__ = ["is_package_list", "read_package_list", "why_unread"]

LIMIT = 64 * 1024 * 1024  # bytes
LOCK_LIMIT = 16 * 1024 * 1024  # characters: of more, reading TOML takes minutes
_NAME = re.compile(r"[A-Za-z0-9][\w.-]{0,200}")
_VERSION = re.compile(r"[\w.!+-]{0,100}")
_ENDINGS = (".txt", ".in", ".toml", ".lock", ".yml", ".yaml", ".json", ".cfg", ".list")
# What pip freeze writes above a project in a folder, whose name the line itself does not have
_EDITABLE = re.compile(r"# Editable .{0,200}\(([\w.-]{1,200})==([\w.!+-]{1,100})\)")


def is_package_list(files: Files, name: str) -> bool:
    """Whether a word names a file that lists packages, and no seat."""
    return files.is_file(files.absolute(name)) and name.lower().endswith(_ENDINGS)


def read_package_list(files: Files, name: str, markers: Mapping[str, str]) -> Side:
    """Return a side of what a file lists; of a lock, what is for the Python and system of some `markers` (PEP 508).

    Raises:
        NothingToJudge: it cannot be read, or lists nothing.
    """
    path = files.absolute(name)
    try:
        text = decode_text(files.read_whole(path, LIMIT))
    except Unreadable as error:
        raise _no_list(path, error.reason) from None
    if path.lower().endswith(".json") or text.lstrip().startswith("{"):
        return _of_document(files, path, name, text, markers)
    printed = list_in_text(text) if not path.lower().endswith((".toml", ".lock", ".yml", ".yaml")) else None
    if printed is not None:
        return _of_printed(files, path, name, printed)
    pins = _locked(files, path, text, markers)
    listed = _asked(files, path, text, markers) if pins is None else _of_pins(pins)
    trouble = why_unread(files, path) if not listed else ""
    if trouble:
        raise _no_list(path, trouble)
    return Side(path, "requirements", name, listed, is_whole=pins is not None or is_lock(files.path.basename(path)))


def _no_list(path: str, why: str) -> NothingToJudge:
    return NothingToJudge(f"{path} cannot be read as a list of requirements: {why}.",
                          "Name a requirements or lock file, or what kalyx packages --json printed.")


def _asked(files: Files, path: str, text: str, markers: Mapping[str, str]) -> dict[str, Listed]:
    """Return what a list of requirements, or a project's table, asks for where markers have some values, if known."""
    lines: dict[str, list[Listed]] = {}
    for one in read_list(files, path):
        found = _of_requirement(files, one)
        if found is not None and (not found.marker or not markers or applies(f"x; {found.marker}", markers)):
            lines.setdefault(normal_name(found.name), []).append(found)
    listed = {name: _together(found, is_known=bool(markers)) for name, found in lines.items()}
    for match in _EDITABLE.finditer(text):
        listed.setdefault(normal_name(match[1]), Listed(match[1], None, f"=={match[2]}", requirement=match[1]))
    return listed


def _together(lines: list[Listed], *, is_known: bool) -> Listed:
    """Return what several lines ask for of one distribution; `is_known`: they all count, as far as extras do."""
    lines = [d for d in lines if not d.is_optional] or lines
    first = lines[0]
    if len(lines) == 1:
        return first
    is_alike = all(d.marker == first.marker for d in lines)
    if first.is_optional or not (is_known or is_alike):
        return replace(first, either=tuple(lines))
    specifier = ",".join(dict.fromkeys(d.specifier for d in lines if d.specifier))
    extras = tuple(sorted({extra for d in lines for extra in d.extras}))
    placed = next((d for d in lines if d.origin), None)
    whole = f"{first.name}[{','.join(extras)}]" if extras else first.name
    return replace(first, specifier=specifier, extras=extras, origin=placed.origin if placed else "",
                   marker=first.marker if is_alike else "",
                   requirement=f"{whole} @ {placed.origin}" if placed else f"{whole}{specifier}")


def _locked(files: Files, path: str, text: str, markers: Mapping[str, str]) -> list[Pin] | None:
    """Return what a lock pins, and the project itself as what may be there; None where it is no such lock."""
    if not path.lower().endswith((".toml", ".lock")) or "[[package]]" not in text:
        return None
    if len(text) > LOCK_LIMIT:
        raise _no_list(path, f"it has more than {LOCK_LIMIT // (1024 * 1024)} MB")
    from kalyx.core.toml import load_toml

    folder = files.path.dirname(path)
    asked = read_project(files, folder, ["pyproject.toml"] if files.is_file(files.path.join(folder, "pyproject.toml"))
                         else ()).declared
    try:
        pins = pins_in_toml(load_toml(text), markers, {d.name for d in asked if not d.optional})
    except (ValueError, RecursionError):
        return None
    own = own_name(files, folder)
    return [Pin(own, "", is_optional=True), *pins] if pins and own else pins


def _of_pins(pins: Iterable[Pin]) -> dict[str, Listed]:
    listed: dict[str, list[Listed]] = {}
    for pin in pins:
        specifier = f"=={pin.version}" if pin.version and not pin.url else ""
        requirement = f"{pin.name} @ {pin.url}" if pin.url else f"{pin.name}{specifier}"
        if _NAME.fullmatch(pin.name) and _VERSION.fullmatch(pin.version):
            listed.setdefault(normal_name(pin.name), []).append(
                Listed(pin.name, None, specifier, pin.url, requirement, is_optional=pin.is_optional))
    return {name: _one_of(found) for name, found in listed.items()}


def _one_of(pins: list[Listed]) -> Listed:
    """Return what a lock pins of one distribution; of several versions it is not known which is for whom."""
    pins = list(dict.fromkeys(d for d in pins if not d.is_optional) or dict.fromkeys(pins))
    return pins[0] if len(pins) == 1 else replace(pins[0], either=tuple(pins))


def _of_printed(files: Files, path: str, name: str, printed: PrintedList) -> Side:
    listed = {}
    for row in printed.rows:
        if _NAME.fullmatch(row.name) and _VERSION.fullmatch(row.version):
            from_where = _reference_of(files, row)
            listed[normal_name(row.name)] = Listed(
                row.name, row.version, origin=from_where.origin, asked_as=from_where.asked_as,
                requirement=from_where.line if from_where.origin else f"{row.name}=={row.version}",
                by_conda=not row.is_python, tells_origin=row.direct is not None)
    return Side(path, "packages", name, listed, printed.python)


def _reference_of(files: Files, row: PrintedRow) -> DirectReference:
    try:
        if row.direct:
            return where_there(files, reference_of(row.direct, row.name), str(row.direct["url"]))
    except (KeyError, TypeError, AttributeError):
        return UNREAD
    url = url_of(files, row.place)
    return where_there(files, editable_in(url), url) if row.place else DirectReference()


def why_unread(files: Files, path: str) -> str:
    """Return why a list cannot be read as one; empty where it can, and has nothing in it."""
    try:
        text = decode_text(files.read_whole(path, LIMIT))
        if path.lower().endswith((".toml", "pipfile")):
            from kalyx.core.toml import load_toml

            load_toml(text)
    except Unreadable as error:
        return error.reason
    except (ValueError, RecursionError) as error:
        return str(error)
    return "" if not text.strip() or "\0" not in text else "it is no text"


def _of_requirement(files: Files, one: Declared) -> Listed | None:
    from packaging.requirements import InvalidRequirement, Requirement

    text = one.requirement
    try:
        parsed = Requirement(text)
    except InvalidRequirement:
        name = requirement_name(text)
        marker = text.partition(";")[2].strip()
        return Listed(name, None, requirement=text, marker=marker, is_optional=one.optional,
                      by_conda=one.by_conda) if name else None
    url, specifier = parsed.url or "", str(parsed.specifier)
    path = path_of_url(files, url)
    if path and not files.exists(path):  # where it once lay: of what, its name may tell
        version = re.search(r"[\\/][^\\/-]+-(\d[^\\/-]*)-[^\\/]+\.whl$", path)
        url, specifier = "", f"=={version[1]}" if version else ""
        text = f"{parsed.name}{specifier}"
    return Listed(parsed.name, None, specifier, url, text, str(parsed.marker) if parsed.marker else "",
                  extras=tuple(sorted(parsed.extras)), is_optional=one.optional, by_conda=one.by_conda)


def _of_row(row: dict[str, Any]) -> Listed | None:
    """Return a distribution of a listing; None where its name is none, or its version no word (PEP 508, 440)."""
    name, version = str(row["name"]), str(row["version"] or "")
    if not _NAME.fullmatch(name) or not _VERSION.fullmatch(version):
        return None
    return Listed(name, version or None, origin="a project, editable" if row.get("editable") else "",
                  tells_origin=False, requirement=f"{name}=={version}" if version else name)


def _of_document(files: Files, path: str, name: str, text: str, markers: Mapping[str, str]) -> Side:
    try:
        document = json.loads(text)
        pins = pins_in_json(document, markers)
        if pins is not None:
            return Side(path, "requirements", name, _of_pins(pins), is_whole=True)
        printed = list_in_json(document)
        if printed is not None:
            return _of_printed(files, path, name, printed)
        result = document["result"]
        rows: list[dict[str, Any]] = [d for d in result["distributions"] if not d.get("hidden_by")]
        seat = result.get("seat") or {}
        interpreter = (seat.get("interpreter") or {}) if isinstance(seat, dict) else {}
        listed = {normal_name(one.name): one for one in map(_of_row, rows) if one is not None}
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError) as error:
        raise NothingToJudge(f"{path} is no listing of packages: {error}.",
                             "kalyx packages --json prints one.") from None
    return Side(path, "packages", name, listed, interpreter.get("version"))
