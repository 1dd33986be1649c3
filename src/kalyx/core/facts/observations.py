"""Runs an import in a seat's own interpreter and reads what the probe wrote down."""

from __future__ import annotations

import json
import os
import re
import sys
from importlib._bootstrap_external import MAGIC_NUMBER

from kalyx.core.errors import Unreadable
from kalyx.core.machine import Machine, RunResult
from kalyx.core.model import Frame, Interpreter, Launch, Observation, ObservedError
from kalyx.core.record import TYPE_CHECKING

if TYPE_CHECKING:
    from typing import Any

__all__ = ["observe_import"]

# Runs the probe from its source: any Python from 2.7 on does that.
BOOT = ("import sys\nf=open(sys.argv[1],'rb');c=compile(f.read(),sys.argv[1],'exec');f.close()\n"
        "exec(c,{'__name__':'kalyx_probe'})")
# Runs it from the bytecode that Kalyx's own installation keeps, where the seat's Python is of the
# same version: compiling the probe takes as long as a third of an interpreter's start.
BOOT_COMPILED = ("import sys,marshal\nf=open(sys.argv[1],'rb');f.seek(16);c=marshal.load(f);"
                 "f.close()\nexec(c,{'__name__':'kalyx_probe'})")
RESULT_LIMIT = 64 * 1024 * 1024
OUTPUT_SHOWN = 4000


def observe_import(machine: Machine, launch: Launch, interpreter: Interpreter | None,
                   probe_folder: str, module: str, name: str | None,
                   limit: float) -> Observation:
    """Import `module` (or `name` from it) in a child of the seat's interpreter.

    The child gets the seat's variables, folder and first path entry, no input,
    and `limit` seconds; all that it started is ended with it.
    """
    folder = machine.make_folder()
    try:
        result = os.path.join(folder, "result")
        request = f"{module}:{name}" if name else module
        argv = [*launch.argv, "-c", *_probe(probe_folder, interpreter), result,
                str(max(limit * 0.9, limit - 1.0)), launch.start, launch.main or "", request]
        ran = machine.run(argv, env=launch.env, cwd=launch.cwd, limit=limit)
        lines = _read_lines(machine, result)
        stack = _read_stack(machine, result + ".stack")
        return _assemble(module, name, ran, lines, stack)
    finally:
        machine.remove_folder(folder)


def _probe(folder: str, interpreter: Interpreter | None) -> tuple[str, str]:
    """Return the code that starts the probe, and the file that it is to read."""
    source = os.path.join(folder, "observe.py")
    if interpreter is None or interpreter.implementation != sys.implementation.name \
            or interpreter.version_pair != sys.version_info[:2] or not sys.implementation.cache_tag:
        return BOOT, source
    compiled = os.path.join(folder, "__pycache__", f"observe.{sys.implementation.cache_tag}.pyc")
    try:
        info = os.stat(source)
        with open(compiled, "rb") as file:
            head = file.read(16)
    except OSError:
        return BOOT, source
    stamp = (int(info.st_mtime) & 0xFFFFFFFF).to_bytes(4, "little") + (
        info.st_size & 0xFFFFFFFF).to_bytes(4, "little")
    fresh = head[:4] == MAGIC_NUMBER and head[4:] == b"\0\0\0\0" + stamp
    return (BOOT_COMPILED, compiled) if fresh else (BOOT, source)


def _read_lines(machine: Machine, path: str) -> list[dict[str, Any]]:
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
    blocks = re.split(r"^(?:Current thread|Thread) 0x[^\n]*$", text, flags=re.MULTILINE)
    best: list[Frame] = []
    for block in blocks[1:]:
        frames = [Frame(f, int(n), w) for f, n, w in
                  re.findall(r'^\s+File "(.*)", line (\d+) in (.*)$', block, re.MULTILINE)]
        if any(f.file.endswith("observe.py") for f in frames) or not best:
            best = frames
    kept = [f for f in reversed(best)
            if "importlib._bootstrap" not in f.file and not f.file.endswith("observe.py")
            and f.file != "<string>"]
    return tuple(kept)


def _assemble(module: str, name: str | None, ran: RunResult, lines: list[dict[str, Any]],
              stack: tuple[Frame, ...]) -> Observation:
    who: dict[str, Any] = next((line["who"] for line in lines if "who" in line), {})
    done = next((line for line in lines if "outcome" in line), None)
    output = (ran.out + ran.err).decode("utf-8", "replace")[-OUTPUT_SHOWN:]
    if done is None:
        return Observation(
            module, name, _how_it_ended(ran, bool(who)), who, status=ran.status, stack=stack,
            output=output, seconds=ran.seconds, trouble=ran.why_not or ran.complaint())
    chain = tuple(
        ObservedError(e["type"], e["message"], e["name"], e["path"],
                      tuple(Frame(*f) for f in e["frames"]), e["link"], e["lineno"])
        for e in done["chain"])
    loaded = {k: (v[0], tuple(v[1])) for k, v in done["loaded"].items()}
    return Observation(
        module, name, done["outcome"], who, chain, done.get("origin"), done.get("loader"),
        tuple(done.get("search", ())), loaded, ran.status, stack, output, ran.seconds)


def _how_it_ended(ran: RunResult, began: bool) -> str:
    if ran.timed_out:
        return "hang"
    if ran.status is None or not began:
        return "no-start"
    return "crash"
