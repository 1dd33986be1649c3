"""``why`` on Windows and macOS: what their loaders say, their files and folders, their command lines."""

from __future__ import annotations

from collections.abc import Mapping

import pytest

from kalyx.core.answers.why.without_running import answer_without_run
from kalyx.core.facts.native.dlls import needed_dlls, walk_dlls
from kalyx.core.model import Frame, ObservedError
from tests.support.made_up import MadeUpMachine
from tests.support.other_systems import MACOS, SEED, WINDOWS, X86_64, System, mach_file
from tests.support.windows_files import X86, windows_file

PART = rf"{WINDOWS.site}\seed\_x.cp311-win_amd64.pyd"
BUNDLE = f"{MACOS.site}/seed/_x.cpython-311-darwin.so"
AGAIN = r'"C:\Users\ada\my lab\.venv\Scripts\python.exe" -m pip install --force-reinstall --no-deps seed==1.0'
AGAIN_THERE = "~/'my lab/.venv/bin/python' -m pip install --force-reinstall --no-deps seed==1.0"
RUNTIME = "Visual C++ runtime"


def part(*needs: str, machine: int = 0x8664, **more: bytes) -> dict[str, str | bytes]:
    """Return the package with a compiled part that needs these DLLs."""
    return {**SEED, PART: windows_file(needs, machine), **more}


def dll(says: str) -> ObservedError:
    """Return the error of a compiled part that Windows did not load."""
    return WINDOWS.in_package(f"DLL load failed while importing _x: {says}", file=PART)


def bundle(says: str) -> ObservedError:
    """Return the error of a compiled part that macOS did not load."""
    return MACOS.in_package(f"dlopen({BUNDLE}, 0x0002): {says}", file=BUNDLE)


def absent(name: str, file: str = "") -> ObservedError:
    """Return the error of a module that is not there, asked for by a file or by the person."""
    return ObservedError("ModuleNotFoundError", f"No module named '{name}'", name, None,
                         (Frame(file, 1, "<module>"),) if file else ())


# what it is: (module, error, files, cause, words of the answer, the first thing to do)
ON_WINDOWS: dict[str, tuple[str, ObservedError, Mapping[str, str | bytes], str, tuple[str, ...], str]] = {
    "not there": (
        "nope", absent("nope"), {}, "not-installed", (r"; env ~\my lab\.venv\Lib\site-packages",),
        r'"C:\Users\ada\my lab\.venv\Scripts\python.exe" -m pip install nope'),
    "another name": (
        "cv2", absent("cv2"), {}, "name-differs", ("opencv-python",),
        r'"C:\Users\ada\my lab\.venv\Scripts\python.exe" -m pip install opencv-python'),
    "a dependency": (
        "seed", absent("zork", rf"{WINDOWS.site}\seed\__init__.py"), SEED, "dependency-absent",
        ("seed 1.0 declares: zork>=2",),
        r'"C:\Users\ada\my lab\.venv\Scripts\python.exe" -m pip install "zork>=2"'),
    "of another Python": (
        "seed", ObservedError("ImportError", "cannot import name '_x' from partially initialized module 'seed' "
                              rf"(most likely due to a circular import) ({WINDOWS.site}\seed\__init__.py)",
                              "seed",
                              None, (Frame(rf"{WINDOWS.site}\seed\__init__.py", 1, "<module>"),)),
        {**SEED, r"seed\_x.cp310-win_amd64.pyd": windows_file()}, "foreign-abi",
        ("CPython 3.10 on win_amd64", "CPython 3.11.9"), AGAIN.replace("seed==1.0", '"seed>=1.0"')),
    "for 32 bits": (
        "seed", dll("%1 is not a valid Win32 application."), part(machine=X86), "foreign-platform",
        ("PE, 32 bits, x86", "Windows on x86-64"), AGAIN),
    "for 32 bits, in German": (
        "seed", dll("%1 ist keine zulässige Win32-Anwendung."), part(machine=X86), "foreign-platform", (),
        AGAIN),
    "for macOS": (
        "seed", dll("%1 is not a valid Win32 application."), {**SEED, PART: mach_file()}, "foreign-platform",
        ("is made for macOS on AArch64",), AGAIN),
    "a DLL of the package": (
        "seed", dll("The specified module could not be found."),
        part("python311.dll", "KERNEL32.dll", "api-ms-win-crt-heap-l1-1-0.dll", "zork-1.dll"),
        "library-missing",
        ("needs zork-1.dll, which Windows does not find", r"C:\Windows\System32"), AGAIN),
    "a DLL further down": (
        "seed", dll("The specified module could not be found."),
        {**part("zork-1.dll"), r"seed.libs\zork-1.dll": windows_file(["Deep.dll"]),
         r"C:\tools\deep.dll": windows_file()}, "library-missing",
        ("needs Deep.dll", r"seed.libs\zork-1.dll", r"C:\tools\Deep.dll is there, where Windows does not look"),
        AGAIN),
    "the compiler's runtime": (
        "seed", dll("The specified module could not be found."), part("python311.dll", "MSVCP140.dll"),
        "library-missing",
        ("needs MSVCP140.dll",), RUNTIME),
    "a DLL, nobody knows which": (
        "seed", WINDOWS.in_package("DLL load failed: Das angegebene Modul wurde nicht gefunden.", file=PART),
        part("python311.dll", "VCRUNTIME140.dll"), "library-missing",
        ("needs a DLL that Windows does not find",),
        AGAIN),
    "a DLL that does not start": (
        "seed", dll("A dynamic link library (DLL) initialization "
                                   "routine failed."), part("python311.dll"), "library-missing",
        ("found and could not start",), RUNTIME),
    "a DLL of another version": (
        "seed", dll("The specified procedure could not be found."), {**part("zork.dll"),
        r"seed\zork.dll": windows_file()},
        "symbol-missing", (r"zork.dll is found as ~\my lab\.venv\Lib\site-packages\seed\zork.dll",), AGAIN),
    "the same, in French": (
        "seed", dll("La procédure spécifiée est introuvable."), part("python311.dll"), "symbol-missing", (),
        AGAIN),
    "loaded by ctypes": (
        "seed", WINDOWS.in_package("[WinError 126] The specified module could not be found. Error loading \""
                                   rf"{WINDOWS.site}\seed\core.dll" '" or one of its dependencies.', "OSError"),
        {**SEED, r"seed\core.dll": windows_file(["gone.dll"])}, "library-missing",
        ("The compiled part core.dll of seed 1.0 needs gone.dll",), AGAIN),
    "loaded by ctypes, not there": (
        "seed", WINDOWS.in_package(rf"Could not find module '{WINDOWS.site}\seed\core.dll' (or one of its "
                                   "dependencies). Try using the full path with constructor syntax.",
                                   "FileNotFoundError"), SEED, "library-missing",
        (r"seed\core.dll, which is not there",), AGAIN),
    "not allowed": (
        "seed", dll("An Application Control policy has blocked "
                                   "this file."), part("python311.dll"), "file-unreadable",
        ("does not let", "it says: An Application Control policy has blocked this file"), AGAIN),
    "cut off": (
        "seed", dll("%1 is not a valid Win32 application."), {**SEED, PART: b"MZ"}, "file-corrupt",
        ("only 2 bytes long",), AGAIN),
    "own file": (
        "tempfile", ObservedError(
            "ImportError", r"cannot import name 'Random' from 'random' (C:\Users\ada\my lab\random.py)",
            "random",
            r"C:\Users\ada\my lab\random.py", (Frame(rf"{WINDOWS.base}\Lib\tempfile.py", 1, "<module>"),)),
        {r"C:\Users\ada\my lab\random.py": "x = 1\n"}, "hidden-by-file",
        (r"Your own ~\my lab\random.py hides the standard library's random",),
        r'move "C:\Users\ada\my lab\random.py" "C:\Users\ada\my lab\my_random.py"'),
}
ON_MACOS: dict[str, tuple[str, ObservedError, Mapping[str, str | bytes], str, tuple[str, ...], str]] = {
    "not there": (
        "nope", absent("nope"), {}, "not-installed", ("; env ~/my lab/.venv/lib/python3.11",),
        "~/'my lab/.venv/bin/python' -m pip install nope"),
    "for Intel": (
        "seed", bundle(f"tried: '{BUNDLE}' (mach-o file, but is an incompatible architecture "
                                 "(have 'x86_64', need 'arm64'))"),
        {**SEED, BUNDLE: mach_file(X86_64)}, "foreign-platform", ("Mach-O, 64 bits, x86-64",
        "macOS on AArch64"),
        AGAIN_THERE),
    "for Linux": (
        "seed", bundle(f"tried: '{BUNDLE}' (not a mach-o file)"),
        {**SEED, BUNDLE: b"\x7fELF\x02\x01\x01" + bytes(11) + b"\x3e" + bytes(200)}, "foreign-platform",
        ("is made for Linux on x86-64",), AGAIN_THERE),
    "a library": (
        "seed", bundle(
            f"Library not loaded: @rpath/libzork.3.dylib\n  Referenced from: <1F-2> {MACOS.site}/seed/"
            "libstem.dylib\n  Reason: tried: '/usr/local/lib/libzork.3.dylib' (no such file), "
            "'/opt/lib/libzork.3.dylib' (mach-o file, but is an incompatible architecture (have 'x86_64', need "
            "'arm64'))"), {**SEED, BUNDLE: mach_file()}, "library-missing",
        ("needs the shared library libzork.3.dylib", f"asked for by ~{MACOS.site[10:]}/seed/libstem.dylib",
         "the loader tried /usr/local/lib/libzork.3.dylib: no such file",
         "incompatible architecture (have 'x86_64', need 'arm64')"), "brings libzork.3.dylib"),
    "a library that is elsewhere": (
        "seed", bundle(f"Library not loaded: @rpath/libzork.3.dylib\n  Referenced from: {BUNDLE}\n"
                                 "  Reason: image not found"),
        {**SEED, BUNDLE: mach_file(), "/opt/homebrew/lib/libzork.3.dylib": mach_file()}, "library-missing",
        ("it is in /opt/homebrew/lib",), "Have DYLD_LIBRARY_PATH hold /opt/homebrew/lib"),
    "a symbol": (
        "seed", bundle("symbol not found in flat namespace '_zork_open'"),
        {**SEED, BUNDLE: mach_file()}, "symbol-missing",
        ("needs zork_open, which the libraries of this machine do "
                                                          "not have",), AGAIN_THERE),
    "a symbol of a library": (
        "seed", bundle(f"Symbol not found: _zork_open\n  Referenced from: <3E> {BUNDLE}\n"
                                 "  Expected in: <4A> /usr/lib/libzork.dylib"),
        {**SEED, BUNDLE: mach_file()}, "symbol-missing",
        ("zork_open, which /usr/lib/libzork.dylib does not have",),
        AGAIN_THERE),
    "a signature": (
        "seed", bundle(f"tried: '{BUNDLE}' (code signature in <9C> '{BUNDLE}' not valid for use in "
                                 "process: library load disallowed by system policy)"),
        {**SEED, BUNDLE: mach_file()}, "file-unreadable", ("The system does not let", "$ xattr -d "),
        AGAIN_THERE),
}


@pytest.mark.parametrize(("system", "what"), [
    *[(WINDOWS, name) for name in ON_WINDOWS], *[(MACOS, name) for name in ON_MACOS]],
    ids=lambda x: x if isinstance(x, str) else x.platform)
def test_import_that_failed_there(system: System, what: str) -> None:
    """The cause, what tells of it, and the first remedy in the form that the system's shell takes."""
    module, error, files, cause, words, todo = (ON_WINDOWS if system is WINDOWS else ON_MACOS)[what]
    answer, page = system.why(module, error, files)
    found = answer.imports[0].causes
    assert [f.cause for f in found][:1] == [cause], page
    assert all(word in page for word in words), page
    lines = page.split("what to do\n")[1].splitlines()
    command = next((line[2:] for line in lines if line.startswith("$ ")), "")
    assert todo in (command, lines[0]) or todo in lines[0], page


@pytest.mark.parametrize("system", [WINDOWS, MACOS], ids=lambda s: s.platform)
def test_read_alone_there(system: System) -> None:
    """Without a run: a module's file and layer, a missing one, and one that is in another environment."""
    context = system.context({**SEED, "seed/_x.py": "", "zork.py": ""})
    answer = answer_without_run(context, ["seed", "zork", "nope", "os"], f"python:{system.python}")
    m = context.machine
    assert [(r.layer, [f.cause for f in r.causes]) for r in answer.imports] == [
        ("env", []), ("env", []), (None, ["not-installed"]), ("stdlib", [])]
    assert answer.imports[0].origin == m.path.join(system.site, "seed", "__init__.py")
    assert m.ran == []


def test_import_tables() -> None:
    """Names of DLLs are read out of 32 and 64 bits; of anything else, nothing; rings end."""
    files = {r"C:\a\x.pyd": windows_file(["Zork.dll", "api-ms-win-core-1.dll"]),
             r"C:\a\y.pyd": windows_file(["zork.dll"], X86), r"C:\a\zork.dll": windows_file(["deep.dll",
             "X.pyd"]),
             r"C:\a\cut.pyd": windows_file(["zork.dll"])[:700], r"C:\a\text.pyd": "no"}
    here = MadeUpMachine("win32", {**files, r"D:\W\System32\k.dll": windows_file()},
    env={"SystemRoot": r"D:\W"})
    assert [needed_dlls(here, rf"C:\a\{n}.pyd") for n in ("x", "y", "text", "none")] == [
        ["Zork.dll", "api-ms-win-core-1.dll"], ["zork.dll"], [], []]
    assert isinstance(needed_dlls(here, r"C:\a\cut.pyd"), list)
    walked = {n.name: n.path for n in walk_dlls(here, r"C:\a\x.pyd", ())}
    assert walked == {"Zork.dll": r"C:\a\Zork.dll", "deep.dll": None, "X.pyd": r"C:\a\X.pyd"}
    unknown = MadeUpMachine("win32", files)  # its system folder cannot be seen: nothing is said
    assert walk_dlls(unknown, r"C:\a\x.pyd", ()) == []
