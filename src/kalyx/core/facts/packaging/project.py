"""What a project says that it needs: requirements files, pyproject.toml, and the files of other tools.

Read as requirements (PEP 508), each with its file and line: the lists of pip, the tables of PEP 621 and
PEP 735, and what tools keep of their own, put into the same form. Nothing of the project is run.
"""

from __future__ import annotations

import fnmatch
import re

from kalyx.core.errors import ONLY_IN_PART, Unreadable
from kalyx.core.facts.packaging.file_urls import path_of_url, url_of
from kalyx.core.facts.packaging.odd_requirements import report_odd
from kalyx.core.facts.packaging.own_name import own_name
from kalyx.core.facts.packaging.project_files import LOCKS, MOST_ABOVE, is_lock, is_project_file
from kalyx.core.facts.packaging.project_tables import READERS, of_lock
from kalyx.core.facts.packaging.tool_tables import WORKSPACE
from kalyx.core.facts.text_encoding import decode_text
from kalyx.core.lean.record import record, replace
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.toml import load_toml

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator, Sequence

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.packaging.requirement_rows import Row

__all__ = ["Declared", "Project", "read_list", "read_project"]

LIMIT = 1_048_576  # bytes of one file
LONGEST_LINE = 8192  # characters, lines that go on included
MOST_LISTS = 60      # requirements files that name each other
MOST_DECLARED = 5000


@record
class Declared:
    """A requirement that a project states, its marker with it."""

    requirement: str
    file: str
    line: int | None
    optional: bool = False  # of an extra, of a group, of a list for development
    by_conda: bool = False  # a package of conda's, which may be no Python at all
    cell: int | None = None  # of a notebook that has it installed: the line is that within the cell

    @property
    def name(self) -> str:
        """The distribution's name, in the form that compares."""
        return normal_name(requirement_name(self.requirement))


@record
class Project:
    """A folder with what it says that it needs. ``lock`` is the file of a tool that installs it."""

    folder: str
    declared: tuple[Declared, ...]
    lock: str = ""


def read_project(files: Files, folder: str, names: Iterable[str]) -> Project:
    """Read what the files of a project's folder say that it needs; `names` are those in it."""
    m = files
    declared: list[Declared] = []
    read: set[str] = set()
    limits: list[Declared] = []
    listed = sorted(names, key=lambda n: (n != "requirements.txt", n))
    for name in listed:
        path = m.path.join(folder, name)
        if name == "requirements":
            inside = [m.path.join(path, n) for n in m.entries(path) if n.endswith((".txt", ".in"))]
            declared += [d for file in sorted(inside) for d in _from_list(m, file, read, limits)]
        elif name.startswith("requirements") and is_project_file(name):
            declared += _from_list(m, path, read, limits)
        elif name in READERS or is_lock(name):
            declared += _from_table(m, path, READERS.get(name, of_lock), read, limits)
    if len(declared) > MOST_DECLARED:
        m.report(folder, f"its files ask for {len(declared)} distributions; the first {MOST_DECLARED} were looked at")
    lock = next((n for n in LOCKS if n in listed), "")
    return Project(folder, tuple(_limited(declared[:MOST_DECLARED], limits)), lock)


def read_list(files: Files, file: str) -> list[Declared]:
    """Return what one file asks for: a requirements list, a lock file, or a table of a project."""
    name, limits = files.path.basename(file), list[Declared]()
    if name in READERS or name.endswith(".toml"):
        return _limited(_from_table(files, file, READERS.get(name, of_lock), set(), limits), limits)
    return [replace(d, optional=False) for d in _limited([*_from_list(files, file, set(), limits)], limits)]


# -- the lists of pip ------------------------------------------------------------------------------
def _from_list(m: Files, file: str, read: set[str], limits: list[Declared]) -> Iterator[Declared]:
    """Yield the requirements of a list as pip reads it, those of lists that it names too: each list once.

    `read` are the lists that were read; the list is added to them. What it names as constraints goes to `limits`.
    """
    if m.key(file) in read or len(read) >= MOST_LISTS:
        return
    read.add(m.key(file))
    is_extra = re.search(r"dev|test|doc|lint|optional|extra", m.path.basename(file)) is not None
    try:
        text = decode_text(m.read_whole(file, LIMIT))
    except Unreadable:
        return
    whole, said, nameless = "", [], []
    for number, line in enumerate(text.splitlines(), 1):
        if len(whole) + len(line) > LONGEST_LINE:
            whole = ""
            continue
        whole += re.sub(r"(^|\s)#.*", "", line).strip()
        if whole.endswith("\\"):
            whole = whole[:-1]
            continue
        word, whole = whole.strip(), ""
        other = re.match(r"(?:-r|--requirement|(-c|--constraint))[\s=]\s*(\S+)", word)
        if other:
            named = _from_list(m, m.absolute(other[2], m.path.dirname(file)), read, limits)
            if other[1]:
                limits += list(named)
            else:
                yield from named
            continue
        place = re.match(r"(?:(?:-e|--editable)[\s=]\s*)?(\S.*)", word)
        asked = re.split(r"\s--?\w", place[1])[0].strip() if place else ""
        if place and asked and not asked.startswith("-") and (_is_place(asked) or place.start(1)):
            lies_there = _of_place(m, asked, m.path.dirname(file))
            nameless += [number] if lies_there is None else []
            asked = lies_there or ""
        if asked and not asked.startswith("-"):
            said.append((asked, number))
            if requirement_name(asked):
                yield Declared(asked, file, number, is_extra)
    report_odd(m, file, said, nameless)


def _limited(declared: Sequence[Declared], limits: Sequence[Declared]) -> list[Declared]:
    """Return what is asked for with the versions that constraints leave of it: these ask for nothing themselves."""
    if not limits:
        return list(declared)
    from packaging.requirements import InvalidRequirement, Requirement

    bounds: dict[str, list[Requirement]] = {}
    for one in limits:
        try:
            bounds.setdefault(one.name, []).append(Requirement(one.requirement))
        except InvalidRequirement:
            continue
    found = []
    for one in declared:
        try:
            whole, elsewhere = Requirement(one.requirement), []
            for bound in bounds.get(one.name, ()):
                if whole.url or bound.url:
                    continue
                if not bound.marker or bound.marker == whole.marker:
                    whole.specifier &= bound.specifier
                else:
                    both = f"({whole.marker}) and ({bound.marker})" if whole.marker else str(bound.marker)
                    elsewhere.append(replace(one, requirement=f"{bound.name}{bound.specifier}; {both}"))
            found += [replace(one, requirement=str(whole)) if one.name in bounds else one, *elsewhere]
        except InvalidRequirement:
            found.append(one)
    return found


def _is_place(asked: str) -> bool:
    """Whether a line of a list says where something is, and not what it is called."""
    if "://" in asked.split("@")[0] or asked.startswith((".", "/", "~", "file:")):
        return True
    said = asked.partition(";")[0].strip()
    return "@" not in said and ("/" in said or "\\" in said or said.lower().endswith((".whl", ".tar.gz", ".zip")))


def _of_place(m: Files, place: str, folder: str) -> str | None:
    """Return the requirement of what lies at a place, as PEP 508 writes it; None where its name cannot be read.

    That of the list's own project is empty: it is there already.
    """
    plain, _, fragment = place.partition("#")
    egg = re.search(r"(?:^|&)egg=([A-Za-z0-9][\w.-]*(?:\[[\w.,-]*\])?)", fragment)
    url = plain if "://" in plain else ""
    if egg and url:
        return f"{egg[1]} @ {plain}"
    last = plain.rstrip("/").rpartition("/")[2]
    file = re.fullmatch(r"([A-Za-z0-9][\w.]*?)-\d.*\.whl|([A-Za-z0-9][\w.-]*)-\d[^-]*\.(?:tar\.gz|zip)", last, re.I)
    if file:
        return f"{file[1] or file[2]} @ {url or url_of(m, m.absolute(plain, folder))}"
    if url and not url.startswith("file://"):
        return None
    extras = re.search(r"\[[\w.,\s-]*\]$", plain)
    path = plain[:extras.start()] if extras else plain
    local = m.absolute(path_of_url(m, path) or path, folder)
    if m.is_folder(local) and m.is_within(folder, local):
        return ""
    name = own_name(m, local) if m.is_folder(local) else ""
    return f"{name}{extras[0] if extras else ''} @ {url_of(m, local)}" if name else None


def _member_of_workspace(m: Files, folder: str, name: str) -> str:
    """Return the folder of the project of a name in the workspace around a folder; empty where it is not found."""
    for _ in range(MOST_ABOVE):
        try:
            tools = load_toml(m.read_text(m.path.join(folder, "pyproject.toml"), LIMIT)).get("tool", {})
            patterns = tools.get("uv", {}).get("workspace", {}).get("members", ())
        except (Unreadable, ValueError, AttributeError):
            patterns = ()
        for pattern in (p for p in patterns if isinstance(p, str)):
            above, _, last = pattern.rstrip("/").rpartition("/")
            place = m.absolute(above or ".", folder)
            for entry in fnmatch.filter(m.entries(place), last):
                if normal_name(own_name(m, m.path.join(place, entry))) == normal_name(name):
                    return str(m.path.join(place, entry))
        folder = m.path.dirname(folder)
    return ""


# -- tables ----------------------------------------------------------------------------------------
def _from_table(m: Files, file: str, reader: Callable[[str], Iterable[Row]], read: set[str], limits: list[Declared]
                ) -> list[Declared]:
    """Return what a table asks for, and the lists of pip's that it names: those that are not `read` already."""
    said: list[Row] = []
    try:
        text = m.read_text(file, LIMIT)
        for one in reader(text):
            said.append(one)
    except Unreadable:
        return []
    except (ValueError, TypeError, AttributeError, KeyError, RecursionError) as error:
        # what is wrong with the file is not what was asked: it is said, and the rest is answered
        reason = str(error) if isinstance(error, ValueError) else "what it says of requirements is no list of them"
        m.report(file, f"{ONLY_IN_PART if said else ''}{reason}")
    lines: dict[str, int] = {}  # the first line that each word stands on
    for number, line in enumerate(text.lower().splitlines(), 1):
        for word in _WORD.findall(line.split("#")[0]):
            lines.setdefault(word.rstrip("."), number)
    folder = m.path.dirname(file)
    declared = [Declared(whole, file, lines.get((row.written or requirement_name(whole)).lower()), row.is_optional,
                         row.by_conda) for row in said if (whole := _whole(m, row, folder))]
    # what stands there word for word was meant as one; what was put together of a tool's own form is ours
    report_odd(m, file, [(d.requirement, d.line) for d in declared if not d.by_conda and d.requirement in text])
    lists = [(m.absolute(row.pip_list, folder), row) for row in said if isinstance(row.pip_list, str) and row.pip_list]
    named = [replace(d, optional=row.is_optional) for path, row in lists if m.is_within(path, folder)
             for d in _from_list(m, path, read, limits)]  # those outside no build takes, either
    return [*(d for d in declared if d.name), *named]


def _whole(m: Files, row: Row, folder: str) -> str:
    """Return a row as one requirement, with its place and its marker; the project itself is none of its own."""
    from urllib.parse import quote

    marker = f"; {row.marker}" if row.marker else ""
    if not row.place:
        return f"{row.requirement}{marker}"
    path = m.absolute(row.place, folder) if "://" not in row.place else ""
    if row.place == WORKSPACE:
        path = _member_of_workspace(m, folder, requirement_name(row.requirement))
        if not path:  # where it is not known, it is not to be had from an index, either
            return ""
    if path and m.is_within(folder, path):
        return ""
    plain = "".join(c if c.isprintable() and not c.isspace() else quote(c) for c in row.place)
    return f"{row.requirement} @ {url_of(m, path) if path else plain}{f' {marker}' if marker else ''}"


_WORD = re.compile(r"[\w.-]+")
