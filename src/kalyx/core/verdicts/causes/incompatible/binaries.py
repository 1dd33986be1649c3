"""Group C: it is here, and made for another interpreter."""

from __future__ import annotations

import re

from kalyx.core.errors import NotRecorded, Unreadable
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.remedies import pip
from kalyx.core.verdicts.remedies.variables import brought_in, without_variable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.facts.native.binaries import Binary
    from kalyx.core.model import ObservedError
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["describe_tag", "foreign_abi", "foreign_platform"]

_C_LIBRARIES = ("libc.so", "libc.musl", "ld-musl")  # the same system's other C library goes by another of these names

_WRONG_FORM = re.compile(r"wrong ELF class|invalid ELF header|wrong architecture|incompatible|"
                         r"not a valid Win32|%1 .*Win32|WinError 193|mach-o|"
                         r"libc\.musl|libc\.so\.6: cannot|cannot open shared|"
                         r"Error relocating|Exec format error")

_LOADER_SAYS = re.compile(
    r"does not define (?:module export|init) function|undefined symbol: _?Py|"
    r"Module use of python\d+\.dll conflicts|Symbol not found: _?_Py")


@cause("foreign-platform", "its binary is for another machine or system",
       asks="traces", family="unfit", after=("file-unreadable",),
       why_here="a file for another machine would look damaged to all that follow")
def foreign_platform(case: Case, failure: Failure | None) -> Finding | None:
    """Compare the header of the compiled file with that of the interpreter itself.

    Looks like: `wrong ELF class`, `invalid ELF header`, `wrong architecture`, or a compiled part that
        is not found.
    Why: The compiled part is for another system or processor: copied from another computer, or
        installed for another platform.
    How Kalyx knows: The file's header (ELF, Mach-O or PE) is compared with that of the interpreter
        itself.
    What to do: Install the package again on this machine.
    """
    files = [f for _, found in _unloadable(case, failure) for f in found]
    files += [e.path for e in case.obs.chain if e.path and _WRONG_FORM.search(e.message)]
    if any(_is_past_it(e) for e in case.obs.chain):
        return None
    mine = case.modules.loader.program if files else None
    if mine is None or mine.trouble:
        return _wheel_for_others(case, failure)
    for file in files:
        made = case.modules.loader.read(file)
        if not made.machines:
            continue
        wrong = (made.form != mine.form or not set(made.machines) & set(mine.machines)
                 or made.bits != mine.bits)
        libc = made.is_musl != mine.is_musl and made.form == "ELF" and _needs_libc(made)
        if not wrong and not libc:
            continue
        for_what = f"{made.system} on {' and '.join(made.machines)}" if wrong else (
            "the musl C library" if made.is_musl else "the GNU C library")
        this = f"{mine.system} on {mine.machines[0]}" if wrong else (
            "the musl C library" if mine.is_musl else "the GNU C library")
        owner = case.distributions.of(file)
        return Finding.error(
            "foreign-platform", "certain",
            f"The compiled part {file} is made for {for_what}, and this Python for {this}.",
            (Evidence(f"its header says: {made.form}, {made.bits} bits, {', '.join(made.machines)}", file),
             Evidence(f"the interpreter's says: {mine.form}, {mine.bits} bits, {mine.machines[0]}", mine.path),
             *(() if wrong else (Evidence(f"it needs {_libc(made)}", file),
                                 Evidence(f"the interpreter needs {_libc(mine)}", mine.path))),
             *([Evidence(f"it belongs to {owner.name} {owner.version}", owner.metadata)] if owner else [])),
            _remedies(case, file, case.modules.layer_of_file(file), owner.name if owner else None,
                      owner.version if owner else None))
    return _wheel_for_others(case, failure)


def _is_past_it(error: ObservedError) -> bool:
    """Whether the loader has taken a part and complains of what that needs: then the part is for this machine."""
    lacks = re.search(r"(?<![^\s:/])([^\s:/]{1,200}): cannot open shared object file", error.message)
    return lacks is not None and bool(error.path) and not str(error.path).endswith(lacks[1]) and (
        not lacks[1].startswith(_C_LIBRARIES))


def _wheel_for_others(case: Case, failure: Failure | None) -> Finding | None:
    """Find a distribution that lacks a part of its own and, by its WHEEL file, was built for another system."""
    if failure is None or ("." not in failure.module and failure.name is None):
        return None
    owner = case.distributions.of(case.modules.file_of(failure.top))
    own = {"linux": "linux", "darwin": "macosx", "win32": "win"}.get(case.python.platform)
    if owner is None or own is None:
        return None
    file = case.files.path.join(owner.metadata, "WHEEL")
    try:
        text = case.files.read_beginning(file, 65536)
    except (Unreadable, NotRecorded):
        return None
    systems = [line.split("-")[-1].strip() for line in text.splitlines() if line.startswith("Tag:")]
    if not systems or any(s == "any" or own in s for s in systems):
        return None
    return Finding.error(
        "foreign-platform", "certain",
        f"{owner.name} {owner.version} was built for {systems[0]}, and this is {case.python.platform}: "
        f"what it loads here, {failure.name or failure.module}, is not in it.",
        (Evidence(f"its WHEEL file says: {', '.join(systems[:3])}", str(file)),
         Evidence(f"{owner.name} {owner.version} was asked for it", case.modules.file_of(failure.top))),
        pip.reinstall(case, owner.name, owner.version, "for this system"))


def _libc(made: Binary) -> str:
    """Return the C library that a file names among those that it needs; a static program names none."""
    return next((n for n in made.needed if n.startswith(_C_LIBRARIES)), "no C library by name")


def _needs_libc(made: Binary) -> bool:
    return any(n.startswith(_C_LIBRARIES) for n in made.needed)


@cause("foreign-abi", "an extension module is here, with a suffix that this interpreter cannot load",
       asks="traces", family="unfit", not_beside=("foreign-platform",),
       why_here="of a file that is for another system its suffix says nothing more")
def foreign_abi(case: Case, failure: Failure | None) -> Finding | None:
    """Find the compiled file for the missing module that another interpreter made.

    Looks like: `No module named 'a._part'`, or `undefined symbol: Py...`, from a package that is
        installed.
    Why: Its compiled part was made for another Python: another version, PyPy, a debug or free-threaded
        build. Often the package was copied from another environment.
    How Kalyx knows: A compiled file of that name is here, and its suffix is none that this interpreter
        loads.
    What to do: Install the package again with this interpreter.
    """
    for module, files in _unloadable(case, failure):
        return _finding(case, module, files)
    error = case.obs.error
    if error is not None and error.path and _LOADER_SAYS.search(error.message) \
            and not case.modules.is_made_for_it(error.path):
        return _finding(case, error.name or case.obs.module, [error.path], error.message)
    return None


def _unloadable(case: Case, failure: Failure | None) -> Iterator[tuple[str, list[str]]]:
    """Yield the missing modules of which compiled files are here, with suffixes of others only."""
    for module in _wanted(case, failure):
        head, _, name = module.rpartition(".")
        folders = case.modules.search_folders(head) if head else case.modules.folders
        for folder in folders:
            files = case.modules.finder.extensions_in(folder, name)
            loadable = {case.files.path.join(folder, name + s) for s in case.modules.finder.suffixes}
            if files and not loadable & set(files):
                yield module, files


def _wanted(case: Case, failure: Failure | None) -> list[str]:
    """Return the modules whose compiled file may be the missing one.

    Every exception of the chain is read: packages often catch the first one
    and raise advice of their own.
    """
    names: list[str] = []
    if failure is not None:
        names += [f"{failure.module}.{failure.name}"] if failure.name else []
        names.append(failure.module)
    for error in case.obs.chain[1:]:
        names += re.findall(r"No module named '([\w.]+)'", error.message)
        names += [f"{m}.{n}" for n, m in re.findall(
            r"cannot import name '(\w+)' from (?:partially initialized module )?'([\w.]+)'",
            error.message)]
    return list(dict.fromkeys(names))


def describe_tag(file: str) -> str:
    """Say in words which interpreter a compiled file's name is for."""
    match = re.search(r"\.(?:cpython-|cp)(\d)(\d+)([a-z]*)-([\w-]+?)\.(?:so|pyd|dylib)$", file)
    if match:
        major, minor, flags, platform = match.groups()
        kind = "".join({"t": ", free-threaded", "d": ", debug build"}.get(f, "") for f in flags)
        return f"CPython {major}.{minor}{kind} on {platform}"
    match = re.search(r"\.pypy(\d)(\d+)-", file)
    if match:
        return f"PyPy {match.group(1)}.{match.group(2)}"
    return "another interpreter"


def _finding(case: Case, module: str, files: list[str], loader_says: str = "") -> Finding:
    file = files[0]
    owner = case.distributions.of(file)
    layer = case.modules.layer_of_file(file)
    made_for = describe_tag(file)
    kind = {"cpython": "CPython", "pypy": "PyPy"}.get(
        case.python.implementation, "Python")
    here = f"{kind} {case.python.version}"
    evidence = [Evidence(f"{f} is for {describe_tag(f)}", f) for f in files[:4]]
    evidence.append(Evidence(f"{case.python.executable} loads {', '.join(case.modules.finder.suffixes)}",
                             case.python.executable))
    if loader_says:
        evidence.append(Evidence(f"the loader says: {loader_says}", file))
    if owner is not None:
        evidence.append(Evidence(f"it belongs to {owner.name} {owner.version}", owner.metadata))
    return Finding.error(
        "foreign-abi", "likely" if loader_says else "certain",
        f"The compiled part {module} was made for {made_for}, and this is {here}.",
        tuple(evidence), _remedies(case, file, layer, owner.name if owner else None,
                                   owner.version if owner else None))


def _remedies(case: Case, file: str, layer: str | None, name: str | None,
              version: str | None) -> tuple[Remedy, ...]:
    if layer == "pythonpath":
        entry = next((x.path for x in case.modules.layers if x.layer == "pythonpath"
                      and case.files.is_within(file, x.path)), "")
        if brought_in(case.files, case.seat, "PYTHONPATH", entry):
            return (without_variable(case.files, case.seat, "PYTHONPATH", entry),)
        return (Remedy(f"Take {entry} out of PYTHONPATH: it holds packages of another Python; "
                       f"then put {name or 'the package'} into {case.environment_name}.", "manual",
                       changes="the variable PYTHONPATH, where it is set"),)
    if name and version:
        from kalyx.core.verdicts.remedies.rebuild import made_for_here

        built = made_for_here(case, case.distributions.of(file), file)
        if built:
            return built
        return pip.reinstall(case, name, version, "with this interpreter, which builds or "
                                  "fetches the part made for it", _direction(case, file, name))
    return pip.build_again(case, file)


def _direction(case: Case, file: str, name: str) -> str:
    """Return which versions to choose from: one made for an older Python may have come before this one."""
    made = re.search(r"\.(?:cpython-|cp|pypy)(\d)(\d+)", file)
    owner = case.distributions.named(name)
    if made is None or owner is None:
        return "=="
    python = int(made.group(1)), int(made.group(2))
    try:
        head = case.files.read_beginning(case.files.path.join(owner.metadata, "METADATA"), 262_144)
    except Unreadable:
        head = ""
    if python == case.python.version_pair or f"Python :: {case.python.short_version}\n" in head:
        return "=="
    return ">=" if python < case.python.version_pair else "<="
