"""Runs the command in copies of one process that has loaded it already: a new interpreter proves nothing more.

Each run is a process of its own, with its own variables, folder and output. How Kalyx itself is started has
tests that run the real program: see `REAL` in conftest.py, and the mark `real`.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path

from tests.support.measured import SHARED, VARIABLE, is_first, kind_of, measured_here

__all__ = ["Forked"]

LIMIT = 120  # seconds, as of any other command that tests run
# What Python itself obeys when it starts, and not later
AT_START = ("LC_ALL", "LC_CTYPE", "PYTHONIOENCODING", "PYTHONUTF8", "PYTHONHOME", "PYTHONWARNINGS")
LANG = "C.UTF-8"
# Reads one request for each run, as a line of JSON; answers with the exit status
SERVER = """
import gc, importlib, json, os, pkgutil, resource, signal, sys, traceback
if os.fork():
    os._exit(0)  # what goes on is no child of the tests: those that run Kalyx's own code end what they find as one
os.setsid()
measured = sys.argv[1:]  # the folder that is told which lines were run, where that is measured
if measured:
    sys.path.insert(0, sys.argv[2])
    from tests.support.measured import is_first, lines_of_this_process, save
    lines = lines_of_this_process()
    if is_first("loading"):
        lines.start()
import kalyx
from kalyx.__main__ import main
for found in pkgutil.walk_packages(kalyx.__path__, "kalyx."):
    if not found.name.startswith(("kalyx.__main__", "kalyx.probe", "kalyx.demo")):
        importlib.import_module(found.name)
for name in ("difflib", "elftools.elf.elffile", "heapq", "packaging.requirements"):  # what is loaded when it is needed
    importlib.import_module(name)
if measured:
    lines.stop()
    save(lines, measured[0])
    lines.erase()
    lines.start()  # here, as it takes longer than most of what is then run in the copies
gc.freeze()

def bind():  # have permissions bind this process and what it starts, as they do not bind the administrator
    import ctypes
    library = ctypes.CDLL(None)
    header, sets = (ctypes.c_uint32 * 2)(0x20080522), (ctypes.c_uint32 * 6)()
    for number in (1, 2):  # CAP_DAC_OVERRIDE, CAP_DAC_READ_SEARCH
        library.prctl(24, number, 0, 0, 0)  # PR_CAPBSET_DROP
    library.capget(header, sets)
    sets[:3] = [one & ~0b110 for one in sets[:3]]
    library.capset(header, sets)

def run(asked):
    os.setsid()
    os.dup2(os.open(asked["input"], os.O_RDONLY), 0)
    for number, file in ((1, asked["out"]), (2, asked["err"])):
        os.dup2(os.open(file, os.O_WRONLY), number)
    os.closerange(3, 256)
    os.chdir(asked["cwd"])
    os.environ.clear()
    os.environ.update(asked["env"])
    if asked["bound"]:
        bind()
    if asked["memory"]:
        resource.setrlimit(resource.RLIMIT_AS, (asked["memory"], asked["memory"]))
    sys.argv[:] = asked["argv"]
    if asked["measure"]:
        end = os._exit
        os._exit = lambda status: (lines.stop(), save(lines, measured[0]), end(status))
    elif measured:
        lines.stop()
    exec(asked["code"], {"__name__": "__main__"}) if asked["code"] else main()

for line in sys.stdin:
    pid = os.fork()
    if not pid:
        status = 70
        try:
            run(json.loads(line))
            sys.stdout.flush()
            status = 0
        except SystemExit as end:  # of --help and --version
            sys.stdout.flush()
            status = end.code or 0
        except BaseException:
            traceback.print_exc()
        finally:
            os._exit(status)
    signal.signal(signal.SIGALRM, lambda *_: os.kill(pid, signal.SIGKILL))
    signal.alarm(SECONDS)
    status = os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])
    print(status, signal.alarm(0), flush=True)
"""


class Forked:
    """A process that waits with the command loaded."""

    def __init__(self, program: str) -> None:
        self._program = program
        self._server = subprocess.Popen(
            [sys.executable, "-I", "-c", SERVER.replace("SECONDS", str(LIMIT)), *measured_here()],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, env={
                "LANG": LANG, "PATH": os.defpath, **{n: os.environ[n] for n in (VARIABLE, SHARED) if n in os.environ}})
        self._server.wait()

    def can_run(self, env: Mapping[str, str]) -> bool:
        """Whether a process that is running already can do what one with these variables would."""
        return env.get("LANG") == LANG and not any(name in env for name in AT_START)

    def _is_measured(self, arguments: Sequence[str]) -> bool:
        """Whether a run is the first of its kind, where those are measured."""
        return is_first(kind_of(os.environ.get("PYTEST_CURRENT_TEST", ""), arguments))

    def run(self, arguments: Sequence[str], cwd: Path, env: Mapping[str, str], *, code: str = "",
            given: str = "", bound: bool = False, memory: int = 0) -> subprocess.CompletedProcess[str]:
        """Run the command, or Python code in its place; raises TimeoutExpired as `subprocess.run` does.

        `given`: what it reads; `bound`: permissions bind it; `memory`: the bytes that it may have.
        """
        argv = [self._program, *map(os.fspath, arguments)]
        assert self._server.stdin is not None and self._server.stdout is not None
        with (tempfile.NamedTemporaryFile() as out, tempfile.NamedTemporaryFile() as err,
              tempfile.NamedTemporaryFile("w", encoding="utf-8") as read):
            read.write(given)
            read.flush()
            request = {"argv": argv, "cwd": str(cwd), "env": dict(env), "out": out.name, "err": err.name, "code": code,
                       "input": read.name if given else os.devnull, "bound": bound, "memory": memory,
                       "measure": bool(measured_here()) and self._is_measured(arguments)}
            self._server.stdin.write(json.dumps(request) + "\n")
            self._server.stdin.flush()
            status, left = map(int, self._server.stdout.readline().split())
            if not left:
                raise subprocess.TimeoutExpired(argv, LIMIT)
            return subprocess.CompletedProcess(argv, status, out.read().decode(), err.read().decode())

    def end(self) -> None:
        """End the process that waits."""
        assert self._server.stdin is not None and self._server.stdout is not None
        self._server.stdin.close()
        self._server.stdout.close()
