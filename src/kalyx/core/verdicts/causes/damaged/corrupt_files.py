"""Group D: it is installed, and its files are not those that were installed."""

from __future__ import annotations

import re

from kalyx.core.model import Evidence, Finding
from kalyx.core.model.names import requirement_name
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.causes.damaged.suspects import BROKEN_SOURCE, file_is_unknown, owners, suspects, what_broke
from kalyx.core.verdicts.reading.absence import is_absent
from kalyx.core.verdicts.reading.failure import own_frames
from kalyx.core.verdicts.remedies import files, pip

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["file_corrupt"]

# What the loader says of a compiled file that is cut off, empty, or no such file at all
_BROKEN_BINARY = re.compile(r"file too short|invalid ELF header|cannot read file data|section header|"
                            r"failed to map segment|ELF load command|ELF file|not a valid Win32|"
                            r"slice is not valid|truncated|mach-o")
MOST_REQUIRED = 40  # distributions that are looked through for a cut-off file


@cause("file-corrupt", "a distribution's file is not what RECORD says, and breaks the import",
       asks="traces", family="damage", after=("metadata-only",),
       why_here="the file at which the import broke says more than files that are missing beside it")
def file_corrupt(case: Case, failure: Failure | None) -> Finding | None:
    """Compare the files that the failure speaks of with their distribution's RECORD.

    Looks like: Syntax errors with NUL bytes, `file too short`, `invalid ELF header`, or a crash while
        loading, in a package that was well before.
    Why: A file of the package was cut off, emptied or overwritten: a full disk, a broken download, a
        synchronised folder.
    How Kalyx knows: The file's size and hash are not those in RECORD; or it is a part of Python's own
        library, which could be read when it was installed.
    What to do: Install the package again.
    """
    if not _may_be_corrupt(case, failure):
        return _emptied(case, failure)
    library = _broken_library(case)
    if library is not None:
        return library
    for owner in owners(case, failure):
        record = case.distributions.record(owner)
        rows = [r for r in map(record.row_of, suspects(case, failure)) if r is not None]
        changed = [(record.absolute(r), how) for r in rows if (how := record.difference(r))]
        if not changed and file_is_unknown(case):
            changed = record.changed()
        changed = [(file, how) for file, how in changed if _is_damage(case, file, failure)]
        if changed:
            file, how = changed[0]
            return Finding.error(
                "file-corrupt", "certain",
                f"{file} of {owner.name} {owner.version} is damaged: {how}.",
                (*[Evidence(h, f) for f, h in changed[:4]], Evidence("what was installed", record.path),
                 *what_broke(case)),
                pip.reinstall(case, owner.name, owner.version, "to have its files whole"))
    return _broken_binary(case) or _cut_off_behind(case, failure) or _emptied(case, failure)


def _emptied(case: Case, failure: Failure | None) -> Finding | None:
    """Find files with nothing in them in the distribution whose code failed over something of its own."""
    error = case.obs.error
    frames = own_frames(error.frames) if error is not None and not case.obs.later else []
    owner = case.distributions.of(frames[-1].file) if frames else None
    if owner is None or owner.editable or (failure is not None and is_absent(case, failure)):
        return None
    lacking = case.distributions.of(case.modules.file_of(failure.module)) if failure is not None else owner
    if lacking is None or lacking.metadata != owner.metadata:
        return None
    record = case.distributions.record(owner)
    rows = record.emptied()
    if not rows:
        return None
    return Finding.error(
        "file-corrupt", "likely",
        f"{record.absolute(rows[0])} of {owner.name} {owner.version} is empty, and other files of it count on "
        "what was in it.",
        (*[Evidence(record.difference(r), record.absolute(r)) for r in rows[:4]],
         Evidence("what was installed", record.path), *what_broke(case)),
        pip.reinstall(case, owner.name, owner.version, "to have its files whole"))


def _cut_off_behind(case: Case, failure: Failure | None) -> Finding | None:
    """Find the compiled file over which the interpreter died, in what the failing packages require.

    Native code loads native code without a frame of Python's.
    """
    if case.obs.outcome != "crash":
        return None
    waiting = owners(case, failure)
    seen: set[str] = set()
    while waiting and len(seen) < MOST_REQUIRED:
        owner = waiting.pop(0)
        if owner.metadata in seen:
            continue
        seen.add(owner.metadata)
        record = case.distributions.record(owner)
        for row in (r for r in record.code if not r.endswith(".py")):
            size, info = record.rows[row][1], case.files.stat(record.absolute(row))
            if info is not None and size is not None and info.size < size:
                return Finding.error(
                    "file-corrupt", "likely",
                    f"{record.absolute(row)} of {owner.name} {owner.version} is cut off: RECORD says {size} "
                    f"bytes, and it has {info.size}.",
                    (Evidence("what was installed", record.path), *what_broke(case)),
                    pip.reinstall(case, owner.name, owner.version, "to have its files whole"))
        found = [case.distributions.named(requirement_name(r)) for r in owner.requires]
        waiting += [d for d in found if d is not None and not d.editable]
    return None


def _broken_library(case: Case) -> Finding | None:
    """Find a file of Python's own library that cannot be parsed: it once could, as it came with this Python."""
    error, m = case.obs.error, case.files
    if error is None or error.type not in BROKEN_SOURCE:
        return None
    named = error.frames[-1].file if error.lineno and error.frames else case.modules.file_of(case.obs.module)
    if named is None or not named.endswith(".py") or case.modules.layer_of_file(named) != "stdlib" or not (
            error.lineno or "null bytes" in error.message):
        return None
    folder = max((x.path for x in case.modules.layers if m.is_within(named, x.path)), key=len)
    if {"test", "tests"} & set(m.path.relpath(named, folder).split(m.path.sep)):
        return None  # among Python's own tests are files that are not to be parsed
    return Finding.error(
        "file-corrupt", "certain",
        f"{named}, a part of Python's own standard library, is damaged: {error.message}.",
        (Evidence(f"{error.type}: {error.message}", named, error.lineno),
         Evidence(f"it came with Python {case.python.version}, which could read it", named)),
        files.restore_library(case, folder, m.path.relpath(named, folder)))


def _may_be_corrupt(case: Case, failure: Failure | None) -> bool:
    error = case.obs.error
    if case.obs.outcome == "crash":
        return True
    if error is None:
        return False
    return (error.type in BROKEN_SOURCE
            or (error.type != "ModuleNotFoundError" and _BROKEN_BINARY.search(error.message) is not None)
            or (failure is not None and failure.name is not None))


def _is_damage(case: Case, file: str, failure: Failure | None) -> bool:
    """Tell damage from a change that a person made: it cannot be parsed, or is cut off or emptied."""
    m = case.files
    if not file.endswith(".py"):
        binary = case.modules.loader.read(file)
        return bool(binary.trouble) or case.obs.outcome == "crash"
    info = m.stat(file)
    error = case.obs.error
    if info is not None and info.size == 0:
        return True
    if error is not None and error.type in BROKEN_SOURCE:
        return error.lineno is None or any(m.same(f.file, file) for f in error.frames[-1:])
    return False


def _broken_binary(case: Case) -> Finding | None:
    """Find a compiled file that is cut off, also where no RECORD says how it should be."""
    for error in case.obs.chain:
        if not error.path or not _BROKEN_BINARY.search(error.message):
            continue
        binary = case.modules.loader.read(error.path)
        if not binary.trouble:
            continue
        owner = case.distributions.of(error.path)
        todo = pip.reinstall(case, owner.name, owner.version, "to have its files whole") if owner \
            else pip.build_again(case, error.path)
        return Finding.error("file-corrupt", "certain", f"{error.path} is damaged: {binary.trouble}.",
                       (Evidence(f"the loader says: {error.message}", error.path),
                        Evidence(binary.trouble, error.path)), todo)
    return None
