"""Which environment a kernel was meant to run, where what it names is gone, and how to have it run that."""

from __future__ import annotations

import json
import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.editors.json_text import JsonText
from kalyx.core.facts.environments.activation import place_named
from kalyx.core.facts.interpreters.environment import is_environment, prefix_of, python_in
from kalyx.core.facts.interpreters.installation import find_library
from kalyx.core.facts.kernels.kernelspecs import prefix_of_kernel
from kalyx.core.facts.packaging.pip_lines import own_pip
from kalyx.core.model import Evidence, Remedy
from kalyx.core.quoting import join_words
from kalyx.core.verdicts.reading.kernel_labels import claimed_version, claims_of, forms_of, names_of, plain_name
from kalyx.core.verdicts.remedies.environments import get_pip
from kalyx.core.verdicts.remedies.shell_lines import command_line
from kalyx.core.verdicts.remedies.unique_edits import edit_between
from kalyx.core.verdicts.remedies.which_pip import serving_seat

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.environments.neighbours import Neighbours
    from kalyx.core.facts.files import Files
    from kalyx.core.model import Environment, Interpreter, Kernel

__all__ = ["enrol_again", "enrol_under", "lacked_by", "name_kernel", "put_kernel_package", "run_instead", "stand_in",
           "switch_kernel", "well_kernels"]

_ARGV = re.compile(r'"argv"\s*:\s*\[\s*"((?:[^"\\]|\\.)+)"')


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
        edit = edit_between(kernel.spec, text, JsonText(text).with_value(program, "argv", 0))
        if edit is not None:
            return Remedy(f"Have the kernel {kernel.name} start {program}{why}.", "edit", edits=(edit,),
                          changes=kernel.spec, undoable=True)
    more, adds = ((), "") if has_package else (
        ("--with-kernel-package",), f"; adds the kernel package to {environment.path}")
    return Remedy(f"Enrol {environment.path} under the name {kernel.name}{why}.", "command",
                  argv=(*m.own_command, "enrol", environment.path, "--name", kernel.name, "--overwrite", *more),
                  changes=kernel.spec + adds, undoable=True)


def well_kernels(kernels: Sequence[Kernel], files: Files, neighbours: Neighbours,
                 modules: Sequence[str] = ()) -> list[tuple[Kernel, Environment]]:
    """Return the kernels that a notebook may be sent to, with what each runs: those first that lack least.

    Each is found first of its name, starts an environment that is there, and is what its name and label say.
    What it may lack is the module that it starts, and `modules`.
    """
    m, seen, found = files, set(), []
    for kernel in kernels:
        if kernel.name in seen:
            continue  # hidden behind another
        seen.add(kernel.name)
        prefix = prefix_of_kernel(m, kernel) if kernel.argv and not kernel.trouble else []
        environment = next((e for e in neighbours.environments if prefix and m.same(e.path, prefix[0])), None)
        if environment is not None and _is_what_it_says(kernel, environment, files, neighbours):
            found.append((len(lacked_by(kernel, environment, neighbours, modules)), kernel, environment))
    return [(kernel, environment) for _, kernel, environment in sorted(found, key=lambda f: f[0])]


def lacked_by(kernel: Kernel, environment: Environment, neighbours: Neighbours,
              modules: Sequence[str] = ()) -> list[str]:
    """Return what an environment has not: of the module that a kernel starts in it, and of others."""
    words, sites = kernel.argv, neighbours.sites(environment)
    started = [words[words.index("-m") + 1].split(".")[0]] if "-m" in words[:-1] else []
    return [name for name in (*started, *modules) if not neighbours.any_holds(sites, name)]


def _is_what_it_says(kernel: Kernel, environment: Environment, files: Files, neighbours: Neighbours) -> bool:
    """Whether a kernel's environment runs, and is the one that its name and label claim, in the version they claim."""
    interpreter = environment.interpreter
    if interpreter is None or not interpreter.works or kernel.language.lower() not in ("", "python"):
        return False
    if claimed_version(kernel, interpreter.version or environment.python_version or "0"):
        return False
    claims = claims_of(kernel)
    return bool(claims & names_of(environment)) or not [
        e for e in neighbours.called(claims, forms_of) if e.kind != "base" and not files.same(e.path, environment.path)]


def switch_kernel(notebook: str, kernel: Kernel, files: Files, *, other: bool = False, why: str = "") -> Remedy:
    """Return the edit that makes a notebook name another kernel; `other`: it is said after another remedy."""
    try:
        text = files.read_text(notebook)
        edit = edit_between(notebook, text, name_kernel(text, kernel))
    except (Unreadable, ValueError):
        edit = None
    if edit is not None:
        return Remedy(f"{'Or have' if other else 'Have'} the notebook use the kernel {kernel.name} ({kernel.label})"
                      f"{why}.", "edit", edits=(edit,), changes=notebook, undoable=True)
    return Remedy(f"Choose the kernel {kernel.name} ({kernel.label}) in the notebook's kernel "
                  "menu.", "manual", changes=notebook)


def name_kernel(text: str, kernel: Kernel) -> str:
    """Return a notebook's text with another kernel in its metadata; all else stays.

    Raises:
        ValueError: it is no notebook.
    """
    read = JsonText(text)
    metadata = read.content.get("metadata") if isinstance(read.content, dict) else None
    if not isinstance(metadata, dict):
        raise ValueError("it has no metadata, so it is no notebook")
    if not isinstance(metadata.get("kernelspec"), dict):
        return read.with_value({"display_name": kernel.label, "language": kernel.language or "python",
                                "name": kernel.name}, "metadata", "kernelspec")
    for key, value in (("name", kernel.name), ("display_name", kernel.label),
                       ("language", kernel.language or "python")):
        if JsonText(text).content["metadata"]["kernelspec"].get(key) != value:
            text = JsonText(text).with_value(value, "metadata", "kernelspec", key)
    return text


def enrol_again(environment: Environment, kernel: Kernel, files: Files) -> Remedy:
    """Return the command that makes a kernel run the environment that it is named for."""
    return Remedy(
        f"Enrol {environment.path} under the name {kernel.name}, so that it is what it says.",
        "command", argv=(*files.own_command, "enrol", environment.path, "--name", kernel.name,
                         "--overwrite"), changes=kernel.spec, undoable=True)


def enrol_under(files: Files, neighbours: Neighbours, name: str, begin: str, *, overwrite: bool) -> Remedy:
    """Return how a kernel of a certain name comes to run an environment: the one of that name, where there is one."""
    meant = [e for e in neighbours.environments if e.interpreter is not None and e.interpreter.works
             and name.lower() in {e.name.lower(), files.path.basename(e.path).lower()} and e.kind != "base"]
    if len(meant) == 1:
        return Remedy(f"{begin} {meant[0].path} under the name {name}.", "command",
                      argv=(*files.own_command, "enrol", meant[0].path, "--name", name,
                            *(["--overwrite"] if overwrite else ())),
                      changes=f"the kernel {name} in your own folder", undoable=True)
    return Remedy(f"{begin} the environment that it should run under the name {name}, with kalyx enrol; the line below "
                  "lists those that are here.", "manual", changes=f"the kernel {name} in your own folder",
                  typed="kalyx envs")


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
                      "kernel package, and enrol that, by the line below.", "manual",
                      changes="makes an environment of your own",
                      typed=command_line(files, ("kalyx", "make", ".venv", "--python", interpreter.path, "--enrol")))
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
