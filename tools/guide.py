"""Runs the commands of the guide on the demo's data, and writes what they print under them.

A page of ``docs/guide`` and the README show sessions: fenced blocks that begin with ``$ ``. Each line after that sign
is run, one page after the other, in one scenario; what it prints takes the place of what stood there. What differs from
machine to machine (versions, folders, times) is written as on a machine that there is not. With ``--check`` nothing is
written; the status is 1 where a page says something else.
"""

from __future__ import annotations

import argparse
import difflib
import os
import platform
import pty
import re
import shutil
import subprocess
import sys
import tempfile
import termios
from pathlib import Path

from kalyx.demo import scenario

ROOT = Path(__file__).parent.parent
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs" / "guide").glob("*.md"))]
SESSION = re.compile(r"^```console\n(.*?)^```$", re.MULTILINE | re.DOTALL)
COLUMNS = 96


def main() -> int:
    """Carry out the command line; return the exit status."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--check", action="store_true", help="write nothing; say what would differ")
    parser.add_argument("pages", nargs="*", type=Path, help="only these")
    options = parser.parse_args()
    status = 0
    with tempfile.TemporaryDirectory(prefix="kalyx-guide-") as folder:
        made = scenario.build(os.path.join(folder, "demo"))
        made.env["PATH"] = path_of(made, folder)
        for page in options.pages or PAGES:
            shutil.rmtree(Path(made.env["HOME"], ".local", "share", "kalyx"), ignore_errors=True)  # an empty journal
            old = page.read_text(encoding="utf-8")
            new = SESSION.sub(lambda found: f"```console\n{session(found[1], made)}```", old)
            if new.split() == old.split():  # where a line is broken depends on how long this machine's paths are
                continue
            if not options.check:
                page.write_text(new, encoding="utf-8")
                continue
            status = 1
            sys.stderr.writelines(difflib.unified_diff(old.splitlines(True), new.splitlines(True), page.name, "now"))
    return status


def session(block: str, made: scenario.Scenario) -> str:
    """Return a block with what each of its commands prints now."""
    lines = []
    for line in re.findall(r"^\$ (.*)$", block, re.MULTILINE):
        if lines:
            lines.append("")
        lines += [f"$ {line}", *printed(line, made)]
    return "".join(f"{line}\n" for line in lines)


def path_of(made: scenario.Scenario, folder: str) -> str:
    """Return a PATH with the demo's own folders and the command itself, and nothing of this machine."""
    os.mkdir(os.path.join(folder, "bin"))
    os.symlink(os.path.join(os.path.dirname(sys.executable), "kalyx"), os.path.join(folder, "bin", "kalyx"))
    own = [p for p in made.env["PATH"].split(os.pathsep) if p.startswith(made.env["HOME"])]
    return os.pathsep.join([*own, os.path.join(folder, "bin")])


def printed(line: str, made: scenario.Scenario) -> list[str]:
    """Return what a command line prints in the demo's project, as on no machine in particular."""
    master, terminal = pty.openpty()
    termios.tcsetwinsize(terminal, (2000, COLUMNS))
    with subprocess.Popen(["/bin/sh", "-c", line], cwd=made.project, env={
            **made.env, "NO_COLOR": "1", "TERM": "xterm", "COLUMNS": str(COLUMNS), "LINES": "2000"},
                          stdin=subprocess.DEVNULL, stdout=terminal, stderr=subprocess.PIPE) as child:
        os.close(terminal)
        text = read_all(master)
        said = child.stderr.read().decode() if child.stderr else ""
    if child.returncode not in (0, 1, 3) or (child.returncode == 3 and not text):
        raise SystemExit(f"{line}\n{text}{said}")
    return impersonal(text + said, made).rstrip().split("\n")


def read_all(master: int) -> str:
    """Return all that is written to a terminal, until nobody holds it any more."""
    found = b""
    while True:
        try:
            part = os.read(master, 65536)
        except OSError:  # so it ends on Linux
            part = b""
        if not part:
            os.close(master)
            return found.decode("utf-8").replace("\r\n", "\n")
        found += part


def impersonal(text: str, made: scenario.Scenario) -> str:
    """Write what is this machine's as a made-up one has it."""
    version = platform.python_version()
    short = ".".join(version.split(".")[:2])
    for found, shown in ((made.env["HOME"], "~"), (os.path.realpath(made.env["HOME"]), "~"), (sys.base_prefix, "/usr"),
                         (version, "3.12.4"), (short, "3.12"), (f"on {platform.node()} ", "on vault ")):
        text = text.replace(found, shown)
    text = re.sub(r"\b\d+(\.\d)? kB are kept", "12.3 kB are kept", text)
    text = re.sub(r"\b\d+\.\d+ s\b", "0.3 s", re.sub(r'("seconds": )[\d.]+', r"\g<1>0.3", text))
    return re.sub(r"\d{4}-\d{2}-\d{2}[ T]\d{2}:\d{2}(?::\d{2})?(?:Z|[+-]\d{2}:\d{2})?", "2026-03-04 10:20", text)


if __name__ == "__main__":
    sys.exit(main())
