"""The tour: real commands, run on the scenario, with their real output."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from typing import Any

from kalyx.core.record import dataclass
from kalyx.demo.scenario import Scenario

__all__ = ["STEPS", "Step", "run_step"]


@dataclass(frozen=True)
class Step:
    """One command line of the tour, and why a person would type it."""

    says: str
    argv: tuple[str, ...]


STEPS = (
    Step("Something is odd in the project folder. Which Python is used here, and by whom?",
         ("here",)),
    Step("humidlog was installed a minute ago, with pip. Why can it not be imported?",
         ("why", "humidlog")),
    Step("The notebook has germkit, and still its import fails.",
         ("why", "germkit", "--at", "notebook:germination.ipynb")),
    Step("The script prints nonsense, though sporecount is installed.",
         ("why", "sporecount", "--at", "script:cold_room.py")),
    Step("seedscan is there, whole, and does not load.", ("why", "seedscan")),
    Step("A kernel from the notebook's menu never starts.",
         ("why", "germkit", "--at", "kernel:greenhouse")),
    Step("Make lab a kernel for real, in place of the one that only carries its name.",
         ("enrol", "lab", "--overwrite")),
    Step("And now?", ("here",)),
)


def run_step(step: Step, scenario: Scenario, options: tuple[str, ...]) -> int:
    """Run one step with this terminal as its output; return its exit status."""
    argv = [sys.executable, "-m", "kalyx", *step.argv, *options]
    return subprocess.run(argv, env=_env(scenario), cwd=scenario.project, check=False,
                          stdin=subprocess.DEVNULL).returncode


def run_step_for_json(step: Step, scenario: Scenario) -> dict[str, Any]:
    """Run one step with --json and return what it answered."""
    argv = [sys.executable, "-m", "kalyx", *step.argv, "--json"]
    ran = subprocess.run(argv, env=_env(scenario), cwd=scenario.project, check=False,
                         stdin=subprocess.DEVNULL, capture_output=True)
    return {"says": step.says, "argv": ["kalyx", *step.argv], "exit": ran.returncode,
            "answer": json.loads(ran.stdout)}


def _env(scenario: Scenario) -> dict[str, str]:
    """Return the scenario's variables; Kalyx itself is found by -m, wherever it is installed."""
    import kalyx

    env = dict(scenario.env)
    installed = any(os.path.dirname(os.path.dirname(os.path.abspath(kalyx.__file__))) == os.path.
                    abspath(p) for p in sys.path if "site-packages" in p)
    if not installed and os.environ.get("PYTHONPATH"):
        env["PYTHONPATH"] = os.environ["PYTHONPATH"]
    return env
