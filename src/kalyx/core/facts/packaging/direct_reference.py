"""Where a distribution was put in from, and the line by which pip puts it in again (PEP 610)."""

from __future__ import annotations

import json
import re

from kalyx.core.errors import NotRecorded, Unreadable
from kalyx.core.facts.packaging.file_urls import path_of_url, url_of
from kalyx.core.lean.record import record, replace
from kalyx.core.masks import masked
from kalyx.core.model.names import requirement_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping
    from typing import Any

    from kalyx.core.facts.files import Files
    from kalyx.core.model import Distribution

__all__ = ["UNREAD", "DirectReference", "editable_in", "reference_of", "reference_to", "where_there"]

LONGEST = 4000  # characters of a URL
_PROJECT = ("pyproject.toml", "setup.py", "setup.cfg")
_VCS = frozenset({"git", "hg", "svn", "bzr"})
_HOST_AND_PATH = re.compile(r"([\w.-]{1,200}@[\w.-]{1,200}):(?!//)(.+)")


@record
class DirectReference:
    """Where a distribution is from; all is empty for one from an index.

    ``origin`` tells it from what is from elsewhere. ``asked_as`` is the same by the branch or tag that was asked for.
    ``line`` gives it again, as a line of requirements; empty where no line does.
    """

    origin: str = ""
    line: str = ""
    asked_as: str = ""


UNREAD = DirectReference("a place that cannot be read")  # but from no index: those leave no direct URL


def reference_to(files: Files, one: Distribution) -> DirectReference:
    """Return where an installed distribution is from, without a line where that is not there any more.

    What conda built says where that was done, which is nowhere here.
    """
    if one.installer == "conda":
        return DirectReference()
    place = files.path.join(one.metadata, "direct_url.json") if one.metadata else ""
    try:
        said = json.loads(files.read_text(place)) if place and files.is_file(place) else None
        if said is not None:
            return where_there(files, reference_of(said, one.name), str(said["url"]))
    except (Unreadable, ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return UNREAD
    if not one.editable:
        return DirectReference()
    found, root = editable_in(url_of(files, one.location)), editable_in(url_of(files, _root_of(files, one.location)))
    return replace(found, line=root.line, asked_as=root.origin)  # linked by its egg: its code may lie deeper


def reference_of(said: Mapping[str, Any], name: str) -> DirectReference:
    """Return what a direct URL says of the distribution `name`.

    Raises:
        KeyError, TypeError, AttributeError: it is none.
    """
    url, inside = str(said["url"]), str(said.get("subdirectory") or "")
    is_named = requirement_name(name) == name  # else no line may begin with it
    if (said.get("dir_info") or {}).get("editable"):
        return editable_in(url)
    vcs = said.get("vcs_info")
    if vcs:
        found = _of_version_control(url, vcs, inside, name)
        return found if is_named else replace(found, line="")
    archive = said.get("archive_info") or {}
    hashes = {f"{k}={v}" for k, v in (archive.get("hashes") or {}).items()} | {str(archive.get("hash") or "")} - {""}
    part = f"subdirectory={inside}" if inside else ""
    marks = [part, *sorted(hashes)] if part else sorted(hashes)
    line = f"{name} @ {url}{'#' if part else ''}{part}" if is_named else ""
    return _checked(f"{url}#{'&'.join(marks)}" if marks else url, line)


def editable_in(url: str) -> DirectReference:
    """Return the reference of a project that is worked on in a folder."""
    return _checked(f"{url}, editable", f"-e {url}")


def _of_version_control(url: str, vcs: Mapping[str, Any], inside: str, name: str) -> DirectReference:
    """Return the reference of a commit; the line is that of its URL alone where that has no host in it."""
    kind, commit, asked = str(vcs["vcs"]), str(vcs["commit_id"]), str(vcs.get("requested_revision") or "")
    at_host = _HOST_AND_PATH.fullmatch(url)
    base = f"{kind}+ssh://{at_host[1]}/{at_host[2]}" if at_host else f"{kind}+{url}"
    part = f"subdirectory={inside}" if inside else ""
    if re.match(r"[a-z+]{1,20}://[^/]", base):
        line = f"{name} @ {base}@{commit}{'#' if part else ''}{part}"
    else:
        line = f"{base}@{commit}#egg={name}{'&' if part else ''}{part}"
    end = f"#{part}" if part else ""
    found = _checked(f"{base}@{commit}{end}", line if kind in _VCS and "://" in base else "")
    return replace(found, asked_as=f"{base}{'@' if asked else ''}{asked}{end}")


def _checked(origin: str, line: str) -> DirectReference:
    """Leave out a line that would say something else to pip, or say a secret; an option is only that of a project."""
    words = 3 if " @ " in line else 2 if line.startswith("-e ") else 1
    is_one = line.isprintable() and len(line) <= LONGEST and len(line.split()) == words
    is_safe = is_one and masked(line) == line and not line.removeprefix("-e ").startswith("-")
    return DirectReference(origin, line if is_safe else "")


def where_there(files: Files, reference: DirectReference, url: str) -> DirectReference:
    """Return a reference without its line where its URL is that of a file that is not there, as far as is known."""
    path = path_of_url(files, url)
    try:
        return replace(reference, line="") if path and not files.exists(path) else reference
    except NotRecorded:
        return replace(reference, line="")


def _root_of(files: Files, folder: str) -> str:
    """Return the folder of a project of which the code lies in some folder."""
    m, here = files, folder
    try:
        for _ in range(3):
            if any(m.is_file(m.path.join(here, name)) for name in _PROJECT):
                return here
            here = m.path.dirname(here)
    except NotRecorded:  # of another machine
        pass
    return folder
