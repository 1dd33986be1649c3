"""What a project says that it needs: requirements files, pyproject.toml, and the files of other tools.

Read as requirements (PEP 508), each with its file and line: the lists of pip, the tables of PEP 621 and
PEP 735, and what tools keep of their own, put into the same form. Nothing of the project is run.
"""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.packaging.odd_requirements import report_odd
from kalyx.core.facts.packaging.project_files import LOCKS, is_lock, is_project_file
from kalyx.core.facts.text_encoding import decode_text
from kalyx.core.lean.record import record, replace
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.tables.import_names import distribution_by_conda

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator, Sequence
    from typing import Any

    from kalyx.core.facts.files import Files

__all__ = ["Declared", "Project", "own_name", "read_list", "read_project", "url_of"]

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
        elif name in _READERS or is_lock(name):
            declared += _from_table(m, path, _READERS.get(name, _of_lock))
    if len(declared) > MOST_DECLARED:
        m.report(folder, f"its files ask for {len(declared)} distributions; the first {MOST_DECLARED} were looked at")
    lock = next((n for n in LOCKS if n in listed), "")
    return Project(folder, tuple(_limited(declared[:MOST_DECLARED], limits)), lock)


def read_list(files: Files, file: str) -> list[Declared]:
    """Return what one file asks for: a requirements list, a lock file, or a table of a project."""
    name = files.path.basename(file)
    if name in _READERS or is_lock(name):
        return _from_table(files, file, _READERS.get(name, _of_lock))
    if name.endswith(".toml"):
        return _from_table(files, file, _of_lock)
    limits: list[Declared] = []
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
        if place and asked and (_is_place(asked) or place.start(1)):
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
            whole = Requirement(one.requirement)
            for bound in bounds.get(one.name, ()):
                if not whole.url and not bound.url and (not bound.marker or bound.marker == whole.marker):
                    whole.specifier &= bound.specifier
            found.append(replace(one, requirement=str(whole)) if one.name in bounds else one)
        except InvalidRequirement:
            found.append(one)
    return found


def _is_place(asked: str) -> bool:
    """Whether a line of a list says where something is, and not what it is called."""
    return "://" in asked.split("@")[0] or asked.startswith((".", "/", "~")) or (
        asked.lower().endswith((".whl", ".tar.gz", ".zip")) and "@" not in asked)


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
    path = (plain[:extras.start()] if extras else plain).removeprefix("file://")
    local = m.absolute(path, folder)
    if m.is_folder(local) and m.is_within(folder, local):
        return ""
    name = own_name(m, local) if m.is_folder(local) else ""
    return f"{name}{extras[0] if extras else ''} @ {url_of(m, local)}" if name else None


def url_of(m: Files, path: str) -> str:
    """Return the URL of a path."""
    from urllib.parse import quote

    plain = path.replace("\\", "/") if m.platform == "win32" else path
    return "file://" + quote(plain if plain.startswith("/") else f"/{plain}")


def own_name(m: Files, folder: str) -> str:
    """Return the name that a project's files give it; empty where none does."""
    try:
        project = _toml(m.read_text(m.path.join(folder, "pyproject.toml"), LIMIT))
        name = project.get("project", {}).get("name") or project.get("tool", {}).get("poetry", {}).get("name")
    except (Unreadable, ValueError, AttributeError, RecursionError):
        name = None
    return requirement_name(name) if isinstance(name, str) else ""


# -- tables ----------------------------------------------------------------------------------------
def _from_table(m: Files, file: str, reader: Callable[[str], Iterable[str]]) -> list[Declared]:
    try:
        text = m.read_text(file, LIMIT)
        said = [r for r in reader(text) if isinstance(r, str)]
    except Unreadable:
        return []
    except (ValueError, TypeError, AttributeError, KeyError, RecursionError) as error:
        # what is wrong with the file is not what was asked: it is said, and the rest is answered
        reason = str(error) if isinstance(error, ValueError) else "what it says of requirements is no list of them"
        m.report(file, reason)
        return []
    lines: dict[str, int] = {}  # the first line that each word stands on
    for number, line in enumerate(text.lower().splitlines(), 1):
        for word in _WORD.findall(line.split("#")[0]):
            lines.setdefault(word.rstrip("."), number)
    names = [r.written if isinstance(r, _OfConda) else requirement_name(r) for r in said]
    declared = [Declared(str(r), file, lines.get(name.lower()), isinstance(r, _Extra), isinstance(r, _OfConda))
                for r, name in zip(said, names, strict=True)]
    # what stands there word for word was meant as one; what was put together of a tool's own form is ours
    report_odd(m, file, [(d.requirement, d.line) for d in declared if not d.by_conda and d.requirement in text])
    return [d for d in declared if d.name]


class _Extra(str):
    """A requirement that not everybody needs."""

    __slots__ = ()


class _OfConda(str):
    """A package of conda's, by the name of the distribution in it; ``written`` is its own."""

    written = ""


_WORD = re.compile(r"[\w.-]+")


def _toml(text: str) -> Any:
    from kalyx.core.toml import load_toml

    return load_toml(text)


def _of_pyproject(text: str) -> Iterator[str]:
    """Yield what pyproject.toml asks for: PEP 621, the groups of PEP 735, and a tool's own table."""
    content = _toml(text)
    project = content.get("project", {})
    yield from project.get("dependencies", ())
    for group in project.get("optional-dependencies", {}).values():
        yield from (_Extra(item) for item in group if isinstance(item, str))
    for group in content.get("dependency-groups", {}).values():
        yield from (_Extra(item) for item in group if isinstance(item, str))
    own = content.get("tool", {}).get("poetry", {})
    yield from _of_names(own.get("dependencies", {}))
    for table in (own.get("dev-dependencies", {}), *[g.get("dependencies", {}) for g in own.get("group", {}).values()]):
        yield from map(_Extra, _of_names(table))


def _of_pipfile(text: str) -> Iterator[str]:
    content = _toml(text)
    yield from _of_names(content.get("packages", {}))
    yield from map(_Extra, _of_names(content.get("dev-packages", {})))


def _of_names(table: dict[str, Any]) -> Iterator[str]:
    """Yield the requirements of a table of names and versions, or of tables that say more of them."""
    for name, said in table.items():
        for one in said if isinstance(said, list) else [said]:
            more = one if isinstance(one, dict) else {"version": one}
            version = more.get("version", "*")
            if name.lower() != "python" and isinstance(version, str):
                whole = f"{name}{_extras_of(more)}{_specifier(version)}{_marker_of(more)}"
                yield _Extra(whole) if more.get("optional") is True else whole


def _extras_of(said: dict[str, Any]) -> str:
    extras = [e for e in said.get("extras", ()) if isinstance(e, str)]
    return f"[{','.join(extras)}]" if extras else ""


def _marker_of(said: dict[str, Any]) -> str:
    """Return where alone it is asked for, as a marker (PEP 508)."""
    parts = [f"({said['markers']})"] if isinstance(said.get("markers"), str) else []
    if isinstance(said.get("python"), str):
        bounds = re.findall(r"(<=|>=|==|!=|<|>)\s*(\d+(?:\.\d+)?)", _specifier(said["python"]))
        parts += [f"python_version {sign} '{version}'" for sign, version in bounds]
    parts += [f"sys_platform == '{said['platform']}'"] if isinstance(said.get("platform"), str) else []
    return f"; {' and '.join(parts)}" if parts else ""


def _specifier(version: str) -> str:
    """Put a version with ``^`` or ``~`` before it, or nothing, into the words of PEP 440."""
    parts = re.fullmatch(r"([\^~]?)\s*(\d{1,9}(?:\.\d{1,9}){0,9})", version.strip())
    if parts is None:
        return "" if version.strip() == "*" else version.strip()
    sign, numbers = parts[1], [int(n) for n in parts[2].split(".")]
    if not sign:
        return f"=={parts[2]}"
    kept = next((n for n, part in enumerate(numbers) if part), len(numbers) - 1) if sign == "^" else (
        min(1, len(numbers) - 1))
    above = [*numbers[:kept], numbers[kept] + 1]
    return f">={parts[2]},<{'.'.join(map(str, above))}"


def _of_setup(text: str) -> Iterator[str]:
    import configparser

    parser = configparser.ConfigParser(interpolation=None)
    try:
        parser.read_string("\n".join(line if len(line) < LONGEST_LINE else "" for line in text.splitlines()))
    except configparser.Error as error:
        raise ValueError(f"it is not INI: {str(error).splitlines()[0]}") from None
    wanted = parser.get("options", "install_requires", fallback="")
    yield from (line.strip() for line in wanted.splitlines() if line.strip())
    if parser.has_section("options.extras_require"):
        extras = [value for _, value in parser.items("options.extras_require")]
        yield from (_Extra(line.strip()) for text in extras for line in text.splitlines() if line.strip())


def _of_setup_script(text: str) -> Iterator[str]:
    """Yield what is written out in a setup.py."""
    from kalyx.core.facts.packaging.setup_script import handed_to_setup

    said = handed_to_setup(text)
    yield from _lines_of(said.get("install_requires"))
    extras = said.get("extras_require")
    for group in extras.values() if isinstance(extras, dict) else ():
        yield from map(_Extra, _lines_of(group))


def _lines_of(said: object) -> list[str]:
    lines = said.splitlines() if isinstance(said, str) else said if isinstance(said, list) else ()
    return [line.strip() for line in lines if isinstance(line, str) and line.strip()]


def _of_lock(text: str) -> Iterator[str]:
    """Yield what a lock file pins (PEP 751)."""
    for package in _toml(text).get("packages", ()):
        marker = f"; {package['marker']}" if package.get("marker") else ""
        pin = f"=={package['version']}" if package.get("version") else ""
        yield f"{package['name']}{pin}{marker}"


def _of_conda(text: str) -> Iterator[str]:
    """Yield what the list of a conda environment asks for, and the list for pip in it."""
    inside = for_pip = False
    for line in text.splitlines():
        plain = line.split(" #")[0].rstrip()
        if plain and not plain[0].isspace() and not plain.startswith("-"):
            inside, for_pip = plain.startswith("dependencies:"), False
        item = re.match(r"(?<!\s)\s*-\s+[\"']?([^\"']+)", plain)
        if not inside or item is None:
            continue
        word = item[1].strip()
        if word == "pip:":
            for_pip = True
        elif for_pip:
            yield word
        elif requirement_name(word := word.rpartition("::")[2]) not in ("python", "pip", ""):
            yield _as_distribution(word)


def _as_distribution(word: str) -> _OfConda:
    name, said = requirement_name(word), _of_conda_words(word)
    found = _OfConda(distribution_by_conda(name.lower()) + said[len(name):] if said.startswith(name) else said)
    found.written = name
    return found


def _of_conda_words(word: str) -> str:
    """Put ``name=1.2``, which is any 1.2 to conda, ``name 1.2`` and ``name=1.2.3=build`` into the words of PEP 440."""
    alone = re.fullmatch(r"([\w.-]+)\s+([\w.*]+)(?:\s+\S+)?", word)
    if alone is not None:
        return f"{alone[1]}=={alone[2]}"
    parts = re.fullmatch(r"([\w.-]+)\s*=\s*([\w.*]+)(=\S+)?", word)
    if parts is None:
        return word
    version = parts[2] if parts[3] or parts[2].endswith("*") else f"{parts[2]}.*"
    return f"{parts[1]}=={version}"


_READERS: dict[str, Callable[[str], Iterable[str]]] = {
    "pyproject.toml": _of_pyproject, "setup.cfg": _of_setup, "setup.py": _of_setup_script, "Pipfile": _of_pipfile,
    "environment.yml": _of_conda, "environment.yaml": _of_conda,
}
