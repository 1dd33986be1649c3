"""Runs an import in a seat's own interpreter and reads what the probe wrote down."""

from __future__ import annotations

import os
import re
import sys
import time
from _frozen_importlib_external import MAGIC_NUMBER  # `importlib.util` has it too, and takes long to load

from kalyx.core.errors import Unreadable
from kalyx.core.facts.imports.kept_observation import as_data, observation_of
from kalyx.core.lean.record import names_of, replace
from kalyx.core.model import Frame, Observation, ObservedError, RunningPython

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence
    from typing import Any

    from kalyx.core.machine.interface import Machine
    from kalyx.core.machine.results import RunResult
    from kalyx.core.model import Interpreter, Launch
    from kalyx.core.model.kinds import Outcome

__all__ = ["BOOT", "Attempt", "observe_imports", "start_word"]

# Runs the probe from its source: any Python from 2.7 on does that.
BOOT = ("import sys\nf=open(sys.argv[1],'rb');c=compile(f.read(),sys.argv[1],'exec');f.close()\n"
        "exec(c,{'__name__':'kalyx_probe'})")
# Runs it from the bytecode that Kalyx's own installation keeps, where the seat's Python is of the
# same version: compiling the probe takes as long as a third of an interpreter's start.
# Read whole: `marshal.load` would ask the file for each of its thousands of parts.
BOOT_COMPILED = ("import sys,marshal\nf=open(sys.argv[1],'rb');f.seek(16);c=marshal.loads(f.read());"
                 "f.close()\nexec(c,{'__name__':'kalyx_probe'})")
RESULT_LIMIT = 64 * 1024 * 1024
OUTPUT_SHOWN = 4000
MOST_RUNS = 20  # children for one file: a new one after each crash


class Attempt:
    """One import that is being tried in a child of the seat's interpreter.

    The child gets the seat's variables, folder and first path entry, no input,
    and `limit` seconds; all that it started is ended with it.
    """

    def __init__(self, machine: Machine, launch: Launch, interpreter: Interpreter | None,
                 probe_folder: str, module: str, name: str | None, limit: float,
                 folders: Sequence[tuple[str, bool]] = ()) -> None:
        """Begin to import `module`, or `name` from it; `folders` are put on the path first (True: at its front).

        Raises:
            NotRecorded: the machine's answers were recorded, and that was not tried then.
        """
        self._machine = machine
        self._module = module
        self._name = name
        request = f"{module}:{name}" if name else module
        added = _as_requests(folders)
        self._question = _question(launch, [*added, request])
        self._kept = machine.kept(self._question)
        self._trial = None if self._kept is not None else _Trial(
            machine, launch, interpreter, probe_folder, [*added, request], limit)

    def ended(self) -> bool:
        """Whether it has come to its end."""
        return self._trial is None or self._trial.ended()

    def result(self) -> Observation:
        """Wait for its end; return what was seen."""
        if self._trial is None:
            return observation_of(self._kept)
        seen = _assemble(self._module, self._name, *self._trial.result())
        self._machine.keep(self._question, as_data(seen))
        return seen

    def end(self) -> None:
        """End it, without waiting for a result."""
        if self._trial is not None:
            self._trial.end()


def _as_requests(folders: Sequence[tuple[str, bool]]) -> list[str]:
    """Return folders that are put on the path as the probe is told of them."""
    return [("<" if front else ">") + folder for folder, front in folders]


def _question(launch: Launch, requests: Sequence[str]) -> str:
    """Return what a trial is known by where answers are recorded: how Python was started, and what was imported."""
    return " ".join(["import", *requests, "by", *launch.argv, "in", launch.cwd, start_word(launch), launch.main or ""])


def start_word(launch: Launch) -> str:
    """Return how the probe is told of the start folder."""
    return f"behind:{launch.start}" if launch.start_behind else launch.start


def observe_imports(machine: Machine, launch: Launch, interpreter: Interpreter | None,
                    probe_folder: str, requests: Sequence[str], limit: float,
                    folders: Sequence[tuple[str, bool]] = ()) -> dict[str, Observation]:
    """Try several requests in one child, in their order; return what was seen of each.

    `folders` are put on the search path first (True: at its front). After a
    crash or a time-out the rest is tried in a new child, a few times. What
    failed after something else had failed is tried again alone: a failed
    import leaves parts of itself behind, over which the next one may stumble.
    A request that could not be tried any more is left out.
    """
    added = _as_requests(folders)
    question = _question(launch, [*added, *requests])
    kept = machine.kept(question)
    if kept is not None:
        return {request: observation_of(one) for request, one in kept.items()}
    seen = _observed(machine, launch, interpreter, probe_folder, requests, limit, added)
    machine.keep(question, {request: as_data(one) for request, one in seen.items()})
    return seen


def _observed(machine: Machine, launch: Launch, interpreter: Interpreter | None, probe_folder: str,
              requests: Sequence[str], limit: float, added: Sequence[str]) -> dict[str, Observation]:
    seen: dict[str, Observation] = {}
    waiting, spent = list(dict.fromkeys(requests)), 0.0
    for _ in range(MOST_RUNS):
        if not waiting or spent > 2 * limit:
            break
        ran, lines, stack = _run(machine, launch, interpreter, probe_folder, [*added, *waiting], limit)
        spent += ran.seconds
        done = {str(line["begins"]): n for n, line in enumerate(lines) if "begins" in line}
        for request in waiting:
            place = done.get(request)
            if place is None:
                break
            until = min((n for n in done.values() if n > place), default=len(lines))
            rest = [lines[0], *lines[place + 1: until]]
            seen[request] = _assemble(*_split(request), ran, rest, stack)
        if not done:  # it never came as far as the first import
            return dict.fromkeys(waiting, _assemble(*_split(waiting[0]), ran, lines, stack))
        waiting = [r for r in waiting if r not in seen]
    again = list(_to_be_tried_alone(seen))
    alone = machine.in_parallel(
        lambda r: _run(machine, launch, interpreter, probe_folder, [*added, r], limit), again)
    for request, (ran, lines, stack) in zip(again, alone, strict=True):
        seen[request] = _assemble(*_split(request), ran, [x for x in lines if "begins" not in x], stack)
    return seen


def _to_be_tried_alone(seen: Mapping[str, Observation]) -> Iterator[str]:
    """Yield what failed after another failure, unless it plainly is not there."""
    failed_before = False
    for request, found in seen.items():
        if found.outcome == "fails":
            error = found.error
            plain = error is not None and error.type == "ModuleNotFoundError" and not error.frames
            if failed_before and not plain and not request.startswith("@"):
                yield request
            failed_before = True


def _split(request: str) -> tuple[str, str | None]:
    if request.startswith("@"):
        return request, None
    module, _, name = request.partition(":")
    return module, name or None


class _Trial:
    """One run of the probe."""

    def __init__(self, machine: Machine, launch: Launch, interpreter: Interpreter | None,
                 probe_folder: str, requests: Sequence[str], limit: float) -> None:
        self._machine = machine
        self._folder = machine.make_folder()
        self._file = os.path.join(self._folder, "result")
        argv = [*launch.argv, "-c", *_probe(probe_folder, interpreter), self._file,
                str(max(limit * 0.9, limit - 1.0)), str(time.time()), start_word(launch), launch.main or "", *requests]
        self._begun = machine.begin(argv, env=launch.env, cwd=launch.cwd, limit=limit)

    def ended(self) -> bool:
        """Whether it has come to its end."""
        return self._begun.ended()

    def result(self) -> tuple[RunResult, list[dict[str, Any]], tuple[Frame, ...]]:
        """Return how it ended, what it wrote down, and its last stack."""
        try:
            ran = self._begun.result()
            stack = _read_stack(self._machine, self._file + ".stack")
            return ran, _read_lines(self._machine, self._file), stack
        finally:
            self._machine.remove_folder(self._folder)

    def end(self) -> None:
        """End it, and leave nothing behind."""
        self._begun.end()
        self._machine.remove_folder(self._folder)


def _run(machine: Machine, launch: Launch, interpreter: Interpreter | None, probe_folder: str,
         requests: Sequence[str], limit: float,
         ) -> tuple[RunResult, list[dict[str, Any]], tuple[Frame, ...]]:
    return _Trial(machine, launch, interpreter, probe_folder, requests, limit).result()


def _probe(folder: str, interpreter: Interpreter | None) -> tuple[str, str]:
    """Return the code that starts the probe, and the file that it is to read."""
    source = os.path.join(folder, "observe.py")
    if interpreter is None or interpreter.implementation != sys.implementation.name \
            or interpreter.version_pair != sys.version_info[:2] or not sys.implementation.cache_tag:
        return BOOT, source
    compiled = os.path.join(folder, "__pycache__", f"observe.{sys.implementation.cache_tag}.pyc")
    if _is_fresh(compiled, source) or _compile(source, compiled):
        return BOOT_COMPILED, compiled
    return BOOT, source


def _is_fresh(compiled: str, source: str) -> bool:
    """Whether bytecode was made from a source as it is now, by the time and size in its head (PEP 552)."""
    try:
        info = os.stat(source)
        with open(compiled, "rb") as file:
            head = file.read(16)
    except OSError:
        return False
    stamp = (int(info.st_mtime) & 0xFFFFFFFF).to_bytes(4, "little") + (
        info.st_size & 0xFFFFFFFF).to_bytes(4, "little")
    return head[:4] == MAGIC_NUMBER and head[4:] == b"\0\0\0\0" + stamp


def _compile(source: str, compiled: str) -> bool:
    """Keep the probe's bytecode beside it, as an import of it would; return whether that could be done."""
    if sys.dont_write_bytecode:
        return False
    from py_compile import PycInvalidationMode
    from py_compile import compile as compile_file

    try:
        done = compile_file(source, compiled, quiet=2, invalidation_mode=PycInvalidationMode.TIMESTAMP)
        return done is not None and _is_fresh(compiled, source)
    except OSError:  # an installation that may not be written to
        return False


def _read_lines(machine: Machine, path: str) -> list[dict[str, Any]]:
    import json

    try:
        data = machine.read_bytes(path, RESULT_LIMIT)
    except Unreadable:
        return []
    lines = []
    for raw in data.splitlines():
        try:
            lines.append(json.loads(raw))
        except ValueError:  # the child died while writing it
            continue
    return lines


def _read_stack(machine: Machine, path: str) -> tuple[Frame, ...]:
    """Read the last stack that faulthandler wrote, innermost frame last."""
    try:
        text = machine.read_text(path, 1_048_576)
    except Unreadable:
        return ()
    if not text:
        return ()
    blocks = re.split(r"^(?:Current thread|Thread) 0x[^\n]*$", text, flags=re.MULTILINE)
    best: list[Frame] = []
    for block in blocks[1:]:
        frames = [Frame(f, int(n), w) for f, n, w in
                  re.findall(r'^[ \t]+File "(.*)", line (\d{1,9}) in (.*)$', block, re.MULTILINE)]
        if any(f.file.endswith("observe.py") for f in frames) or not best:
            best = frames
    kept = [f for f in reversed(best)
            if "importlib._bootstrap" not in f.file and not f.file.endswith("observe.py")
            and f.file != "<string>"]
    return tuple(kept)


def _frames_said(text: str) -> tuple[Frame, ...]:
    """Read the frames that an interpreter printed when it could not start, innermost last."""
    return tuple(Frame(f, int(n), w) for f, n, w in re.findall(
        r'^[ \t]+File "(.*)", line (\d{1,9})(?:, in (.*))?$', text, re.MULTILINE))


def _raised_at_start(text: str) -> tuple[ObservedError, ...]:
    """Return the exception that an interpreter printed under its last words; none where it printed none."""
    head, fatal = "Traceback (most recent call last):", text.find("Fatal Python error")
    if fatal < 0 and head not in text:
        return ()
    from kalyx.core.facts.tracebacks.parser import parse_traceback

    last = text[fatal:].partition("\nCurrent thread")[0] if fatal >= 0 else text
    if head not in last:  # an error of syntax, or one without a frame, stands there alone
        last = f"{head}\n" + "\n".join(line for line in last.split("\n")[1:] if not line.startswith("Python runtime"))
    found = parse_traceback(last)
    return found.chain if found else ()


def _assemble(module: str, name: str | None, ran: RunResult, lines: list[dict[str, Any]],
              stack: tuple[Frame, ...]) -> Observation:
    said = next((line["who"] for line in lines if "who" in line), None)
    python = _python(said) if said else None
    cwd = python.cwd if python else ""
    done = next((line for line in lines if "outcome" in line), None)
    output = (ran.out + ran.err).decode("utf-8", "replace")[-OUTPUT_SHOWN:]
    if done is None:
        said_of_it = ran.err.decode("utf-8", "replace") if python is None else ""
        if python is None and not stack:
            stack = _frames_said(said_of_it)
        ended = next((line for line in lines if "ended_by" in line), {})
        frames = [Frame(*f) for f in ended.get("stack", ())] or stack
        stack = tuple(replace(f, file=_whole(f.file, cwd)) for f in frames)
        return Observation(
            module, name, _how_it_ended(ran, python is not None), python, status=ran.status, stack=stack,
            output=output, seconds=ran.seconds, trouble=ran.why_not or ran.complaint(),
            ended_by=ended.get("ended_by", ""), chain=_raised_at_start(said_of_it))
    chain = tuple(
        ObservedError(e["type"], e["message"], e["name"], e["path"],
                      tuple(Frame(_whole(f, cwd), n, w) for f, n, w in e["frames"]), e["link"], e["lineno"])
        for e in done["chain"])
    loaded = {k: (_whole(v[0], cwd), tuple(_whole(p, cwd) for p in v[1])) for k, v in done["loaded"].items()}
    return Observation(
        module, name, done["outcome"], python, chain, _whole(done.get("origin"), cwd), done.get("loader"),
        tuple(_whole(p, cwd) for p in done.get("search", ())), loaded, ran.status, stack, output, ran.seconds)


def _python(said: Mapping[str, Any]) -> RunningPython:
    """Return what the probe told of its interpreter as a record."""
    told: dict[str, Any] = {name: said[name] for name in names_of(RunningPython()) if said.get(name) is not None}
    lists = ("path", "suffixes", "front", "back")
    told |= {name: tuple(told[name]) for name in lists if name in told}
    return RunningPython(**told)


def _whole(file: Any, cwd: str) -> Any:
    """Return a path as it is from anywhere: the first entry of the path may be relative in older Pythons."""
    if not file or not cwd or file[0] in "/<" or os.path.isabs(file):
        return file
    return os.path.join(cwd, file)


def _how_it_ended(ran: RunResult, began: bool) -> Outcome:
    if ran.timed_out:
        return "hang"
    if ran.status is None or not began:
        return "no-start"
    return "crash"
