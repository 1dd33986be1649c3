"""Group D: it is installed, and its files are not those that were installed."""

from __future__ import annotations

from kalyx.core.facts import tables
from kalyx.core.facts.cases import Case
from kalyx.core.facts.distributions import normal_name, requirement_name
from kalyx.core.facts.markers import applies
from kalyx.core.facts.modules import top_level
from kalyx.core.model import Distribution, Evidence, Finding, Frame
from kalyx.core.patterns import pattern
from kalyx.core.verdicts import remedies
from kalyx.core.verdicts.absence import is_absent
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.failure import Failure, own_frames
from kalyx.core.verdicts.requirements import conflict_in_use

__all__ = ["file_corrupt", "imported_at", "mixed_install"]

# What the loader says of a compiled file that is cut off, empty, or no such file at all
_BROKEN_BINARY = pattern(r"file too short|invalid ELF header|cannot read file data|section header|"
                            r"failed to map segment|ELF load command|ELF file|not a valid Win32|"
                            r"slice is not valid|truncated|mach-o")
_BROKEN_SOURCE = ("SyntaxError", "IndentationError", "TabError", "UnicodeDecodeError", "ValueError",
                  "EOFError")
MOST_REQUIRED = 40  # distributions that are looked through for a cut-off file
_FILE_FIRST = pattern(r"(?<![^\s:'\"(])(/[^:\n]+\.so[\w.]{0,40}): ")
_IMPORT = pattern(r"(?<!\s)\s*(?:from\s+(\.*)(\w[\w.]*|)\s+)?import\s+(.+)")


def _suspects(case: Case, failure: Failure | None) -> list[str]:
    """Return the files that the failure happened in or was about, the nearest first."""
    files: list[str | None] = []
    for error in case.obs.chain:
        files.append(error.path)
        named = _FILE_FIRST.match(error.message)  # a library that lies beside it
        files += [str(case.machine.path.normpath(named.group(1)))] if named else []
        files += [f.file for f in reversed(own_frames(error.frames)[-3:])]
    files += [f.file for f in reversed(own_frames(case.obs.stack)[-3:])]
    if failure is not None:
        files.append(case.file_of(failure.module))
    if _file_is_unknown(case):
        files += [f for e in case.obs.chain for x in own_frames(e.frames)[-1:] for f in imported_at(case, x)]
    files += [case.source_of(case.obs.origin), case.file_of(top_level(case.obs.module))]
    return list(dict.fromkeys(f for f in files if f))


def imported_at(case: Case, frame: Frame) -> list[str | None]:
    """Return the files of the modules that a line of code imports."""
    m = case.machine
    match = _IMPORT.match(case.code_line(frame.file, frame.line))
    if match is None:
        return []
    dots, module, names = match.group(1) or "", match.group(2) or "", match.group(3)
    parts = [n.split(" as ")[0].strip() for n in names.partition("#")[0].strip("() ").split(",")]
    if match.group(2) is None and not dots:  # import a, b.c
        return [case.file_of(n) for n in parts]
    if not dots:
        return [case.file_of(module), *[case.file_of(f"{module}.{n}") for n in parts]]
    folder = frame.file
    for _ in dots:
        folder = m.path.dirname(folder)
    folder = m.path.join(folder, *module.split(".")[:-1]) if module else folder
    found = [case.finder.find_in(folder, n) for n in ([module.split(".")[-1]] if module else parts)]
    return [c.path for c in found if c is not None]


def _owners(case: Case, failure: Failure | None) -> list[Distribution]:
    """Return the distributions that the failing files belong to, editable ones left out."""
    found = [case.distribution_of(f) for f in _suspects(case, failure)]
    unique = {d.metadata: d for d in found if d is not None and not d.editable}
    return list(unique.values())


@cause("file-corrupt", "D", "a distribution's file is not what RECORD says, and breaks the import",
       rank=23)
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
    for owner in _owners(case, failure):
        record = case.record(owner)
        rows = [r for r in map(record.row_of, _suspects(case, failure)) if r is not None]
        changed = [(record.absolute(r), how) for r in rows if (how := record.difference(r))]
        if not changed and _file_is_unknown(case):
            changed = record.changed()
        changed = [(file, how) for file, how in changed if _is_damage(case, file, failure)]
        if changed:
            file, how = changed[0]
            return Finding(
                "file-corrupt", "error", "certain",
                f"{file} of {owner.name} {owner.version} is damaged: {how}.",
                (*[Evidence(h, f) for f, h in changed[:4]], Evidence("what was installed", record.path),
                 *_what_broke(case)),
                remedies.reinstall(case, owner.name, owner.version, "to have its files whole"))
    return _broken_binary(case) or _cut_off_behind(case, failure) or _emptied(case, failure)


def _emptied(case: Case, failure: Failure | None) -> Finding | None:
    """Find files with nothing in them in the distribution whose code failed over something of its own."""
    error = case.obs.error
    frames = own_frames(error.frames) if error is not None and not case.obs.later else []
    owner = case.distribution_of(frames[-1].file) if frames else None
    if owner is None or owner.editable or (failure is not None and is_absent(case, failure)):
        return None
    lacking = case.distribution_of(case.file_of(failure.module)) if failure is not None else owner
    if lacking is None or lacking.metadata != owner.metadata:
        return None
    record = case.record(owner)
    rows = record.emptied()
    if not rows:
        return None
    return Finding(
        "file-corrupt", "error", "likely",
        f"{record.absolute(rows[0])} of {owner.name} {owner.version} is empty, and other files of it count on "
        "what was in it.",
        (*[Evidence(record.difference(r), record.absolute(r)) for r in rows[:4]],
         Evidence("what was installed", record.path), *_what_broke(case)),
        remedies.reinstall(case, owner.name, owner.version, "to have its files whole"))


def _cut_off_behind(case: Case, failure: Failure | None) -> Finding | None:
    """Find the compiled file over which the interpreter died, in what the failing packages require.

    Native code loads native code without a frame of Python's.
    """
    if case.obs.outcome != "crash":
        return None
    waiting = _owners(case, failure)
    seen: set[str] = set()
    while waiting and len(seen) < MOST_REQUIRED:
        owner = waiting.pop(0)
        if owner.metadata in seen:
            continue
        seen.add(owner.metadata)
        record = case.record(owner)
        for row in (r for r in record.code if not r.endswith(".py")):
            size, info = record.rows[row][1], case.machine.stat(record.absolute(row))
            if info is not None and size is not None and info.size < size:
                return Finding(
                    "file-corrupt", "error", "likely",
                    f"{record.absolute(row)} of {owner.name} {owner.version} is cut off: RECORD says {size} "
                    f"bytes, and it has {info.size}.",
                    (Evidence("what was installed", record.path), *_what_broke(case)),
                    remedies.reinstall(case, owner.name, owner.version, "to have its files whole"))
        found = [case.distribution_named(requirement_name(r)) for r in owner.requires]
        waiting += [d for d in found if d is not None and not d.editable]
    return None


def _broken_library(case: Case) -> Finding | None:
    """Find a file of Python's own library that cannot be parsed: it once could, as it came with this Python."""
    error, m = case.obs.error, case.machine
    if error is None or error.type not in _BROKEN_SOURCE:
        return None
    named = error.frames[-1].file if error.lineno and error.frames else case.file_of(case.obs.module)
    if named is None or not named.endswith(".py") or case.layer_of_file(named) != "stdlib" or not (
            error.lineno or "null bytes" in error.message):
        return None
    folder = max((x.path for x in case.layers if m.is_within(named, x.path)), key=len)
    if {"test", "tests"} & set(m.path.relpath(named, folder).split(m.path.sep)):
        return None  # among Python's own tests are files that are not to be parsed
    return Finding(
        "file-corrupt", "error", "certain",
        f"{named}, a part of Python's own standard library, is damaged: {error.message}.",
        (Evidence(f"{error.type}: {error.message}", named, error.lineno),
         Evidence(f"it came with Python {case.obs.who.get('version')}, which could read it", named)),
        remedies.restore_library(case, folder, m.path.relpath(named, folder)))


def _may_be_corrupt(case: Case, failure: Failure | None) -> bool:
    error = case.obs.error
    if case.obs.outcome == "crash":
        return True
    if error is None:
        return False
    return (error.type in _BROKEN_SOURCE
            or (error.type != "ModuleNotFoundError" and _BROKEN_BINARY.search(error.message) is not None)
            or (failure is not None and failure.name is not None))


def _file_is_unknown(case: Case) -> bool:
    """Whether the exception does not say in which file it is: NUL bytes, a crash in native code."""
    error = case.obs.error
    return case.obs.outcome == "crash" or (error is not None and error.type in _BROKEN_SOURCE
                                           and error.lineno is None)


def _is_damage(case: Case, file: str, failure: Failure | None) -> bool:
    """Tell damage from a change that a person made: it cannot be parsed, or is cut off or emptied."""
    m = case.machine
    if not file.endswith(".py"):
        binary = case.loader.read(file)
        return bool(binary.trouble) or case.obs.outcome == "crash"
    info = m.stat(file)
    error = case.obs.error
    if info is not None and info.size == 0:
        return True
    if error is not None and error.type in _BROKEN_SOURCE:
        return error.lineno is None or any(m.same(f.file, file) for f in error.frames[-1:])
    return False


def _what_broke(case: Case) -> list[Evidence]:
    error = case.obs.error
    if error is None:
        return [Evidence(f"the interpreter ended with status {case.obs.status}", case.python)]
    last = error.frames[-1] if error.frames else None
    return [Evidence(f"{error.type}: {error.message.splitlines()[0] if error.message else ''}",
                     last.file if last else None, last.line if last else None)]


def _broken_binary(case: Case) -> Finding | None:
    """Find a compiled file that is cut off, also where no RECORD says how it should be."""
    for error in case.obs.chain:
        if not error.path or not _BROKEN_BINARY.search(error.message):
            continue
        binary = case.loader.read(error.path)
        if not binary.trouble:
            continue
        owner = case.distribution_of(error.path)
        todo = remedies.reinstall(case, owner.name, owner.version, "to have its files whole") if owner \
            else remedies.build_again(case, error.path)
        return Finding("file-corrupt", "error", "certain", f"{error.path} is damaged: {binary.trouble}.",
                       (Evidence(f"the loader says: {error.message}", error.path),
                        Evidence(binary.trouble, error.path)), todo)
    return None


@cause("mixed-install", "D", "files of two versions or two installers lie on top of each other", rank=25)
def mixed_install(case: Case, failure: Failure | None) -> Finding | None:
    """Find two metadata folders of one distribution, left-overs, and files of another version.

    Looks like: A package fails in itself: names missing between its own files.
    Why: Files of two versions lie on top of each other: two installers, a copy by hand, an installation
        that was interrupted.
    How Kalyx knows: Two metadata folders of one distribution, left-overs with a `~`, or files that
        differ from RECORD.
    What to do: Install the package again, so that its files are of one version.
    """
    if case.obs.outcome not in ("fails", "crash"):
        return None
    if failure is not None and is_absent(case, failure):
        return _interrupted(case, failure) or _asked_by_changed(case, failure)
    error = case.obs.error
    if error is not None and error.type.endswith("Warning"):
        return None  # made an exception by a setting: the code is as it was
    for owner in _owners(case, failure):
        stray = _stray_package(case, owner)
        if stray is not None:
            return stray
        twins = _twins(case, owner)
        if len(twins) > 1 and conflict_in_use(case, failure) is None:
            newest = max(twins, key=lambda d: _version_key(d.version))
            named = " and ".join(f"{d.name} {d.version}" for d in twins)
            return Finding(
                "mixed-install", "error", "likely",
                f"{owner.location} holds the metadata of {named}: one was installed over the other.",
                (*[Evidence(f"{d.name} {d.version}", d.metadata) for d in twins], *_what_broke(case)),
                remedies.reinstall(case, newest.name, newest.version, "so that its files are of one version"))
        rows = [r for r in map(case.record(owner).row_of, _suspects(case, failure)) if r is not None]
        found = _written_over(case, owner, rows)
        if found is not None:
            return found
    return None


def _written_over(case: Case, owner: Distribution, rows: list[str]) -> Finding | None:
    """Find files among `rows` that are not those that their distribution installed."""
    record = case.record(owner)
    changed = [(r, how) for r in rows if (how := record.difference(r))]
    if not changed:
        return None
    return Finding(
        "mixed-install", "error", "likely",
        f"{record.absolute(changed[0][0])} is not the file that {owner.name} {owner.version} "
        "installed: another version, installer or hand wrote over it.",
        (*[Evidence(how, record.absolute(r)) for r, how in changed[:4]],
         Evidence("what was installed", record.path), *_what_broke(case)),
        remedies.reinstall(case, owner.name, owner.version, "to have files of one version"))


def _asked_by_changed(case: Case, failure: Failure) -> Finding | None:
    """Find that what asks for an absent module is a changed file, and that nothing declares the module."""
    owner = case.distribution_of(failure.asker.file) if failure.asker else None
    row = case.record(owner).row_of(failure.asker.file) if owner and failure.asker else None
    names = {normal_name(failure.top), normal_name(tables.distribution_for(failure.top) or failure.top),
             *[normal_name(e.name) for e in case.elsewhere(failure.top) if e.name]}
    if owner is None or owner.editable or row is None or failure.top in case.stdlib_names or any(
            normal_name(requirement_name(r)) in names for r in owner.requires if applies(r, case.markers)):
        return None
    return _written_over(case, owner, [row])


def _stray_package(case: Case, owner: Distribution) -> Finding | None:
    """Find a folder that hides a distribution's module of one file, in the same site folder."""
    record, m = case.record(owner), case.machine
    for name in owner.modules:
        folder = m.path.join(owner.location, name)
        if f"{name}.py" not in record.rows or any(r.startswith(f"{name}/") for r in record.rows):
            continue
        found = case.finder.find_in(owner.location, name)
        if found is not None and found.kind == "package":
            return Finding(
                "mixed-install", "error", "certain",
                f"The package {folder} hides {record.absolute(name + '.py')}, the module that {owner.name} "
                f"{owner.version} installed, and belongs to no distribution.",
                (Evidence("a folder comes before a file of the same name", found.path),
                 Evidence(f"RECORD lists {name}.py, and nothing in {name}", record.path), *_what_broke(case)),
                (remedies.set_aside(m, folder),))
    return None


def _twins(case: Case, owner: Distribution) -> list[Distribution]:
    """Return all distributions of one name in one folder."""
    layer = next((x for x in case.layers if x.path == owner.location), None)
    if layer is None:
        return [owner]
    wanted = normal_name(owner.name)
    entries = [e for e in case.shelf(layer).metadata_folders()
               if normal_name(e.rsplit(".", 1)[0].split("-")[0]) == wanted]
    return [d for d in map(case.shelf(layer).read, entries) if d is not None]


def _version_key(text: str) -> tuple[int, object]:
    from packaging.version import InvalidVersion, Version

    try:
        return 1, Version(text)
    except InvalidVersion:
        return 0, text


def _interrupted(case: Case, failure: Failure) -> Finding | None:
    """Find the folder that pip renames a package to while it replaces it: ``~umpy``."""
    for layer in case.layers:
        if layer.layer not in ("env", "base", "user"):
            continue
        left = [n for n in case.finder.names(layer.path) if n.startswith("~")
                and failure.top[1:] and n[1:].split("-")[0].split(".")[0] in (failure.top[1:], failure.top)]
        if left:
            place = case.machine.path.join(layer.path, sorted(left)[0])
            owner = case.shelf(layer).named(failure.top)
            wanted = f"{owner.name}=={owner.version}" if owner else (
                tables.distribution_for(failure.top) or failure.top)
            return Finding(
                "mixed-install", "error", "certain",
                f"An installation of {failure.top} into {layer.path} was interrupted: only left-overs of it "
                "are there.", (Evidence(f"{place} is what an installer puts aside while it works", place),),
                remedies.install(case, wanted))
    return None
