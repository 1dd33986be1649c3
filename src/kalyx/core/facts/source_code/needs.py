"""What the files of a project need to run: modules, versions of Python, and what a script says of itself (PEP 723).

Many files are read in several processes, and what was read is remembered in the user's cache folder, by path, size
and time of change: the next run reads only what has changed.
"""

from __future__ import annotations

import json
import re
import sys
from binascii import crc32
from functools import cache, partial

from kalyx.core.errors import Unreadable
from kalyx.core.facts.configuration.own_files import user_folder
from kalyx.core.facts.source_code.cell_magics import files_run, put_in
from kalyx.core.facts.source_code.cells import read_pieces
from kalyx.core.facts.source_code.code_needs import CodeNeeds, needs_of_data
from kalyx.core.facts.source_code.imports import read_source
from kalyx.core.facts.source_code.newer_syntax import is_surely_python2, newer_syntax
from kalyx.core.facts.source_code.parse_choice import first_choice, next_choice
from kalyx.core.facts.source_code.python_range import Bound, versions_of_code
from kalyx.core.facts.source_code.scan import scan_of_data, scans_as_data
from kalyx.core.facts.source_code.syntax import parse
from kalyx.core.facts.source_code.syntax_forms import newest_form
from kalyx.core.lean.record import replace
from kalyx.core.model import version_pair

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence
    from typing import Any

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.source_code.imports import ImportedName, Source
    from kalyx.core.facts.source_code.parse_choice import Telling
    from kalyx.core.facts.source_code.scan import Scan
    from kalyx.core.machine.interface import Machine

__all__ = ["OLD", "PYTHON2", "needs_as_data", "read_needs", "read_needs_anew", "with_old_forms"]

# The first grows when what is read of a file, or how it is kept, changes; another Python parses other files
FORM = [14, *sys.version_info[:2]]
PYTHON2 = "a form of Python 2"
OLD = (3, 6)  # the newest of the forms that most code has
FIRST = 50    # files in which these are looked for
VERY_MANY = 300  # files, from which on not all are parsed
MANY = 30  # files, from which on more than one process is worth its start
CHUNK = 10  # files that a process is given at once
CACHE_LIMIT = 64 * 1024 * 1024  # bytes
# The block that a script may begin with, of the type `script` (PEP 723)
_BLOCK = re.compile(r"(?m)^# /// script$\s(?P<content>(^#(| .*)$\s)+)^# ///$")


def read_needs_anew(files: Files, paths: Sequence[str]) -> list[CodeNeeds]:
    """Return what each of a few files needs, in their order; nothing of it is remembered."""
    return [needs_of_data(data) for data in needs_as_data(files, paths, "")]


def read_needs(machine: Machine, paths: Sequence[str], root: str, meanwhile: Callable[[], object] = bool,
               telling: Telling | None = None) -> list[CodeNeeds]:
    """Return what each file needs, in their order. `root` is the folder of the project, or empty.

    Where other processes read as well, this one begins with what else there is to do `meanwhile`. Of very many files
    those alone are parsed, where told what counts, that may say what the others do not.
    """
    m = machine
    name = crc32(json.dumps(root or sorted(paths)).encode("utf-8", "surrogateescape"))
    place = m.path.join(user_folder(m, "cache"), f"needs-{name:08x}.json")  # two of one name only replace each other's
    states = {p: _state(m, p) for p in paths}
    rows = {p: row[1] for p, row in _recalled(m, place).items() if p in states and row[0] == states[p] != []}
    known = {p: needs for p, row in rows.items() if isinstance(row, dict) and (needs := _if_whole(p, row)) is not None}
    reader = _Reader(m, root, rows, known, meanwhile)
    if telling is not None and len(paths) >= VERY_MANY:
        reader.scan([p for p in paths if p not in known])
        reader.parse(first_choice(paths, reader.scans, reader.parsed, telling))
        most = 1
        while more := next_choice(paths, reader.scans, reader.parsed, telling, most):
            reader.parse(more)
            most *= 2
    else:
        reader.parse([p for p in paths if p not in known])
    if reader.has_read:
        kept = {p: [states[p], rows[p]] for p in paths if states[p]}
        m.remember(place, json.dumps({"form": FORM, "files": kept}, separators=(",", ":")).encode("utf-8"))
    return [reader.parsed[p] if p in reader.parsed else CodeNeeds(p, is_parsed=False) for p in paths]


class _Reader:
    """Reads files in several processes where they are many; what is known of each is kept as plain data."""

    def __init__(self, machine: Machine, root: str, rows: dict[str, Any], parsed: dict[str, CodeNeeds],
                 meanwhile: Callable[[], object]) -> None:
        self._machine = machine
        self._root = root
        self._rows = rows
        self._meanwhile = meanwhile
        self.parsed = parsed
        self.scans: dict[str, Scan | None] = {}
        self.has_read = False

    def scan(self, paths: Sequence[str]) -> None:
        """Find out what files may say, by their texts, where that is not remembered."""
        known = {p: scan for p in paths if isinstance(row := self._rows.get(p), list) and (
            scan := _scan_if_whole(p, row)) is not None}
        unread = [p for p in paths if p not in known]
        found = {row[0]: row for row in self._each(scans_as_data, unread)}
        self._rows.update(found)
        self.scans = {**known, **{p: scan_of_data(row) for p, row in found.items()}}

    def parse(self, paths: Sequence[str]) -> None:
        """Parse files, and keep what they need."""
        found = {str(data["path"]): data for data in self._each(needs_as_data, paths)}
        self._rows.update(found)
        self.parsed.update({p: needs_of_data(data) for p, data in found.items()})

    def _each(self, function: Callable[..., Any], paths: Sequence[str]) -> Iterator[Any]:
        chunks = [(paths[n:n + CHUNK], self._root) for n in range(0, len(paths), CHUNK)]
        self.has_read = self.has_read or bool(paths)
        if len(paths) < MANY:
            for chunk in chunks:
                yield from function(self._machine, *chunk)
            return
        meanwhile, self._meanwhile = self._meanwhile, bool
        for rows in self._machine.in_processes(function, chunks, meanwhile):
            yield from rows


def with_old_forms(files: Files, code: Sequence[CodeNeeds], are_old: Callable[[], bool] = bool) -> list[CodeNeeds]:
    """Return the same, with the newest form of syntax that came by Python 3.6 in any of it, where none is newer.

    Nearly all code has one soon: where the first files have none, the others matter only to Pythons that `are_old`.
    """
    found = list(code)
    known = max((b.version for c in code for b in c.bounds if b.is_oldest), key=_pair, default="2.7")
    for number, one in enumerate(code):
        if _pair(known) >= OLD or (number == FIRST and not are_old()):
            break
        for cell, text in read_pieces(files, one.path)[0]:
            try:
                form = newest_form(cache(partial(parse, text)), text, known, is_old=True)
            except (SyntaxError, ValueError, RecursionError, MemoryError):  # who reads what it imports says so
                continue
            if form is not None:
                known = form[0]
                found[number] = replace(one, bounds=(*found[number].bounds, Bound(known, True, form[1], form[2], cell)))
    return found


def _pair(version: str) -> tuple[int, int]:
    return version_pair(version) or (0, 0)


def _state(m: Machine, path: str) -> list[object]:
    info = m.stat(path)
    return [info.size, info.modified] if info is not None else []


def _recalled(m: Machine, place: str) -> dict[str, list[Any]]:
    """Return what is remembered of files: the state that each was in, and plain data of it."""
    try:
        content = json.loads(m.read_whole(place, CACHE_LIMIT)) if m.is_file(place) else {}
        files = content["files"] if content["form"] == FORM else {}
        assert isinstance(files, dict)
        return {p: row for p, row in files.items() if isinstance(row, list) and len(row) == 2}
    except (Unreadable, ValueError, KeyError, TypeError, AssertionError, RecursionError):  # damaged: it is read anew
        return {}


def _if_whole(path: str, data: Any) -> CodeNeeds | None:
    """Return what remembered data says, where it is what was written: anybody may have changed it since."""
    try:
        needs = needs_of_data(data) if isinstance(data["block"], str) else None
        return needs if needs is not None and needs.path == path else None
    except (TypeError, ValueError, KeyError):
        return None


def _scan_if_whole(path: str, data: Any) -> Scan | None:
    """Return the same of a file that was not parsed."""
    try:
        scan = scan_of_data(data)
        return scan if scan is not None and scan.path == path else None
    except (TypeError, ValueError, KeyError, IndexError):
        return None


def needs_as_data(files: Files, paths: Sequence[str], root: str) -> list[dict[str, Any]]:
    """Read files; return what each needs as plain data, which goes from one process to another.

    Trees are large and hold no circles: they are not searched for any meanwhile.
    """
    import gc

    was_on = gc.isenabled()
    gc.disable()
    try:
        return [_read(files, p, root) for p in paths]
    finally:
        if was_on:
            gc.enable()


def _read(files: Files, path: str, root: str) -> dict[str, Any]:
    bounds: list[Bound] = []
    blocks: list[tuple[str, int]] = []
    runs: list[str] = []
    installs: list[tuple[str, int, int]] = []

    def each(tree: Any, text: str, cell: int | None, imports: Sequence[ImportedName]) -> None:
        bounds.extend(versions_of_code(tree, text, cell, imports))
        runs.extend(files_run(text) if cell else ())
        installs.extend((word, line, cell) for word, line in put_in(text)) if cell else None
        match = _BLOCK.search(text) if "# /// script" in text else None
        if match and not blocks:
            lines = [line[2:] if line.startswith("# ") else line[1:] for line in match["content"].splitlines()]
            blocks.append(("\n".join(lines), text.count("\n", 0, match.start()) + 1))

    source = read_source(files, path, root, each=each)
    by_error = _bound_of(source)
    bounds += [by_error] if by_error else []
    block, block_line = blocks[0] if blocks else ("", 0)
    return {"path": path, "block": block, "block_line": block_line, "trouble": source.trouble, "line": source.line,
            "folders": [folder for folder, _ in source.paths], "unread": list(source.unread),
            "is_code": source.is_code or by_error is not None, "runs": runs,
            "installs": installs,
            "imports": [[i.module, i.name, i.line, i.guard, i.cell,
                         [[t.first, t.last, t.depth, t.fails] for t in i.only_where], i.depth, i.marker]
                        for i in source.imports],
            "bounds": [[b.version, b.is_oldest, b.what, b.line, b.cell] for b in bounds]}


def _bound_of(source: Source) -> Bound | None:
    """Return the Pythons that code is for by the line that this one cannot parse; None where that does not tell."""
    if source.error is None:
        return None
    line, message = source.error
    newer = newer_syntax(sys.version_info[:2], line, message)
    if newer is not None:
        return Bound(newer[0], True, newer[1], source.line or 1)
    return Bound("3.0", False, PYTHON2, source.line or 1) if is_surely_python2(line, message) else None
