"""``python -m bench``: prints ratios, not times.

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

ROUNDS = 15


@dataclass(frozen=True)
class Pair:
    """Two commands to compare, and the ratio that is aimed at."""

    says: str
    ours: list[str]
    theirs: list[str]
    goal: float


def run_once(argv: list[str], cwd: str, env: dict[str, str]) -> float:
    """Return the seconds that one run takes."""
    began = time.perf_counter()
    subprocess.run(argv, cwd=cwd, env=env, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
                   stderr=subprocess.DEVNULL, check=False)
    return time.perf_counter() - began


def measure(pair: Pair, cwd: str, env: dict[str, str]) -> float:
    """Return how many times longer ours takes."""
    ratios = []
    for number in range(ROUNDS + 1):
        theirs = (run_once(pair.theirs, cwd, env) + run_once(pair.theirs, cwd, env)) / 2
        ratio = run_once(pair.ours, cwd, env) / theirs
        if number:  # the first round writes bytecode and warms the disk's cache
            ratios.append(ratio)
    return statistics.median(ratios)


def pairs(python: str) -> list[Pair]:
    """Return what is compared."""
    kalyx = [shutil.which("kalyx", path=os.path.dirname(python)) or "kalyx"]
    seat = f"python:{python}"
    return [
        Pair("--version / a bare interpreter start", [*kalyx, "--version"], [python, "-c", "pass"],
             1.6),
        Pair("here --json / pip --version", [*kalyx, "here", "--json"],
             [python, "-m", "pip", "--version"], 1.0),
        Pair("why of a failing import / the failing import", [*kalyx, "why", "nope", "--at", seat],
             [python, "-c", "import nope"], 6.0),
    ]


def main() -> int:
    """Measure every pair in an empty folder and print the ratios."""
    env = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
    env["PATH"] = os.path.dirname(sys.executable) + os.pathsep + env.get("PATH", "")
    with tempfile.TemporaryDirectory() as folder:
        for pair in pairs(sys.executable):
            ratio = measure(pair, folder, env)
            met = "met" if ratio <= pair.goal else "missed"
            print(f"{ratio:6.2f}  (goal at most {pair.goal:g}, {met})  {pair.says}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
