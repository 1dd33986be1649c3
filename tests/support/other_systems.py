"""Imports that failed on Windows and on macOS: their files made up, the messages worded as there."""

from __future__ import annotations

import struct
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from kalyx.core.answers.why.module import WhyAnswer
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.imports.case import Case
from kalyx.core.facts.seats.context import SeatContext
from kalyx.core.facts.seats.finder import find_seat
from kalyx.core.model import Frame, Observation, ObservedError, RunningPython
from kalyx.core.verdicts.judge_import import judge_import
from kalyx.core.verdicts.seats.judge_seat import judge_seat
from kalyx.show.page import Page
from kalyx.show.pages import why
from tests.support.made_up import MadeUpMachine
from tests.support.windows_files import windows_file

X86_64, AARCH64 = 0x01000007, 0x0100000C


def mach_file(cpu: int = AARCH64) -> bytes:
    """Return the head of a 64-bit Mach-O bundle for a processor."""
    return b"\xcf\xfa\xed\xfe" + struct.pack("<IIIIIII", cpu, 0, 8, 0, 0, 0, 0) + bytes(400)


@dataclass(frozen=True)
class System:
    """A computer with one Python 3.11 and an environment of it, which has pip."""

    platform: str
    home: str
    base: str
    lab: str
    site: str
    python: str
    search: Sequence[str]
    suffixes: Sequence[str]
    files: Mapping[str, str | bytes]
    env: Mapping[str, str] = field(default_factory=dict)

    def context(self, files: Mapping[str, str | bytes]) -> SeatContext:
        """Return what finds seats on it; names of files without a root lie in the site folder."""
        sep = "\\" if self.platform == "win32" else "/"
        placed = {name if name[:1] == "/" or name[1:2] == ":" else self.site + sep + name.replace("/",
        sep): text
                  for name, text in {**PIP, **files}.items()}
        lab = self.lab.rpartition(sep)[0]
        machine = MadeUpMachine(self.platform, {**self.files, **placed}, env=self.env, cwd=lab, home=self.home)
        return SeatContext(machine, lab, "/kalyx/probe", asks_when_read=False)

    def why(self, module: str, error: ObservedError, files: Mapping[str, str | bytes]) -> tuple[WhyAnswer, str]:
        """Explain an import that ended with an error; return the answer, and the page as printed."""
        context = self.context(files)
        facts, neighbours = find_seat(context, f"python:{self.python}"), Neighbours(context.machine, context)
        seat = judge_seat(facts, context.machine, neighbours)
        said = RunningPython("3.11.9", "cpython", self.python, self.lab, self.base, ("", *self.search, self.site),
                             context.machine.cwd, platform=self.platform, suffixes=tuple(self.suffixes),
                             builtin=["sys"], stdlib=["json", "os", "random"])
        case = Case(context.machine, seat, Observation(module, None, "fails", said, (error,)), neighbours)
        answer = WhyAnswer(seat, (judge_import(case),))
        page = Page(self.home, self.platform == "win32", ("kalyx",))
        why.lay_out(page, answer, verbose=True)
        return answer, "\n".join(line.lead + line.text for line in page.lines)

    def in_package(self, message: str, kind: str = "ImportError", file: str = "") -> ObservedError:
        """Return an error that the first line of the package seed ended with; `file` is the one that failed."""
        sep = "\\" if self.platform == "win32" else "/"
        frame = Frame(sep.join((self.site, "seed", "__init__.py")), 1, "<module>")
        return ObservedError(kind, message, "_x" if file else None, file or None, (frame,))


PIP = {"pip/__init__.py": "", "pip/__main__.py": "",
"pip-24.0.dist-info/METADATA": "Name: pip\nVersion: 24.0\n"}
SEED = {"seed/__init__.py": "from seed import _x\n",
        "seed-1.0.dist-info/METADATA": "Name: seed\nVersion: 1.0\nRequires-Dist: zork>=2\n",
        "seed-1.0.dist-info/RECORD": "seed/__init__.py,,\n"}

_BASE = r"C:\Program Files\Python311"
_LAB = r"C:\Users\ada\my lab\.venv"
WINDOWS = System(
    "win32", r"C:\Users\ada", _BASE, _LAB, rf"{_LAB}\Lib\site-packages", rf"{_LAB}\Scripts\python.exe",
    (rf"{_BASE}\python311.zip", rf"{_BASE}\DLLs", rf"{_BASE}\Lib", _BASE, _LAB), (".cp311-win_amd64.pyd",
    ".pyd"),
    {rf"{_BASE}\python.exe": windows_file(["python311.dll"]), rf"{_BASE}\Lib\os.py": "",
     rf"{_BASE}\Lib\random.py": "", rf"{_BASE}\Lib\tempfile.py": "from random import Random\n",
     rf"{_BASE}\Lib\ensurepip\__init__.py": "", rf"{_BASE}\Include\patchlevel.h": '#define PY_VERSION "3.11.9"',
     rf"{_BASE}\python311.dll": windows_file(["KERNEL32.dll"]), rf"{_BASE}\vcruntime140.dll": windows_file(),
     r"C:\Windows\System32\kernel32.dll": windows_file(), rf"{_LAB}\pyvenv.cfg": f"home = {_BASE}\n",
     rf"{_LAB}\Scripts\python.exe": windows_file(["KERNEL32.dll"])},
    {"PATH": rf"{_LAB}\Scripts;C:\tools", "APPDATA": r"C:\Users\ada\AppData\Roaming"})
_FRAME = "/Library/Frameworks/Python.framework/Versions/3.11"
_MAC = "/Users/ada/my lab/.venv"
MACOS = System(
    "darwin", "/Users/ada", _FRAME, _MAC, f"{_MAC}/lib/python3.11/site-packages", f"{_MAC}/bin/python",
    (f"{_FRAME}/lib/python311.zip", f"{_FRAME}/lib/python3.11", f"{_FRAME}/lib/python3.11/lib-dynload"),
    (".cpython-311-darwin.so", ".abi3.so", ".so"),
    {f"{_FRAME}/bin/python3.11": mach_file(), f"{_FRAME}/lib/python3.11/os.py": "",
     f"{_FRAME}/include/python3.11/patchlevel.h": '#define PY_VERSION "3.11.9"',
     f"{_MAC}/pyvenv.cfg": f"home = {_FRAME}/bin\n", f"{_MAC}/bin/python": f"->{_FRAME}/bin/python3.11"},
    {"PATH": f"{_MAC}/bin:/usr/bin"})
