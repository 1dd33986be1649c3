"""Group A: parts of the standard library that this Python does not have."""

from __future__ import annotations

import re
import sys

from kalyx.core.lean.record import replace
from kalyx.core.model import Elsewhere, Evidence, Finding, Remedy, version_pair
from kalyx.core.tables import standard_library
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.reading.absence import asked_near_home, asker_evidence, is_absent
from kalyx.core.verdicts.reading.other_systems import is_of_another_system
from kalyx.core.verdicts.reading.own_files import own_files
from kalyx.core.verdicts.remedies import files, pip, seats

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["has_module", "versions_of"]


def versions_of(module: str) -> tuple[str | None, str | None, str | None] | None:
    row = standard_library.stdlib_history()["modules"].get(module)
    return (row[0], row[1], row[2]) if row else None


@cause("stdlib-not-built", "this Python's own standard library was built or packaged without it",
       asks="absence", after=("hiding", "damage", "unfit"),
       why_here="the library is judged when it is plain that it is what was asked, and whole")
def stdlib_not_built(case: Case, failure: Failure | None) -> Finding | None:
    """Find optional parts of the standard library that this installation lacks.

    Looks like: `No module named '_tkinter'`, `'_sqlite3'`, `'_ssl'`, `'lzma'` and the like, from
        Python's own standard library.
    Why: Python was built without the library that this part needs, the system packages the part
        separately, or its file was deleted.
    How Kalyx knows: It belongs to the standard library of this version, and its compiled part is not in
        lib-dynload, or its file not in the library's folder.
    What to do: Install the system's package that holds the part, or build Python again with the
        library's development files; pip cannot supply it.
    """
    if not is_absent(case, failure) or failure is None:
        return None
    table = standard_library.stdlib_history()
    name = failure.top
    system = is_of_another_system(case, name)
    if system:
        return _of_another_system(case, failure, system)
    history = versions_of(name)
    asked_by_stdlib = failure.asker is not None and case.modules.layer_of_file(failure.asker.file) == "stdlib"
    if history and not has_module(history, case.python.version_pair):
        return None
    if name not in table["optional_parts"] and not (asked_by_stdlib and name.startswith("_")):
        return _not_there(case, failure)
    from_stdlib = failure.asker is None or asked_by_stdlib
    if not from_stdlib:
        from_stdlib = name in case.python.stdlib
    if not from_stdlib and name.startswith("_"):
        return None
    part = table["optional_parts"].get(name, "")
    folder = next((x.path for x in case.modules.layers if x.path.endswith("lib-dynload")), case.python.base_prefix)
    return Finding.error(
        "stdlib-not-built", "certain",
        f"The Python in {case.python.base_prefix} was built or packaged without {name}, a part of the "
        "standard library" + (f" that needs {part}." if part else "."),
        (Evidence(f"{name} is part of Python's own standard library, and pip cannot supply it"),
         Evidence(f"no compiled {name} in {folder}", folder), *asker_evidence(case, failure)),
        tuple(_have_it_built(case, name, part, table["debian_packages"].get(name))))


def _have_it_built(case: Case, name: str, part: str, package: str | None) -> list[Remedy]:
    """Return how to have an optional part of the standard library: the system's package, another Python, a build."""
    todo: list[Remedy] = []
    if case.python.base_prefix == "/usr" and package and case.files.exists("/usr/bin/apt-get"):
        todo.append(Remedy(f"Install the system's package {package}.", "command",
                           argv=("apt-get", "install", "-y", package),
                           changes=f"adds {package} to the system (needs root)"))
    others = [e for e in case.elsewhere.known.environments
              if e.kind == "base" and e.interpreter and e.path != case.python.base_prefix
              and _base_has(case, e.path, name)]
    if others:
        todo.append(Remedy(f"Use a Python that has it: {others[0].interpreter.path}"  # type: ignore[union-attr]
                           f" ({others[0].python_version}).", "manual",
                           changes="which Python is used"))
    todo.append(Remedy(f"Install the development files of {part or name} on the system, then build or "
                       f"install Python {case.python.version} again: {case.python.base_prefix}",
                       "manual", changes="the installation in " + case.python.base_prefix))
    return todo


def _not_there(case: Case, failure: Failure) -> Finding | None:
    """Say that a plain module of the standard library has no file: split off by the system, or deleted."""
    name = failure.top
    own = case.python.stdlib or sys.stdlib_module_names
    folder = next((x.path for x in case.modules.layers if x.layer == "stdlib"
                   and case.files.is_file(case.files.path.join(x.path, "os.py"))), None)
    if name.startswith("_") or name not in own or folder is None or not case.python.knows_version:
        return None
    others = [e for e in case.elsewhere.known.environments if e.kind == "base" and e.interpreter
              and e.path != case.python.base_prefix and _base_has(case, e.path, name)]
    todo = [Remedy(f"Use a Python that has it: {e.interpreter.path} ({e.python_version}).", "manual",
                   changes="which Python is used") for e in others[:1] if e.interpreter]
    return Finding.error(
        "stdlib-not-built", "certain",
        f"{name} is a part of Python's standard library, and the Python in {case.python.base_prefix} lacks its file: "
        "it was packaged without it, or the file was deleted.",
        (Evidence(f"{name} belongs to Python itself: pip cannot supply it, and what it finds under that name "
                  "is something else"),
         Evidence(f"neither {name}.py nor a folder {name} is there", folder), *asker_evidence(case, failure)),
        (*files.restore_library(case, folder, name + ".py"), *todo))


def _of_another_system(case: Case, failure: Failure, system: str) -> Finding:
    """Say that a part of the standard library is only there on another system."""
    name = failure.top
    return Finding.error(
        "stdlib-not-built", "certain",
        f"{name} is a part of Python's standard library on {system} only, and this is "
        f"{case.python.platform}.",
        (Evidence(f"sys.platform is {case.python.platform!r} in {case.python.executable}", case.python.executable),
         Evidence(f"{name} belongs to Python itself, and pip cannot supply it"),
         *asker_evidence(case, failure)),
        (Remedy(f"Import {name} only where sys.platform says {system}, and do without it elsewhere.", "manual",
                changes="the import in the code"),))


def _base_has(case: Case, prefix: str, name: str) -> bool:
    m = case.files
    for library in m.names_in(m.path.join(prefix, "lib")):
        if library.startswith("python3"):
            folder = m.path.join(prefix, "lib", library)
            if name in case.modules.finder.names(folder) or name + ".py" in case.modules.finder.names(folder):
                return not name.startswith("tkinter") or _base_has(case, prefix, "_tkinter")
            if any(n.startswith(name + ".") for n in
                   case.modules.finder.names(m.path.join(folder, "lib-dynload"))):
                return True
    return False


def has_module(history: tuple[str | None, str | None, str | None], version: tuple[int, int]) -> bool:
    since, until, _ = history
    return (since is None or version >= version_pair(since)) and (
        until is None or version < version_pair(until))


@cause("stdlib-removed", "in the standard library of older Python versions, not of this one",
       asks="absence", after=("stdlib-not-built",),
       why_here="a part that was left out of this build was not dropped")
def stdlib_removed(case: Case, failure: Failure | None) -> Finding | None:
    """Find modules that the standard library has dropped.

    Looks like: `No module named 'distutils'`, `'imp'`, `'cgi'` and the like.
    Why: The module was taken out of the standard library before this version of Python.
    How Kalyx knows: The table of the standard library's history has the version that took it out.
    What to do: Change the code to the successor, install a package that brings it back, or use an older
        Python.
    """
    history = _history(case, failure)
    if failure is None or history is None or history[1] is None or case.python.version_pair < version_pair(history[1]):
        return None
    if asked_near_home(case, failure) and next(own_files(case, failure), None):
        return None  # the person's own module has that name
    return _history_finding("stdlib-removed", case, failure,
                            f"was part of Python's standard library until {history[1]} took it out",
                            history[2])


@cause("stdlib-not-yet", "in the standard library of newer Python versions, not of this one",
       asks="absence", after=("stdlib-removed",),
       why_here="as stdlib-removed, the other way round")
def stdlib_not_yet(case: Case, failure: Failure | None) -> Finding | None:
    """Find modules that came into the standard library after this version.

    Looks like: `No module named 'tomllib'`, `'dataclasses'` and the like.
    Why: The module came into the standard library with a later version than this Python.
    How Kalyx knows: The table of the standard library's history has the version that brought it.
    What to do: Install the backport where there is one, or use an environment with a newer Python.
    """
    history = _history(case, failure)
    if failure is None or history is None or history[0] is None or (
            case.python.knows_version and case.python.version_pair >= version_pair(history[0])):
        return None
    return _history_finding("stdlib-not-yet", case, failure,
                            f"is part of Python's standard library only since {history[0]}", None)


def _history(case: Case, failure: Failure | None) -> tuple[str | None, str | None, str | None] | None:
    """Return when an absent module came to the standard library and went, or a part of one that is there."""
    if failure is None or failure.name is not None:
        return None
    if "." in failure.module:
        parent = case.modules.file_of(failure.module.rpartition(".")[0])
        return versions_of(failure.module) if parent and case.modules.layer_of_file(parent) == "stdlib" else None
    return versions_of(failure.top) if is_absent(case, failure) else None


# Modules of Python 2 that have another name since, and the same contents
_RENAMED = frozenset({
    "ConfigParser", "Queue", "SocketServer", "Tkinter", "tkMessageBox", "cPickle", "copy_reg", "__builtin__",
    "httplib", "cookielib", "Cookie", "HTMLParser", "htmlentitydefs", "xmlrpclib", "SimpleXMLRPCServer", "repr",
    "thread", "anydbm", "robotparser", "urlparse", "BaseHTTPServer", "SimpleHTTPServer", "email.MIMEText",
    "CGIHTTPServer", "DocXMLRPCServer", "FileDialog", "ScrolledText", "SimpleDialog", "Tkconstants", "Tkdnd",
    "tkColorChooser", "tkCommonDialog", "tkFileDialog", "tkFont", "tkSimpleDialog", "ttk", "dumbdbm", "gdbm",
    "dummy_thread", "markupbase", "email.MIMEBase", "email.MIMEMultipart", "email.Utils", "email.Encoders",
    "email.Header"})


def _successor(case: Case, failure: Failure, name: str, successor: str) -> list[Remedy]:
    """Return how to use what took a module's place: by writing its name, where that is all that changed."""
    if name in _RENAMED:
        return [_written_anew(case, failure, name, successor)]
    return [Remedy(f"Change the code to use {successor} instead of {name}.", "manual",
                   changes="the import in the code")]


def _written_anew(case: Case, failure: Failure, name: str, other: str) -> Remedy:
    """Return how to import another module under the name that the code uses."""
    from kalyx.core.verdicts.remedies.source_edits import asking_place, write_import

    place = asking_place(case, failure)
    plain = place is not None and re.fullmatch(rf"import\s+{re.escape(name)}", place.text)
    known_as = f" as {name}" if plain and "." not in name else ""
    return write_import(case, failure, name, other + known_as)


def _other_python(case: Case, name: str, is_last: bool) -> list[Remedy]:
    """Return which of the machine's Pythons has a module: the nearest, of the same major version, that of an
    environment first.
    """
    history, mine, found = versions_of(name), case.python.version_pair, []
    for environment in case.elsewhere.known.environments:
        version = version_pair(environment.python_version)
        if version[0] == mine[0] and environment.interpreter and environment.interpreter.works \
                and history and has_module(history, version):
            found.append((abs(version[1] - mine[1]), environment.kind == "base", environment))
    if not found:
        return [Remedy(f"{'Or use' if is_last else 'Use'} an environment whose Python has {name}; none is "
                       "known on this machine.", "manual", changes="which Python is used")]
    place = min(found, key=lambda each: each[:2])[2]
    moved = seats.move_seat(case, Elsewhere(place, place.interpreter, None, None), name)
    if moved is not None and not is_last:
        moved = replace(moved, do=re.sub("^Or (.)", lambda m: m[1].upper(), moved.do))
    return [moved] if moved else []


def _history_finding(slug: str, case: Case, failure: Failure, says: str,
                     successor: str | None) -> Finding:
    name = failure.module
    backport = standard_library.stdlib_history()["backports"].get(name)
    todo: list[Remedy] = []
    provides_same = slug == "stdlib-removed" or backport in (
        "dataclasses", "typing", "enum34", "ipaddress", "configparser", "contextvars", "statistics",
        "futures", "graphlib_backport")
    if backport and provides_same:
        todo += pip.install(case, backport, why=f", which brings {name} back")
    if successor:
        todo += _successor(case, failure, name, successor)
    elif backport and not provides_same:
        here = bool(case.modules.file_of(backport))
        written = [r for r in (_written_anew(case, failure, name, backport),) if here or r.kind == "edit"]
        install = pip.install(case, backport, why=f"; then import {backport} instead of {name}")
        todo += [*written, *install] if here else [*install, *written]
    todo += _other_python(case, name, bool(todo))
    return Finding(
        slug, "error", "certain",
        f"{name} {says}; {case.python.this_is}.",
        (Evidence(f"{case.python.executable} is {case.python.name}", case.python.executable),
         *asker_evidence(case, failure)), tuple(todo))
