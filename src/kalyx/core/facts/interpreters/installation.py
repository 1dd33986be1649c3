"""What the files of an installed Python say: its program, library, prefix and version."""

from __future__ import annotations

import re

from kalyx.core.errors import NotRecorded, Unreadable
from kalyx.core.facts.interpreters.compiled import compiled_in
from kalyx.core.facts.interpreters.path_lookup import (
    follow_links,
    is_like_python_name,
    read_head,
    version_in_name,
)
from kalyx.core.model import Interpreter, python_version

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files
    from kalyx.core.facts.interpreters.pyvenv import VenvConfig
    from kalyx.core.machine.threads import Once

__all__ = ["base_of", "base_program_of", "find_library", "is_python", "library_files", "no_python",
           "read_interpreter", "read_version"]


def no_python(files: Files, path: str) -> Interpreter:
    """Describe a program that is not shown to be a Python, by its file or by its text."""
    return Interpreter(path, files.real_path(path), known_by="other", trouble=NO_PYTHON)


# -- reading, without running --------------------------------------------------------------
NO_PYTHON = "it is no Python that can be read"
SMALL = 1_000_000  # bytes of a program that only loads its shared library: those of two versions may be as large
# What the file of a program of Python's holds somewhere: its interface, its library's name, its own
_MARKS = (b"Py_", b"python", b"Python", b"pypy")
_PROGRAMS = (b"\x7fELF", b"MZ", b"\xcf\xfa", b"\xce\xfa", b"\xfe\xed", b"\xca\xfe")  # ELF, PE, Mach-O, universal


def base_program_of(files: Files, path: str, config: VenvConfig | None) -> str:
    """Return the program of the base that an interpreter is: links of the file followed, and a copy's original.

    An environment may hold a copy of its base's program, which takes its
    library from the base that pyvenv.cfg names: that one's own program counts, where it is the same.
    """
    m = files
    steps = follow_links(m, path)
    program = str(steps[-1][1] if steps else path)
    if config is None or not config.home or config.prefix not in (
            m.path.dirname(program), m.path.dirname(m.path.dirname(program))):
        return program
    home = m.path.join(config.prefix, config.home)
    names = ["python.exe"] if m.platform == "win32" else dict.fromkeys(
        (m.path.basename(program), *(f"python{v}" for v in (config.short_version, "3", "") if v is not None)))
    for name in names:
        original = m.path.join(home, name)
        if m.is_file(original) and not m.same(original, program):
            if m.platform != "win32" and _is_another(m, program, original):
                continue
            end = follow_links(m, original)
            return str(end[-1][1] if end else original)
    return program


def _is_another(files: Files, copy: str, original: str) -> bool:
    """Whether a copy is not of that program: of another version, where its base was upgraded or another is named."""
    one, two = files.stat(copy), files.stat(original)
    if one is None or two is None or (one.size == two.size and (
            one.size > SMALL or _are_equal(files, copy, original))):
        return False
    mine, its = compiled_in(files, copy), _library_of(files, original, files.path.basename(
        files.real_path(original)), None)
    return mine is not None and (its is None or files.path.basename(its[1]).removesuffix("t") != f"python{mine.short}")


def _are_equal(files: Files, one: str, two: str) -> bool:
    try:
        return files.read_bytes(one, SMALL) == files.read_bytes(two, SMALL)
    except (Unreadable, NotRecorded):
        return True


def is_python(files: Files, program: str) -> bool:
    """Whether a file is shown to be a Python: by its name, by what it holds, and by a library that is its own.

    One of another name than Python's own is read, and never run.
    """
    m = files
    real = m.real_path(program)
    if not is_like_python_name(real) or not m.is_executable(real):
        return False
    if not read_head(m, real).startswith(_PROGRAMS) or (
            m.platform == "linux" and not any(m.around(real, mark, 1) for mark in _MARKS)):
        return False
    return bool(find_library(m, program) or find_library(m, real) or _had_library(m, real) or compiled_in(m, real))


def _had_library(files: Files, program: str) -> bool:
    """Whether what else an installation holds is there, though not its standard library."""
    m, name = files, files.path.basename(program)
    prefix = m.path.dirname(m.path.dirname(program))
    return m.platform != "win32" and "." in (version_in_name(name) or "") and any(
        m.exists(m.path.join(prefix, *parts)) for parts in (
            ("include", name), ("lib", name), ("lib", f"lib{name}.so"), ("lib", f"lib{name}.so.1.0"),
            ("bin", f"{name}-config")))


def read_interpreter(files: Files, path: str, config: VenvConfig | None, known: Once | None = None) -> Interpreter:
    """Read from files what can be known of an interpreter without running it.

    `known` is what was found of others in the same look: hundreds of environments may have one base.
    """
    m = files
    real = m.real_path(path)
    program = base_program_of(m, path, config)
    base = base_of(m, program, config, known)
    if config is not None and config.trouble:
        return Interpreter(path, real, _version_of(m, base, program, known) if base else None, "cpython", config.prefix,
                           base, known_by="broken", trouble=f"its {config.path} cannot be read: {config.trouble}")
    implementation = "pypy" if "pypy" in m.path.basename(real).lower() else "cpython"
    if base is None:
        return Interpreter(path, real, None, implementation, known_by="broken", trouble=(
            f"its standard library is gone: there is no os.py for it in or above {m.path.dirname(program)}"))
    version = _version_of(m, base, program, known)
    prefix = config.prefix if config else base
    origin = m.path.join(m.path.dirname(m.path.dirname(path)), "lib", "python2.7", "orig-prefix.txt")
    if config is None and m.is_file(origin):  # an environment of Python 2's time
        prefix = m.path.dirname(m.path.dirname(path))
        base = m.read_text(origin, 4096).strip()
        version = version or read_version(m, base, program)
    if config is not None and version is None:
        library = find_library(m, m.path.join(base, "bin", "python3"), m.path.basename(real))
        short = version_in_name(m.path.basename(library[1])) if library else None
        # what an environment was made with is not what it runs, where its base was upgraded since
        version = config.version if not short or "." not in short or short == config.short_version else short
    return Interpreter(path, real, version, implementation, prefix, base)


def _version_of(files: Files, base: str, program: str, known: Once | None) -> str | None:
    if known is not None:
        return known.get(("version", base, program), lambda: _version_of(files, base, program, None))
    if find_library(files, program) is None and files.platform != "win32":  # a copy, which may be older than its base
        compiled = compiled_in(files, program)
        if compiled is not None:
            return compiled.version or read_version(files, base, f"python{compiled.short}")
    return read_version(files, base, program)


def base_of(files: Files, program: str, config: VenvConfig | None, known: Once | None = None) -> str | None:
    """Return the base prefix as the interpreter works it out: from ``home``, else from its own place."""
    m = files
    if config is not None and config.home:
        home = m.path.join(config.prefix, config.home)
        name = _version_name(m, program)
        found = _library_of(m, m.path.join(home, m.path.basename(program)), name, known)
        if found is not None:
            return found[0]
    real = m.real_path(program)  # what is compiled in: where it is
    found = _library_of(m, program, m.path.basename(real), known) or _library_of(m, real, "", known)
    if found is None and (compiled := compiled_in(m, real)):
        return compiled.prefix
    return found[0] if found else None


def _version_name(files: Files, program: str) -> str:
    """Return a name of a program that tells its version: its real file's, or by what is compiled into a copy."""
    m = files
    real = m.real_path(program)
    name = str(m.path.basename(real))
    if "." in (version_in_name(name) or "") or m.platform == "win32" or find_library(m, real) is not None:
        return name
    compiled = compiled_in(m, real)
    return f"python{compiled.short}" if compiled else name


def _library_of(files: Files, program: str, name: str, known: Once | None) -> tuple[str, str] | None:
    return find_library(files, program, name) if known is None else known.get(
        ("library", program, name), lambda: find_library(files, program, name))


def find_library(files: Files, program: str, name: str = "") -> tuple[str, str] | None:
    """Search upwards for the standard library, as the interpreter itself does at start.

    `name` is the file name of the real program, which tells its version.
    Returns the prefix and the library's folder; None when there is none.
    """
    m = files
    wanted = name or m.path.basename(m.real_path(program))
    library = wanted.removesuffix("t") if "." in (version_in_name(wanted) or "") else None
    if library is None and (match := re.search(r"(python|pypy)(\d+\.\d+)", wanted)):
        library = match.group(0)
    folder = m.path.dirname(program)
    for _ in range(12):
        if m.platform != "win32" and m.path.dirname(folder) == folder:
            return None  # the root itself is never a prefix
        for place in _library_places(m, folder, library):
            if m.is_file(m.path.join(place, "os.py")):
                return str(folder), place
        parent = m.path.dirname(folder)
        if parent == folder:
            return None
        folder = parent
    return None


def _library_places(files: Files, folder: str, library: str | None) -> list[str]:
    m = files
    if m.platform == "win32":
        return [m.path.join(folder, "Lib")]
    if library:
        return [m.path.join(folder, lib, library + tag) for lib in ("lib", "lib64") for tag in ("", "t")]
    return [m.path.join(folder, "lib", n) for n in m.names_in(m.path.join(folder, "lib"))
            if "." in (version_in_name(n) or "")]


def library_files(files: Files, program: str, folder: str) -> list[str]:
    """Return what an interpreter loads beside its standard library: a zipped one, and its shared library."""
    m = files
    name = m.path.basename(folder)
    names = [f"lib{name}.so", f"lib{name}.so.1.0", f"lib{name}t.so.1.0", f"lib{name}.dylib", "libpypy3-c.so",
             name.replace(".", "") + ".zip"]
    found = [m.path.join(m.path.dirname(folder), n) for n in names]
    found += [m.path.join(m.path.dirname(program), n) for n in ("libpypy3-c.so", "libpypy-c.so")]
    return [f for f in dict.fromkeys(found) if m.exists(f)]


def read_version(files: Files, base: str, program: str) -> str | None:
    """Read the full version from the installation's own header or package record."""
    m = files
    name = m.path.basename(program)
    short = version_in_name(name)
    if short is None:
        match = re.search(r"(?<!\d)\d+\.\d+", name)
        short = match.group(0) if match else ""
    for record in m.names_in(m.path.join(base, "conda-meta")):
        if record.startswith("python-") and record.endswith(".json") and (said := python_version(record[7:])):
            return said
    include = m.path.join(base, "include")
    folders = [m.path.join(include, n) for n in m.names_in(include)
               if n.startswith("python" + short)] if m.platform != "win32" else [
               m.path.join(base, "Include")]
    for folder in folders:
        try:
            text = m.read_beginning(m.path.join(folder, "patchlevel.h"), 8192)
        except Unreadable:
            continue
        said = next((ln for ln in text.splitlines() if ln.split()[:2] == ["#define", "PY_VERSION"]), "")
        if '"' in said:
            return python_version(said.split('"')[1])
    return _version_within(m, base, program, short)


def _version_within(files: Files, base: str, program: str, short: str) -> str | None:
    """Read the version that a program, or its shared library, was compiled with."""
    m = files
    if "." not in short:
        found = find_library(m, program)
        short = version_in_name(m.path.basename(found[1])) or "" if found else ""
    if "." not in short:
        return None
    library = m.path.join(base, "lib")
    shared = [m.path.join(library, n) for n in m.entries(library) if n.startswith(f"libpython{short}")
              and ".so" in n]
    for file in (m.real_path(program), *shared):
        for before, after in m.around(file, f"{short}.".encode()):
            hit = re.match(rb"(?<!\d)\d{1,4}(?:(?:a|b|rc)\d{1,4})?(?=\+?\0)", after)
            if hit and not before.isdigit() and before != b".":  # "1.3.11.7" would be something else's
                return f"{short}.{hit.group(0).decode()}"
    return None
