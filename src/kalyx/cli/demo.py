"""``kalyx demo``."""

from __future__ import annotations

import os
import shlex
import shutil
import sys
import tempfile

from kalyx.cli.options import print_error

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of ``demo``."""
    parser.add_argument("--keep", metavar="FOLDER",
                        help="build it in FOLDER, leave it there, and print the lines that enter it")


def run(options: argparse.Namespace) -> str:
    """Build the scenario, run the tour, and take it away again unless it is kept."""
    from kalyx.demo.scenario import build

    folder = options.keep or tempfile.mkdtemp(prefix="kalyx-demo-")
    try:
        if not options.quiet and sys.stderr.isatty():
            print_error("building the Fernhollow Seed Bank …")
        scenario = build(folder)
        if options.json:
            return _as_document(options, scenario)
        if options.keep:
            print(entering_lines(scenario))
        else:
            _tour(options, scenario)
    finally:
        if not options.keep:
            shutil.rmtree(folder, ignore_errors=True)
    return "ok"


def _tour(options: argparse.Namespace, scenario: object) -> None:
    from kalyx.demo.scenario import Scenario
    from kalyx.demo.tour import STEPS, run_step
    from kalyx.show.page import Line, Page
    from kalyx.show.write import Writer

    assert isinstance(scenario, Scenario)
    passed_on = ["--color", options.color] + [f"--{n}" for n in ("quiet", "verbose")
                                              if getattr(options, n)]
    writer = Writer(color=options.color)
    intro = Page()
    intro.title("note", "Fernhollow Seed Bank, a made-up seed archive. Everything below is real: "
                "environments, kernels, mistakes, and the answers of each command.")
    writer.write(intro)
    for number, step in enumerate(STEPS, 1):
        page = Page(scenario.env["HOME"])
        page.lines.append(Line(""))
        page.say(step.says, "part", 0, f"{number}  ")
        page.command(("kalyx", *step.argv), indent=3)
        page.lines.append(Line(""))
        writer.write(page)
        run_step(step, scenario, tuple(passed_on))
    outro = Page()
    outro.lines.append(Line(""))
    outro.title("note", "That was all of it, and it is gone again. kalyx demo --keep FOLDER leaves "
                "it there to play with.")
    writer.write(outro)


def _as_document(options: argparse.Namespace, scenario: object) -> str:
    from kalyx.demo.scenario import Scenario
    from kalyx.demo.tour import STEPS, run_step_for_json
    from kalyx.show.as_json import document

    assert isinstance(scenario, Scenario)
    steps = [] if options.keep else [run_step_for_json(step, scenario) for step in STEPS]
    print(document("demo", "ok", {"folder": scenario.folder, "project": scenario.project,
                                  "env": scenario.changed, "steps": steps}))
    return "ok"


def entering_lines(scenario: object) -> str:
    """Return the lines that make a shell see the scenario as its world."""
    from kalyx.demo.scenario import Scenario

    assert isinstance(scenario, Scenario)
    if os.name == "nt":
        lines = [f"set {name}=" for name in scenario.unset]
        lines += [f"set {name}={value}" for name, value in scenario.changed.items()]
        own = f"set PATH=%PATH%;{os.path.dirname(sys.executable)}"
        return "\n".join([*lines, own, f"cd /d {scenario.project}"])
    lines = [f"unset {' '.join(scenario.unset)}"] if scenario.unset else []
    own = _kalyx_command()
    lines += [f"export {name}={shlex.quote(value)}" for name, value in scenario.changed.items()]
    return "\n".join([*lines, f"kalyx() {{ {own} \"$@\"; }}", f"cd {shlex.quote(scenario.project)}"])


def _kalyx_command() -> str:
    script = os.path.abspath(sys.argv[0])
    if os.path.basename(script).startswith("kalyx") and os.access(script, os.X_OK):
        return shlex.quote(script)
    return f"{shlex.quote(sys.executable)} -m kalyx"
