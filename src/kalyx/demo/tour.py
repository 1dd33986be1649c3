"""The tour: real commands, run on the scenario, with their real output."""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import sys
import time
from collections.abc import Iterator
from typing import Any

from kalyx.core.lean.record import record
from kalyx.demo.distributions import KERNEL_ARGS
from kalyx.demo.scenario import Scenario, program

__all__ = ["STEPS", "Step", "run_step", "run_step_for_json"]


@record
class Step:
    """One command line of the tour, and why a person would type it."""

    says: str
    argv: tuple[str, ...]
    running: str = ""  # an environment whose kernel runs meanwhile


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
    Step("vaultmap was well last week. A full disk has cut one of its files off since.", ("why", "vaultmap")),
    Step("driftplot lacks a name, and says nothing of what is really wrong.", ("why", "driftplot")),
    Step("A file from an old course worked on the Python of then.", ("why", "old_course")),
    Step("skylog was installed by the name that one imports, and has nothing of what it should.",
         ("why", "skylog:daylight")),
    Step("The weather mast is to be asked. What is it that has dewpoint, and which version?",
         ("why", "dewpoint")),
    Step("In the winter environment Python ends at once, whatever it is to do.",
         ("why", "json", "--at", "env:winter")),
    Step("A folder of data is called like a package that is not installed.", ("why", "seedlots")),
    Step("A new colleague's script: what of all that it imports is missing, and what mends it in one go?",
         ("why", "inventory.py")),
    Step("A trainee's first script, put together from a web page and a colleague's file.",
         ("why", "sowing.py")),
    Step("It works with lab-old and not here. What is the difference?",
         ("why", "humidlog", "--compare", "env:lab-old")),
    Step("A visitor sends a traceback from a computer that is not this one.",
         ("why", "--traceback", "visitor.txt")),
    Step("Kalyx cannot be installed on a visitor's laptop. She has run a beacon there, and mails what it printed.",
         ("why", "--from", "visitor-beacon.txt")),
    Step("Nor is it in the container that serves the vault's page. It is asked there through a command.",
         ("why", "humidlog", "germkit", "--through", "python in_container.py")),
    Step("A kernel from the notebook's menu never starts.",
         ("why", "germkit", "--at", "kernel:greenhouse")),
    Step("Which environments are there, and are they well?", ("envs", "--under", "../envs")),
    Step("What can the notebook import, and is anything missing?",
         ("packages", "--at", "notebook:germination.ipynb", "--conflicts")),
    Step("Which of all these environments can run the notebook?", ("fit", "germination.ipynb")),
    Step("The new lab was to have what the old one has. Where do they differ?", ("contrast", "env:lab-old", "env:lab")),
    Step("What takes the space in the old lab?", ("weigh", "--at", "env:lab-old", "--most", "5")),
    Step("The notebook is open. What runs under it?",
         ("running", "--kind", "kernel", "--under", ".."), "lab-old"),
    Step("Which kernels are registered, and is each what it says?", ("kernels",)),
    Step("Make lab a kernel for real, in place of the one that only carries its name.",
         ("enrol", "lab", "--overwrite")),
    Step("From nothing: an environment with a wanted Python, filled, a kernel, and proven.",
         ("make", "trials", "--put", "germkit", "--put", "sprigkernel", "--enrol")),
    Step("Does the notebook's kernel see what the shell sees?",
         ("ask", "shell", "notebook:germination.ipynb", "kernel:trials")),
    Step("humidlog is wanted in the new one. What would that change?",
         ("put", "humidlog", "--at", "env:trials", "--dry-run")),
    Step("Kernels whose environment is gone only stand in the way.", ("retire", "--stale", "--yes")),
    Step("springplan fails, and more than one thing is wrong with it. Have all of it mended in one go.",
         ("mend", "springplan", "--yes")),
    Step("The season's report counts on the old versions: take all of that back.", ("undo",)),
    Step("The editor's setting is one folder off. Have it name the environment that is there.", ("point", "lab")),
    Step("How does one get into the old lab from any shell, and back?", ("enter", "lab-old", "--shell", "bash")),
    Step("What did Kalyx change?", ("changes",)),
    Step("The greenhouse kernel is wanted after all.", ("undo", "3")),
    Step("And now?", ("here",)),
    Step("What the notebook runs in is to be compared on another machine: its facts, as one file.",
         ("snapshot", "--at", "notebook:germination.ipynb", "--why", "germkit", "--to", "germination.json")),
    Step("There they say the same as here.", ("why", "germkit", "--from", "germination.json")),
    Step("What is left goes to a colleague, as one page, without anybody's name.", ("report", "--redact")),
)


def run_step(step: Step, scenario: Scenario, options: tuple[str, ...]) -> int:
    """Run one step with this terminal as its output; return its exit status."""
    argv = [sys.executable, "-m", "kalyx", *step.argv, *options]
    with kernel_of(step, scenario):
        return subprocess.run(argv, env=_env(scenario), cwd=scenario.project, check=False,
                              stdin=subprocess.DEVNULL).returncode


def run_step_for_json(step: Step, scenario: Scenario) -> dict[str, Any]:
    """Run one step with --json and return what it answered."""
    argv = [sys.executable, "-m", "kalyx", *step.argv, "--json"]
    with kernel_of(step, scenario):
        ran = subprocess.run(argv, env=_env(scenario), cwd=scenario.project, check=False,
                             stdin=subprocess.DEVNULL, capture_output=True)
    return {"says": step.says, "argv": ["kalyx", *step.argv], "exit": ran.returncode,
            "answer": json.loads(ran.stdout)}


@contextlib.contextmanager
def kernel_of(step: Step, scenario: Scenario) -> Iterator[None]:
    """Have the kernel of the step's environment running, as a notebook server starts it."""
    if not step.running:
        yield
        return
    from kalyx.core.wire.client import free_ports

    home = scenario.env["HOME"]
    connection = os.path.join(home, "kernel-germination.json")
    ports = free_ports(("shell_port", "iopub_port", "stdin_port", "control_port", "hb_port"))
    with open(connection, "w", encoding="utf-8") as file:
        json.dump({**ports, "ip": "127.0.0.1", "transport": "tcp", "key": "demo",
                   "signature_scheme": "hmac-sha256"}, file)
    argv = [program(os.path.join(home, "envs", step.running), "python"),
            *[a.replace("{connection_file}", connection) for a in KERNEL_ARGS]]
    env = {**scenario.env, "JPY_SESSION_NAME": os.path.join(scenario.project, "germination.ipynb")}
    kernel = subprocess.Popen(argv, env=env, cwd=scenario.project, stdin=subprocess.DEVNULL)
    try:
        time.sleep(0.3)  # until it is past its start
        yield
    finally:
        kernel.kill()
        kernel.wait()


def _env(scenario: Scenario) -> dict[str, str]:
    """Return the scenario's variables; Kalyx itself is found by -m, wherever it is installed."""
    import kalyx

    env = dict(scenario.env)
    installed = any(os.path.dirname(os.path.dirname(os.path.abspath(kalyx.__file__))) == os.path.
                    abspath(p) for p in sys.path if "site-packages" in p)
    if not installed and os.environ.get("PYTHONPATH"):
        env["PYTHONPATH"] = os.environ["PYTHONPATH"]
    return env
