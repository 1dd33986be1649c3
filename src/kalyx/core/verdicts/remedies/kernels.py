"""Which environment a kernel was meant to run, where what it names is gone, and how to have it run that."""

from __future__ import annotations

import json
import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.environments.activation import place_named
from kalyx.core.facts.interpreters.environment import is_environment, prefix_of, python_in
from kalyx.core.facts.interpreters.installation import find_library
from kalyx.core.facts.packaging.pip_lines import own_pip
from kalyx.core.model import Edit, Evidence, Remedy
from kalyx.core.quoting import join_words
from kalyx.core.verdicts.remedies.environments import get_pip
from kalyx.core.verdicts.remedies.pip import serving_seat

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.environments.neighbours import Neighbours
    from kalyx.core.facts.files import Files
    from kalyx.core.model import Environment, Interpreter, Kernel

__all__ = ["claims_of", "enrol_again", "kernels_having", "names_of", "plain_name", "run_instead", "stand_in",
           "switch_kernel"]

_ARGV = re.compile(r'"argv"\s*:\s*\[\s*"((?:[^"\\]|\\.)+)"')


def plain_name(name: str) -> str:
    """Return a name in the form in which names of kernels and environments are compared."""
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")


def claims_of(kernel: Kernel) -> set[str]:
    """Return the names of environments that a kernel's own name and label may stand for."""
    return {plain_name(kernel.name), plain_name(re.split(r"[(\[]", kernel.label)[0])} - {
        "", "python", "python2", "python3", "python-3", "venv", "env"}


def names_of(environment: Environment) -> set[str]:
    """Return the forms in which an environment's name may stand in a kernel's."""
    return {plain_name(environment.name), plain_name(environment.name.split("/")[0])}


def stand_in(kernel: Kernel, files: Files, neighbours: Neighbours) -> tuple[Environment, Evidence] | None:
    """Return the environment that a kernel was meant to run, and how that is known.

    It stands in what can still be read of a broken kernel.json; or an environment was moved away from the
    place that the kernel names; or one is called as the kernel is, or nearly as the place was.
    """
    m = files
    program = kernel.argv[0] if kernel.argv else _program_in(files, kernel.spec)
    prefix = prefix_of(m, program) if program else ""
    usable = [e for e in neighbours.environments if e.interpreter is not None and e.interpreter.works
              and e.kind != "base"]
    if prefix and is_environment(m, prefix):
        found = next((e for e in usable if m.same(e.path, prefix)), None)
        return (found, Evidence(f"it names {program}", kernel.spec)) if found else None
    for environment in usable if prefix else ():
        place = place_named(m, environment.path)
        if place is not None and m.same(place[0], prefix):
            return environment, Evidence(f"{environment.path} was moved from {prefix}", place[1].path,
                                         place[1].line)
    named = [e for e in usable if claims_of(kernel) & names_of(e)]
    if len(named) == 1:
        return named[0], Evidence(f"{named[0].path} is called as the kernel is", named[0].path)
    import difflib

    was = plain_name(m.path.basename(prefix))
    near = difflib.get_close_matches(was, [plain_name(e.name) for e in usable], 1, 0.75) if was else []
    alike = [e for e in usable if near and plain_name(e.name) == near[0]]
    if len(alike) == 1:
        return alike[0], Evidence(f"{alike[0].path} is called nearly as {prefix} was", alike[0].path)
    return None


def _program_in(files: Files, spec: str) -> str:
    """Return the program that a kernel.json names which is no JSON any more."""
    try:
        match = _ARGV.search(files.read_text(spec, 262_144))
        return str(json.loads(f'"{match.group(1)}"')) if match else ""
    except (Unreadable, ValueError):
        return ""


def run_instead(kernel: Kernel, environment: Environment, files: Files, neighbours: Neighbours,
                why: str = "") -> Remedy:
    """Return how to have a kernel run an environment: by enrolling it, where it has a kernel package.

    Else by naming its interpreter in kernel.json: nothing is installed, and what the kernel lacks then
    is a matter of its own.
    """
    m = files
    program = python_in(m, environment.path)
    has_package = neighbours.any_holds(neighbours.sites(environment), "ipykernel")
    if not has_package and kernel.argv and not kernel.trouble:
        text = m.read_text(kernel.spec, 262_144)
        before = json.dumps(kernel.argv[0])
        if text.count(before) == 1:
            return Remedy(f"Have the kernel {kernel.name} start {program}{why}.", "edit",
                          edits=(Edit(kernel.spec, before, json.dumps(program)),), changes=kernel.spec,
                          undoable=True)
    more, adds = ((), "") if has_package else (
        ("--with-kernel-package",), f"; adds the kernel package to {environment.path}")
    return Remedy(f"Enrol {environment.path} under the name {kernel.name}{why}.", "command",
                  argv=(*m.own_command, "enrol", environment.path, "--name", kernel.name, "--overwrite", *more),
                  changes=kernel.spec + adds, undoable=True)


def kernels_having(module: str, kernels: tuple[Kernel, ...], files: Files,
                   neighbours: Neighbours) -> list[Kernel]:
    """Return the kernels that run an environment which has a module, in their order."""
    m = files
    having = {m.key(e.environment.path) for e in neighbours.having(module, None)}
    return [k for k in kernels if k.argv and m.path.isabs(k.argv[0]) and not k.trouble
            and m.is_executable(k.argv[0])
            and m.key(prefix_of(m, k.argv[0])) in having]


def switch_kernel(notebook: str, kernel: Kernel, files: Files, *, other: bool = False, why: str = "") -> Remedy:
    """Return the edit that makes a notebook name another kernel; `other`: it is said after another remedy."""
    try:
        text = files.read_text(notebook)
    except Unreadable:
        text = ""
    match = re.search(r'"kernelspec"\s*:\s*\{[^{}]*\}', text)
    if match and text.count(match.group(0)) == 1:
        before = match.group(0)
        after = re.sub(r'("name"\s*:\s*)"(?:[^"\\]|\\.)*"',
                       lambda m: m.group(1) + json.dumps(kernel.name), before, count=1)
        after = re.sub(r'("display_name"\s*:\s*)"(?:[^"\\]|\\.)*"',
                       lambda m: m.group(1) + json.dumps(kernel.label, ensure_ascii=False),
                       after, count=1)
        return Remedy(f"{'Or have' if other else 'Have'} the notebook use the kernel {kernel.name} ({kernel.label})"
                      f"{why}.", "edit",
                      edits=(Edit(notebook, before, after),), changes=notebook, undoable=True)
    return Remedy(f"Choose the kernel {kernel.name} ({kernel.label}) in the notebook's kernel "
                  "menu.", "manual", changes=notebook)


def enrol_again(environment: Environment, kernel: Kernel, files: Files) -> Remedy:
    """Return the command that makes a kernel run the environment that it is named for."""
    return Remedy(
        f"Enrol {environment.path} under the name {kernel.name}, so that it is what it says.",
        "command", argv=(*files.own_command, "enrol", environment.path, "--name", kernel.name,
                         "--overwrite"), changes=kernel.spec, undoable=True)


def put_kernel_package(files: Files, neighbours: Neighbours, interpreter: Interpreter, package: str) -> Remedy:
    """Return how an interpreter gets the package that its kernel starts: by a pip that serves it, or the system's."""
    into, adds = interpreter.prefix or interpreter.path, f"adds it to {interpreter.prefix}"
    library = find_library(files, interpreter.real_path)
    managed = interpreter.prefix == interpreter.base_prefix and library is not None and files.is_file(
        files.path.join(library[1], "EXTERNALLY-MANAGED"))
    if managed and interpreter.base_prefix == "/usr" and files.exists("/usr/bin/apt-get"):
        return Remedy(f"Install the system's package python3-{package}: pip is told to leave {into} alone.", "command",
                      argv=("apt-get", "install", "-y", f"python3-{package}"),
                      changes="adds it to the system (needs root)")
    if managed:
        return Remedy(f"{into} belongs to the system, and pip is told to leave it alone. Make an environment with the "
                      "kernel package, and enrol that: kalyx make ENV --enrol", "manual",
                      changes="makes an environment of your own")
    served = serving_seat(neighbours, interpreter)
    if served is not None:
        return Remedy(f"Put the kernel package into {into}.", "command", argv=served.install(package), changes=adds)
    bundled = library is not None and files.exists(files.path.join(library[1], "ensurepip"))
    if not bundled:
        return get_pip(files, interpreter)
    own = own_pip(interpreter.path)
    steps = ((interpreter.path, "-m", "ensurepip"), own.install(package))
    line = " && ".join(join_words(words, "sh") for words in steps)
    if files.platform == "win32":
        return Remedy(f"Give {into} a pip of its own, and with it the kernel package.", "manual", changes=adds,
                      typed=line.replace(" && ", "\n"))
    return Remedy(f"Give {into} a pip of its own, and with it the kernel package.", "command", argv=("sh", "-c", line),
                  changes=adds)
