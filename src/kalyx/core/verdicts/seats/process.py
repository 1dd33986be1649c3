"""Findings about live processes: the interpreter under them was replaced or is gone."""

from __future__ import annotations

from kalyx.core.facts.processes.mapped_files import mapped_files
from kalyx.core.facts.search_path.site_folders import site_folders
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files
    from kalyx.core.model.process import PythonProcess, RawProcess

__all__ = ["judge_process"]

CLOCK = 5.0  # seconds by which the start of a process and the age of a file may be told apart wrongly


def judge_process(process: PythonProcess, raw: RawProcess, files: Files) -> list[Finding]:
    """Return what is wrong with a live process."""
    found = interpreter_replaced(process, raw, files), loaded_replaced(process, raw, files)
    return [f for f in found if f is not None]


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


@cause("loaded-replaced", "a live process has loaded files of packages that were replaced or deleted since, or "
       "packages were installed after it started", brief="packages were replaced under a running process")
def loaded_replaced(process: PythonProcess, raw: RawProcess, files: Files) -> Finding | None:
    """Compare what a process has loaded with what the disk holds now.

    Looks like: You installed or upgraded a package, and the notebook still says what it said before.
    Why: A process keeps what it has imported; an installation changes the files, not the process.
    How Kalyx knows: The compiled parts that it has mapped, held against the files of that name; the age of the
        metadata of what is installed, held against the start of the process.
    What to do: Restart the kernel, or the program.
    """
    if process.environment is None:
        return None
    changed = [f for f in mapped_files(files, process.pid) if files.is_within(f.path, process.environment.path)
               and f.is_replaced]
    newer = _installed_since(process, raw, files)
    if not changed and not newer:
        return None
    restart = Remedy("Restart the kernel, or start the program again: only then does it import what is there now.",
                     "manual", changes=f"process {process.pid}")
    named = ", ".join(n for n, _ in newer[:4]) + (f" and {len(newer) - 4} more" if len(newer) > 4 else "")
    evidence = [Evidence(f"process {process.pid} has it loaded, and the file of that name is another now, or gone",
                         f.path) for f in changed[:4]]
    evidence += [Evidence(f"its metadata is younger than process {process.pid}", path) for _, path in newer[:4]]
    if changed:
        what = f"{len(changed)} compiled part{'s' if len(changed) > 1 else ''}"
        says = (f"Process {process.pid} still has {what} loaded of what was replaced or deleted since"
                + (f"; installed since: {named}." if newer else "."))
        return Finding.warning("loaded-replaced", "certain", says, tuple(evidence), (restart,))
    return Finding("loaded-replaced", "note", "possible", f"Installed since process {process.pid} started: {named}. "
                   "What it has imported of that before stays as it was.", tuple(evidence), (restart,))


def _installed_since(process: PythonProcess, raw: RawProcess, files: Files) -> list[tuple[str, str]]:
    """Return what was installed after a process started, each with its metadata folder."""
    environment = process.environment
    if environment is None or raw.started is None:
        return []
    found = []
    for folder in site_folders(files, environment.path, environment.kind, environment.python_version):
        for name in sorted(n for n in files.entries(folder) if n.endswith(".dist-info") and not n.startswith("~")):
            info = files.stat(files.path.join(folder, name))
            if info is not None and info.modified > raw.started + CLOCK:
                found.append((name.removesuffix(".dist-info").replace("-", " ", 1), files.path.join(folder, name)))
    return found
