"""Group D: what is imported is bytecode that does not belong to the source that is there."""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.reading.absence import imported_at
from kalyx.core.verdicts.remedies import files, pip

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import ObservedError
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["bytecode_stale"]

_MAGIC = re.compile(r"[Bb]ad magic number in ['\"]?([\w.]+)['\"]?")
# Bad marshal data and the like: bytecode that another Python wrote, or that is cut off
_UNREADABLE = re.compile(r"bad marshal data|marshal data too short|EOF read where|bytecode|"
                         r"reached EOF while reading")


@cause("bytecode-stale", "an orphaned or foreign .pyc is what gets imported, or breaks it",
       asks="anything", family="damage", after=("hidden-by-user-site",),
       why_here="another thing than the source is executed, so that what the source says does not count")
def bytecode_stale(case: Case, failure: Failure | None) -> Finding | None:
    """Find a .pyc without a source, of another Python, or older than its source.

    Looks like: `bad magic number`, or a name that is in the source and yet cannot be imported.
    Why: Python imported a .pyc file that does not belong to the source: left over, written by another
        version, or never compared with it.
    How Kalyx knows: The .pyc's magic number, and the source that defines what the loaded module lacks.
    What to do: Take the .pyc away; Python writes it anew.
    """
    if case.obs.outcome != "fails":
        return None
    return _of_another_python(case) or _older_than_source(case, failure) or _orphan(case, failure)


def _of_another_python(case: Case) -> Finding | None:
    for error in case.obs.chain:
        match = _MAGIC.search(error.message)
        name = match.group(1) if match else error.name
        if not match and not (error.type in ("ImportError", "EOFError", "ValueError", "TypeError")
                              and _UNREADABLE.search(error.message)):
            continue
        file = error.path or (case.obs.loaded.get(name or "", (None,))[0]) or _bytecode_of(case, name)
        if file is None or not file.endswith(".pyc"):
            cut_off = None if match else _cut_off(case, error)
            if cut_off is not None:
                return _damaged(case, error, cut_off)
            continue
        magic = _magic(case, file)
        evidence = [Evidence(f"{error.type}: {error.message}", file)]
        if magic:
            evidence.append(Evidence(f"its magic number is {magic}; this is Python "
                                     f"{case.python.version}", file))
        return _finding(case, file, f"The bytecode {file} was written by another Python than this one "
                        f"({case.python.version}), or is cut off.", evidence)
    return None


def _cut_off(case: Case, error: ObservedError) -> str | None:
    """Return the bytecode, kept of a source, over which Python stumbled: that of the module asked for last."""
    m = case.files
    frame = error.frames[-1] if error.frames else None
    parts = case.obs.module.split(".")
    sources = imported_at(case, frame) if frame else [
        case.modules.file_of(".".join(parts[:n])) for n in range(len(parts), 0, -1)]
    packages = [m.path.join(m.path.dirname(f), "__init__.py") for f in sources if f]
    for source in (*sources, *packages):
        kept = cached_file(case, source) if source and source.endswith(".py") else ""
        if kept and m.is_file(kept) and _is_cut_off(case, kept):
            return kept
    return None


def _damaged(case: Case, error: ObservedError, file: str) -> Finding:
    """Say what to do about bytecode that is cut off: where others in its folder are too, all of it goes."""
    m, folder = case.files, case.files.path.dirname(file)
    tag = "." + ".".join(file.rsplit(".", 2)[1:])
    kept = [m.path.join(folder, n) for n in m.names_in(folder) if n.endswith(tag)]
    others = [f for f in kept if f != file and _is_cut_off(case, f)]
    todo = files.remove_file(case, folder if others and m.path.basename(folder) == "__pycache__" else file,
                                "; Python writes it anew")
    return Finding.error(
        "bytecode-stale", "certain",
        f"The bytecode {file} is cut off or damaged, as it is when a disk is full or the power fails.",
        (Evidence(f"{error.type}: {error.message}", file),
         *[Evidence("and so is this", f) for f in others[:4]]), (todo,))


def _is_cut_off(case: Case, file: str) -> bool:
    """Whether bytecode cannot be read to its end; that of another version than ours is taken at its word."""
    import marshal
    import sys

    ours = sys.version_info[:2], sys.implementation.name
    try:
        data = case.files.read_bytes(file)
        if (case.python.version_pair, case.python.implementation) == ours:
            marshal.loads(data[16:])
            return False
    except (EOFError, ValueError, TypeError, Unreadable):
        pass
    return True


def _bytecode_of(case: Case, name: str | None) -> str | None:
    found = case.modules.file_of(name) if name else None
    return found if found and found.endswith(".pyc") else None


def _magic(case: Case, file: str) -> int | None:
    try:
        head = case.files.read_bytes(file, 4)
    except Unreadable:
        return None
    return int.from_bytes(head[:2], "little") if len(head) == 4 else None


def _older_than_source(case: Case, failure: Failure | None) -> Finding | None:
    """Find a name that the source defines and the loaded module lacks."""
    if failure is None or failure.name is None or "partially" in failure.error.message:
        return None
    source = case.modules.file_of(failure.module)
    if source is None or not source.endswith(".py"):
        return None
    from kalyx.core.facts.source_code.definitions import defined_names

    line = defined_names(case.files, source).get(failure.name)
    compiled = cached_file(case, source)
    if line is None or not case.files.is_file(compiled):
        return None
    return Finding.error(
        "bytecode-stale", "certain",
        f"{source} defines {failure.name}, and the bytecode {compiled} that was imported in its place "
        "does not.",
        (Evidence(f"{failure.name} is defined", source, line),
         Evidence(f"{failure.error.type}: {failure.error.message}", compiled)),
        (files.remove_file(case, compiled, "; Python writes it anew from the source"),))


def cached_file(case: Case, source: str) -> str:
    """Return where this interpreter keeps the bytecode of a source (PEP 3147; beside it on 2.7)."""
    m = case.files
    if case.python.version_pair[0] == 2:
        return source + "c"
    kind = {"pypy": "pypy"}.get(case.python.implementation, "cpython-")
    tag = str(case.python.cache_tag or f"{kind}{case.python.version_pair[0]}{case.python.version_pair[1]}")
    name, folder = f"{m.path.basename(source)[:-3]}.{tag}.pyc", m.path.dirname(source)
    if case.python.cache_prefix:  # all bytecode in one place, by where its source lies (sys.pycache_prefix)
        below = m.path.splitdrive(m.located(folder, case.python.cwd))[1].lstrip("/\\")
        return str(m.path.join(m.located(case.python.cache_prefix, case.python.cwd), below, name))
    return str(m.path.join(folder, "__pycache__", name))


def _orphan(case: Case, failure: Failure | None) -> Finding | None:
    """Find a .pyc without its source in which the failure happened, or that lacks what is asked of it."""
    names = [case.obs.module] + ([failure.module] if failure else [])
    for name in names:
        file = case.obs.loaded.get(name, (None,))[0] or _bytecode_of(case, name)
        if not file or not file.endswith(".pyc") or "__pycache__" in file \
                or case.files.is_file(file[:-1]):
            continue
        frames = [f.file for e in case.obs.chain for f in e.frames]
        about_it = failure is not None and failure.name is not None and failure.module == name
        if not about_it and file[:-1] not in frames and case.files.path.basename(file[:-1]) not in [
                case.files.path.basename(f) for f in frames]:
            continue
        return _finding(case, file, f"{file} is bytecode without its source; it is what gets imported as "
                        f"{name}.", [Evidence(f"{file[:-1]} is not there", file)])
    return None


def _finding(case: Case, file: str, because: str, evidence: list[Evidence]) -> Finding:
    """Say what to do: take it away where something better stands behind it, else bring the source back."""
    owner = case.distributions.of(file)
    if case.files.is_file(file[:-1]) or "__pycache__" in file:
        todo: tuple[Remedy, ...] = (files.remove_file(case, file, "; Python writes it anew"),)
    elif owner is not None:
        todo = pip.reinstall(case, owner.name, owner.version, "with its sources")
    else:
        stem = case.files.path.basename(file).split(".")[0]
        if len([c for _, c in case.modules.candidates(stem) if c.kind != "namespace"]) > 1:
            todo = (files.remove_file(case, file, f"; another {stem} stands further back on the path"),)
        else:
            todo = (Remedy(f"Bring the source {file[:-1]} back, or take the .pyc away.", "manual",
                           changes=file),)
    return Finding.error("bytecode-stale", "certain", because, tuple(evidence), todo)
