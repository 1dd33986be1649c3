"""Where a pasted traceback comes from, and with which Python of this machine it is tried again.

A text may come from anywhere: it chooses among the interpreters that are known here, and names nothing to run.
"""

from __future__ import annotations

import ntpath
import posixpath
import re

from kalyx.core.facts.interpreters.environment import USUAL_NAMES, prefix_of, python_in
from kalyx.core.facts.tracebacks.parser import place_of
from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.facts.tracebacks.parser import Place, Traceback
    from kalyx.core.model import Frame

__all__ = ["Choice", "Origin", "choose", "files_in", "origin_of"]

MOST_ABOVE = 6  # folders above a file in which its project's environment is looked for


@record
class Origin:
    """Where a traceback comes from, as far as its paths tell."""

    prefix: str = ""
    base: str = ""
    version: str = ""
    site: str = ""
    library: str = ""
    start: str = ""  # the folder of the script
    script: str = ""  # the file that it began in


@record
class Choice:
    """The interpreter that a text is tried with: ``program``, and ``says`` how it came to be that one.

    Without a program ``says`` tells why there is none.
    """

    program: str
    says: str


def choose(context: SeatContext, found: Traceback, origin: Origin) -> Choice:
    """Return the interpreter that a text belongs to on this machine.

    That which its paths name; else that of the project whose file it began in; else this shell's python, where the
    text's own files are here or it names none.
    """
    m = context.machine
    if found.windows != (m.platform == "win32"):
        return Choice("", "it comes from Windows" if found.windows else "it does not come from Windows")
    if found.program and m.is_executable(m.absolute(found.program)):
        program = m.absolute(found.program)
        return Choice(program, "") if _is_known(context, program) else Choice(
            "", f"{program} is of no environment known here")
    if m.path.isabs(found.program or ""):
        return Choice("", f"{found.program} is not on this machine")
    if origin.site:
        return _of_prefix(context, origin)
    if origin.script and not m.is_file(origin.script):
        return _of_prefix(context, origin) if origin.prefix else Choice(
            "", f"no path in it tells which interpreter it was, and {origin.script} is not on this machine")
    if origin.start and context.examiner.trust.why_not_read(origin.start):
        return Choice("", f"{origin.start} is not yours alone")
    own = _of_project(context, origin.start) if origin.start else None
    shell = context.shell_python()
    if own is None and shell is not None:
        own = Choice(shell[1].interpreter.path, "the python of this shell")
    if own is not None and own.program and not _fits(context, own.program, origin):
        return _of_prefix(context, origin)
    return own or Choice("", "no path in it tells which interpreter it was, and this shell has no python")


def _of_prefix(context: SeatContext, origin: Origin) -> Choice:
    """Return the interpreter at the prefix that the paths of a text name."""
    m = context.machine
    program = python_in(m, origin.prefix)
    named = m.path.join(m.path.dirname(program), f"python{origin.version}")
    program = named if "." in origin.version and m.is_executable(named) else program
    if not m.is_executable(program):
        return Choice("", f"{program} is not on this machine")
    if not _is_known(context, program):
        return Choice("", f"{program} is of no environment known here")
    examined = context.examiner.examine(program, m.cwd).interpreter
    if "." in origin.version and examined.version and examined.short_version != origin.version:
        return Choice("", f"{program} is Python {examined.version} here, and the text is of {origin.version}")
    return Choice(program, "")


def _of_project(context: SeatContext, folder: str) -> Choice | None:
    """Return the interpreter of the environment that lies in the project of a folder; None where none does."""
    m = context.machine
    for _ in range(MOST_ABOVE):
        for name in USUAL_NAMES:
            place = m.path.join(folder, name)
            if m.is_file(m.path.join(place, "pyvenv.cfg")):
                program = python_in(m, place)
                return Choice(program, f"the python of {place}, which lies in its project") if _is_known(
                    context, program) else Choice("", f"{place} is of no environment known here")
        above = m.path.dirname(folder)
        if above in (folder, m.home) or m.exists(m.path.join(folder, ".git")):
            break
        folder = above
    return None


def _fits(context: SeatContext, program: str, origin: Origin) -> bool:
    """Whether an interpreter has the standard library that the text's paths name, where they name one."""
    if not origin.base:
        return True
    m, interpreter = context.machine, context.examiner.examine(program, context.machine.cwd).interpreter
    mine = m.real_path(interpreter.base_prefix or interpreter.prefix or "")
    return m.same(mine, m.real_path(origin.base)) and (
        "." not in origin.version or interpreter.short_version == origin.version)


def _is_known(context: SeatContext, program: str) -> bool:
    """Whether a program is the interpreter of an environment of this machine, and of a base that may be run."""
    m = context.machine
    prefix = prefix_of(m, program)
    known = {m.key(p) for p in context.prefixes()} | {m.key(i.prefix) for i in context.bases() if i.prefix}
    python = context.shell_python()
    own = python is not None and m.same(python[1].interpreter.path, program)
    return own or (bool({m.key(prefix), m.key(m.path.dirname(prefix))} & known) and context.examiner.is_sound(program))


def origin_of(found: Traceback) -> Origin:
    """Read from the paths of a text where it comes from."""
    places = [(f, place_of(f.file)) for f in found.frames]
    site = next((p for _, p in reversed(places) if p.kind == "site"), None)
    library = next((p for _, p in reversed(places) if p.kind == "stdlib"
                    and "importlib" not in p.folder), None)
    # the script is what the last exception began in; those before it may begin further inside
    begun = [*((f, place_of(f.file)) for f in found.chain[0].frames), *places]
    own = next((f for f, p in begun if p.kind == "own" and not f.file.startswith("<")), None)
    best: Place | None = site or library
    if best is None:
        named = [place_of(f) for e in found.chain for f in files_in(e.message)]
        version = next((p.version for p in named if p.kind == "stdlib" and "." in p.version), "")
        return Origin(start=_folder(own), version=version, script=own.file if own else "")
    return Origin(best.prefix, library.prefix if library else best.prefix, best.version or (
        library.version if library else ""), site.folder if site else "",
        library.folder if library else "", _folder(own), own.file if own else "")


def _folder(frame: Frame | None) -> str:
    if frame is None:
        return ""
    return ntpath.dirname(frame.file) if "\\" in frame.file else posixpath.dirname(frame.file)


def files_in(message: str) -> list[str]:
    """Return the files that a message names."""
    return re.findall(r"['(]((?:/|[A-Za-z]:\\)[^'()]+\.py)[')]", message)
