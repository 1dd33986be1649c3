"""``python -m bench [WORD...]``: prints ratios, not times; with words, of the pairs that are called so.

Each pair of commands is run in turns, and the median of the rounds' ratios
counts, so that what else the machine does falls on both alike.
"""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

from bench.worlds import (
    lacking_package,
    large_project,
    lived_in_folder,
    many_distributions,
    many_environments,
    many_files,
    many_kernels,
    thirty_imports,
    thirty_notebooks,
)

ROUNDS = 11
ROUNDS_OF_DIFFERENCES = 31  # a small difference of two runs scatters more than a ratio of them
READ_HEADS = (
    "import glob, sys\n"
    "for name in glob.glob(sys.argv[1] + '/*.dist-info/METADATA'):\n"
    "    with open(name, encoding='utf-8', errors='replace') as file:\n"
    "        for line in file:\n"
    "            if not line.strip():\n"
    "                break\n")
READ_SPECS = (
    "import glob, os\n"
    "for name in glob.glob(os.environ['JUPYTER_PATH'] + '/kernels/*/kernel.json'):\n"
    "    with open(name) as file:\n"
    "        file.read()\n")
# What a kernel itself needs: started, and asked once over its sockets, by a client that does no more
FIRST_ANSWER = (
    "import os, sys\n"
    "from kalyx.core.wire.client import StartedKernel\n"
    "argv = [sys.executable, '-m', 'ipykernel_launcher', '-f', '{connection_file}']\n"
    "with StartedKernel(argv, os.environ, '.', 60) as kernel:\n"
    "    kernel.ask('kernel_info_request', {})\n")
PROVE = (
    "import os, sys\n"
    "from kalyx.cli.common import PROBE_FOLDER\n"
    "from kalyx.core.answers.enrol import prove\n"
    "from kalyx.core.facts.seats.context import SeatContext\n"
    "from kalyx.core.machine.local import RealMachine\n"
    "from kalyx.core.model import Kernel\n"
    "argv = (sys.executable, '-m', 'ipykernel_launcher', '-f', '{connection_file}')\n"
    "context = SeatContext(RealMachine(), '.', PROBE_FOLDER)\n"
    "assert prove(context, Kernel('k', 'k', '/k/kernel.json', 'user', argv, {}, 'python'), None, 60).answered\n")
# Runs a command with an empty cache, and what reads the files of a project
FRESH = (
    "import os, shutil, subprocess, sys\n"
    "os.environ['XDG_CACHE_HOME'] = os.path.abspath('.cache')\n"
    "status = subprocess.run(sys.argv[1:]).returncode\n"
    "shutil.rmtree('.cache', ignore_errors=True)\n"
    "sys.exit(status)\n")
PARSE = (
    "import ast, os\n"
    "for place, folders, names in os.walk('.'):\n"
    "    for name in names:\n"
    "        if name.endswith('.py'):\n"
    "            with open(os.path.join(place, name), 'rb') as file:\n"
    "                ast.parse(file.read())\n")
# The commands whose answers a report puts together
ONE_BY_ONE = (
    "import subprocess, sys\n"
    "for words in (['here'], ['kernels'], ['envs'], ['packages', '--conflicts']):\n"
    "    subprocess.run([*sys.argv[1:], *words], stdout=subprocess.DEVNULL)\n")
# What keeps aside all that a program may replace, and its copy
KEEP = (
    "import shutil, sys\n"
    "from kalyx.core.changes.watched import Watched\n"
    "Watched([sys.argv[1]], 'kept').keep(None)\n"
    "shutil.rmtree('kept')\n")
COPY = (
    "import shutil, sys\n"
    "shutil.copytree(sys.argv[1], 'kept')\n"
    "shutil.rmtree('kept')\n")
READ_SITES = (
    "import glob, os, sys\n"
    "for name in glob.glob(sys.argv[1] + '/*/lib/python*/site-packages'):\n"
    "    os.listdir(name)\n")


@dataclass(frozen=True)
class Pair:
    """Two commands to compare, and the ratio that is aimed at.

    With `ours_less` and `theirs_less`, what counts is how much longer each takes than these.
    """

    says: str
    ours: list[str]
    theirs: list[str]
    goal: float
    ours_in: str = "."
    theirs_in: str = "."
    ours_less: str = ""
    theirs_less: str = ""
    variable: str = ""  # one that is set for this pair alone


def run_once(argv: list[str], cwd: str, env: dict[str, str], *, may_raise: bool = True) -> float:
    """Return the seconds that one run takes.

    Raises:
        RuntimeError: it ended in a traceback, so that its time means nothing.
    """
    began = time.perf_counter()
    done = subprocess.run(argv, cwd=cwd, env=env, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
                          stderr=subprocess.PIPE, check=False)
    taken = time.perf_counter() - began
    if not may_raise and b"Traceback" in done.stderr:
        raise RuntimeError(done.stderr.decode("utf-8", "replace"))
    return taken


def measure(pair: Pair, folder: Path, env: dict[str, str]) -> float:
    """Return how many times longer ours takes."""
    taken = []
    ours_in, theirs_in = str(folder / pair.ours_in), str(folder / pair.theirs_in)
    rounds = ROUNDS_OF_DIFFERENCES if pair.ours_less else ROUNDS
    for number in range(rounds + 1):
        theirs = (run_once(pair.theirs, theirs_in, env) + run_once(pair.theirs, theirs_in, env)) / 2
        ours = run_once(pair.ours, ours_in, env, may_raise=False)
        if pair.ours_less:
            theirs -= run_once(pair.theirs, str(folder / pair.theirs_less), env)
            ours -= run_once(pair.ours, str(folder / pair.ours_less), env)
        if number:  # the first round writes bytecode and warms the disk's cache
            taken.append((ours, theirs))
    if pair.ours_less:  # a difference may be about nothing in one round: medians first
        return statistics.median(o for o, _ in taken) / statistics.median(t for _, t in taken)
    return statistics.median(ours / theirs for ours, theirs in taken)


def pairs(python: str, crowded: str, large: str, project: Path) -> list[Pair]:
    """Return what is compared."""
    kalyx = [shutil.which("kalyx", path=os.path.dirname(python)) or "kalyx"]
    seat = f"python:{python}"
    site = str(next(Path(crowded).parent.parent.glob("lib/python*/site-packages")))
    listing = [*kalyx, "packages", "--at", f"python:{crowded}"]
    seat_400 = f"python:{crowded}"
    pip = [python, "-m", "pip", "--version"]
    return [
        Pair("--version / a bare interpreter start", [*kalyx, "--version"], [python, "-c", "pass"],
             1.6),
        Pair("here --json / pip --version", [*kalyx, "here", "--json"], pip, 1.0),
        Pair("here in a lived-in folder / pip --version", [*kalyx, "here"], pip, 1.0,
             ours_in=str(project)),
        Pair("here in a folder of 100,000 files / in a small one", [*kalyx, "here"], [*kalyx, "here"], 1.3,
             ours_in="crowd", theirs_in="home"),
        Pair("why of a failing import / the failing import", [*kalyx, "why", "nope", "--at", seat],
             [python, "-c", "import nope"], 4.0),
        Pair("why of a package that lacks a dependency / its failing import",
             [*kalyx, "why", "lacking", "--at", seat], [python, "-c", "import lacking"], 4.0,
             ours_in="lacking", theirs_in="lacking"),
        Pair("why of a healthy import / the import", [*kalyx, "why", "json", "--at", seat],
             [python, "-c", "import json"], 3.0),
        Pair("mend of what is well / its why", [*kalyx, "mend", "json", "--at", seat, "--yes"],
             [*kalyx, "why", "json", "--at", seat], 2.0),
        Pair("fit of 1,500 files, nothing remembered / parsing them", [python, "-c", FRESH, *kalyx, "fit", "."],
             [python, "-c", PARSE], 0.7, ours_in="project", theirs_in="project"),
        Pair("fit of 1,500 files again / parsing them", [*kalyx, "fit", "."], [python, "-c", PARSE], 0.15,
             ours_in="project", theirs_in="project"),
        Pair("what 300 environments add to fit / to reading the names in each", [*kalyx, "fit", "a.py"],
             [python, "-c", READ_SITES, "."], 2.0, ours_in="300/envs", theirs_in="300/envs", ours_less="home",
             theirs_less="home"),
        Pair("weigh, 400 distributions / du", [*kalyx, "weigh", "--at", f"python:{crowded}"],
             ["du", "-s", str(Path(crowded).parent.parent)], 2.5),
        Pair("weigh, 120,000 files / du", [*kalyx, "weigh", "--at", f"python:{large}"],
             ["du", "-s", str(Path(large).parent.parent)], 2.5),
        Pair("keeping 400 distributions aside / copying them", [python, "-c", KEEP, site], [python, "-c", COPY, site],
             1.0, ours_in="home", theirs_in="home"),
        Pair("why of a notebook with 30 imports / running them", [*kalyx, "why", "thirty.ipynb", "--at", seat],
             [python, "thirty.py"], 2.0, ours_in="thirty", theirs_in="thirty"),
        Pair("what 300 environments add to why / to reading the names in each",
             [*kalyx, "why", "nope", "--at", seat], [python, "-c", READ_SITES, "."], 1.0,
             ours_in="300/envs", theirs_in="300/envs", ours_less="home", theirs_less="home"),
        Pair("kernels, 200 kernelspecs / reading them and an interpreter start", [*kalyx, "kernels"],
             [python, "-c", READ_SPECS], 4.0, ours_in="kernels", theirs_in="kernels",
             variable="JUPYTER_PATH"),
        Pair("the proof of a kernel / its first answer to a bare client", [python, "-c", PROVE],
             [python, "-c", FIRST_ANSWER], 1.3),
        Pair("packages, 400 distributions / pip list", listing, [crowded, "-m", "pip", "list"], 0.2),
        Pair("packages, 400 distributions / reading their heads", listing,
             [python, "-c", READ_HEADS, site], 4.0),
        Pair("a snapshot, 400 distributions / packages", [*kalyx, "snapshot", "--at", seat_400, "--to", "new.json",
                                                          "--overwrite"], listing, 5.0, ours_in="home"),
        Pair("packages from a snapshot, 400 distributions / packages there",
             [*kalyx, "packages", "--from", "taken.json"], listing, 1.5, ours_in="home", theirs_in="home"),
        Pair("why from a snapshot / why there", [*kalyx, "why", "json", "--from", "taken.json"],
             [*kalyx, "why", "json", "--at", seat_400], 1.0, ours_in="home", theirs_in="home"),
        Pair("a beacon, 400 distributions / pip list", [crowded, "beacon.py"], [crowded, "-m", "pip", "list"], 1.0,
             ours_in="home"),
        Pair("a report of a folder with 30 notebooks / here, kernels, envs and packages one after the other",
             [*kalyx, "report", "--to", "../report.html", "--overwrite"], [python, "-c", ONE_BY_ONE, *kalyx], 2.0,
             ours_in="notebooks", theirs_in="notebooks"),
        Pair("envs, 300 environments / 30 environments", [*kalyx, "envs"], [*kalyx, "envs"], 5.0,
             ours_in="300/envs", theirs_in="30/envs"),
    ]


def main() -> int:
    """Measure every pair in a folder of its own and print the ratios."""
    env = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
    env["PATH"] = os.path.dirname(sys.executable) + os.pathsep + env.get("PATH", "")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name).resolve()
        env["HOME"] = str(folder / "home")
        crowded, large = many_distributions(folder, 400), many_files(folder, 120_000)
        project = lived_in_folder(folder)
        (folder / "crowd").mkdir()
        (folder / "home").mkdir(exist_ok=True)
        for number in range(100_000):
            os.mknod(folder / "crowd" / f"data-{number}.csv")
        thirty_imports(folder / "thirty")
        lacking_package(folder / "lacking")
        large_project(folder / "project", 1500)
        thirty_notebooks(folder / "notebooks")
        own = {"JUPYTER_PATH": many_kernels(folder / "kernels", 200)}
        for count in (30, 300):
            many_environments(folder / str(count), count)
        for place in ("300/envs", "home"):
            (folder / place / "a.py").write_text("import nope\n", encoding="utf-8")
        kalyx = shutil.which("kalyx", path=env["PATH"]) or "kalyx"
        subprocess.run([kalyx, "snapshot", "--at", f"python:{crowded}", "--why", "json", "--to", "taken.json"],
                       cwd=folder / "home", env=env, stdout=subprocess.DEVNULL, check=True)
        cell = subprocess.run([kalyx, "beacon", "json"], env=env, stdout=subprocess.PIPE, check=True).stdout
        (folder / "home" / "beacon.py").write_bytes(cell)
        for pair in pairs(sys.executable, crowded, large, project):
            if sys.argv[1:] and not any(word in pair.says for word in sys.argv[1:]):
                continue
            ratio = measure(pair, folder, {**env, **{k: v for k, v in own.items() if k == pair.variable}})
            met = "met" if ratio <= pair.goal else "missed"
            print(f"{ratio:6.2f}  (goal at most {pair.goal:g}, {met})  {pair.says}", flush=True)
    return 0


if __name__ == "__main__":
    sys.exit(main())
