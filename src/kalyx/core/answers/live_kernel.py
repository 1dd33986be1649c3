"""A live kernel, asked through its protocol: where it listens, and what it has loaded of what the disk now holds."""

from __future__ import annotations

import json

from kalyx.core.errors import NothingToJudge, Unreadable
from kalyx.core.facts.processes.processes import connection_file_of, kind_of
from kalyx.core.lean.record import replace
from kalyx.core.model import Evidence, Finding, Note, Remedy
from kalyx.core.wire.client import KernelFailed
from kalyx.core.wire.running import KernelBusy, RunningKernel, parse_connection

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.model import ImportReport

__all__ = ["connection_of", "text_in", "with_loaded"]

CLOCK = 1.0  # seconds by which the start of a process may be told wrongly
LIMIT = 5.0  # seconds for its answer
LOADED = ("(lambda m: __import__('json').dumps({{n: [str(getattr(m[n], '__file__', None) or ''), "
          "str(getattr(m[n], '__version__', ''))[:40]] for n in {names!r} if m.get(n) is not None}}))"
          "(__import__('sys').modules)")


def connection_of(context: SeatContext, ref: str) -> bytes | None:
    """Read the connection file of a process that is a kernel; None where it is none.

    Raises:
        NothingToJudge: there is no such process.
        KernelFailed: the file cannot be read, or others may have written it.
    """
    m = context.machine
    raw = m.process(int(ref.partition(":")[2]))
    if raw is None:
        raise NothingToJudge(f"There is no process {ref.partition(':')[2]}.", "kalyx running lists them.")
    kind, _, rest = kind_of(raw.argv)
    named = connection_file_of(rest) if kind == "kernel" else None
    if not named:
        return None
    file = m.absolute(named, raw.folder)
    if trouble := context.examiner.trust.why_not_read(file):
        raise KernelFailed(f"its connection file cannot be used: {trouble}")
    try:
        return m.read_bytes(file, 65536)
    except Unreadable as error:
        raise KernelFailed(f"its connection file {file} cannot be used: {error.reason}") from None


def text_in(shown: str) -> str:
    """Return the text that an expression was, of how it is written."""
    import ast

    try:
        value = ast.literal_eval(shown)
    except (ValueError, SyntaxError, MemoryError, RecursionError):
        return shown
    return value if isinstance(value, str) else shown


def with_loaded(context: SeatContext, ref: str,
                reports: Sequence[ImportReport]) -> tuple[list[ImportReport], list[Note]]:
    """Return reports at a live process with what its kernel still has loaded of them, where the disk holds another.

    A kernel that is at work is not disturbed: then a note says that it was not asked.
    """
    m, names = context.machine, [r.module for r in reports]
    raw = m.process(int(ref.partition(":")[2]))
    try:
        data = connection_of(context, ref)
        if data is None or raw is None or raw.started is None:
            return list(reports), []
        with RunningKernel(parse_connection(data)) as kernel:
            shown = kernel.evaluate({"loaded": LOADED.format(names=names)}, LIMIT)["loaded"]
        loaded = json.loads(text_in(shown))
    except KernelBusy:
        return list(reports), [Note("kernel-busy", f"The kernel of {ref} is at work: what it has loaded was not "
                                    "asked.")]
    except (KernelFailed, ValueError) as error:
        return list(reports), [Note("kernel-not-asked", f"The kernel could not be asked what it has loaded: {error}.")]
    if not isinstance(loaded, dict):
        return list(reports), []
    found = []
    for report in reports:
        was = loaded.get(report.module)
        old = _replaced(m, report, was, raw.started, raw.pid) if isinstance(was, list) and len(was) == 2 else None
        found.append(replace(report, causes=(old, *report.causes)) if old is not None else report)
    return found, []


def _replaced(files: Files, report: ImportReport, was: Sequence[str], started: float, pid: int) -> Finding | None:
    """Say that a process has a module loaded which is another on the disk now; None where it is the same."""
    file, version = (str(w) for w in was)
    info = files.stat(file) if file else None
    brought = report.distribution
    metadata = files.stat(brought.metadata) if brought is not None and brought.metadata else None
    shown = f"{report.module} {version}" if version else report.module
    if file and info is None:
        says, evidence = f"{file}, which is gone", Evidence(f"{file} is not there", file)
    elif info is not None and info.modified > started + CLOCK:
        says, evidence = f"{file}, which was written anew since", Evidence(
            f"{file} is younger than process {pid}", file)
    elif brought is not None and metadata is not None and metadata.modified > started + CLOCK:
        says, evidence = f"{file}, which was installed anew since", Evidence(
            f"the metadata of {brought.name} {brought.version} is younger than process {pid}", brought.metadata)
    else:
        return None
    now = f"; {brought.name} {brought.version} is there now" if brought is not None else ""
    return Finding.warning(
        "loaded-replaced", "certain", f"The kernel of process {pid} still has {shown} loaded, of {says}{now}.",
        (Evidence(f"asked, the kernel says that it has {shown} loaded from {file}", file or None), evidence),
        (Remedy("Restart the kernel: only then does it import what is there now.", "manual",
                changes=f"process {pid}"),))
