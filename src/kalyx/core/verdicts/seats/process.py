"""Findings about live processes: the interpreter under them was replaced or is gone."""

from __future__ import annotations

from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files
    from kalyx.core.model.process import PythonProcess, RawProcess

__all__ = ["judge_process"]


def judge_process(process: PythonProcess, raw: RawProcess, files: Files) -> list[Finding]:
    """Return what is wrong with a live process."""
    finding = interpreter_replaced(process, raw, files)
    return [finding] if finding is not None else []


@cause("interpreter-replaced", "a live process runs an interpreter that has been replaced or "
       "deleted since it started", brief="an interpreter was replaced under a running process")
def interpreter_replaced(process: PythonProcess, raw: RawProcess,
                         files: Files) -> Finding | None:
    """Compare the program file as it is now with the one that the process runs.

    Looks like: A kernel or server behaves oddly after an upgrade.
    Why: It still runs the interpreter that it was started with, which was replaced or deleted since.
    How Kalyx knows: The process table, and the age of the files.
    What to do: Start it again.
    """
    m, program = files, raw.program or ""
    path = program.removesuffix(" (deleted)")
    prefix = process.environment.path if process.environment else None
    if program.endswith(" (deleted)"):
        says = "was replaced" if m.exists(path) else "was deleted"
        evidence = [Evidence(f"the process table says of {process.pid}: {program}", path)]
    elif process.interpreter is not None and process.interpreter.known_by == "gone":
        path, says = process.interpreter.path, "was deleted"
        evidence = [Evidence(process.interpreter.trouble, path)]
    else:
        info = m.stat(m.path.join(prefix, "pyvenv.cfg")) if prefix else None
        if info is None or raw.started is None or info.modified <= raw.started + 1:
            return None
        path, says = m.path.join(prefix, "pyvenv.cfg"), "was made anew"
        evidence = [Evidence(f"{path} is younger than the process", path)]
    return Finding.warning(
        "interpreter-replaced", "certain",
        f"Process {process.pid} still runs what {path} was when it started; it {says} since.",
        tuple(evidence),
        (Remedy(f"Start it again (a kernel: restart it), so that process {process.pid} ends.",
                "manual", changes=f"process {process.pid}"),))
