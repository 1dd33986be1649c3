"""Findings about registered kernels and the notebooks that name them."""

from __future__ import annotations

import json
import re
import sys

from kalyx.core.errors import Unreadable
from kalyx.core.facts.interpreters.environment import python_in
from kalyx.core.facts.interpreters.pyvenv import find_venv_config
from kalyx.core.facts.kernels.kernelspecs import SERVER_DEFAULTS
from kalyx.core.facts.search_path.layers import pythonpath_of
from kalyx.core.model import Edit, Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.reading.kernel_labels import claimed_version, forms_of, plain_name
from kalyx.core.verdicts.remedies.environments import remake
from kalyx.core.verdicts.remedies.kernels import (
    enrol_again,
    enrol_under,
    put_kernel_package,
    switch_kernel,
    well_kernels,
)
from kalyx.core.verdicts.remedies.shell_lines import command_line
from kalyx.core.verdicts.seats.interpreter import which_is_gone

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.environments.neighbours import Neighbours
    from kalyx.core.facts.files import Files
    from kalyx.core.facts.kernels.notebooks import NotebookKernel
    from kalyx.core.facts.seats.context import SeatFacts
    from kalyx.core.model import Environment, Kernel

__all__ = ["judge_kernel", "kernel_cannot_start", "kernel_follows_server", "kernel_hidden",
           "kernel_interpreter_gone", "kernel_mislabelled", "kernel_missing", "kernel_not_activated",
           "kernel_unreadable", "notebook_unreadable"]


def judge_kernel(facts: SeatFacts, files: Files, neighbours: Neighbours) -> list[Finding]:
    """Return what is wrong with a kernel or notebook seat."""
    found = [
        notebook_unreadable(facts), kernel_missing(facts, files, neighbours),
        kernel_unreadable(facts, files, neighbours),
        kernel_interpreter_gone(facts, files, neighbours), kernel_cannot_start(facts, files, neighbours),
        kernel_mislabelled(facts, files, neighbours), kernel_follows_server(facts),
        kernel_not_activated(facts, files),
    ]
    return [f for f in found if f is not None]


@cause("notebook-unreadable", "a notebook file is not readable as a notebook",
       brief="a notebook cannot be read")
def notebook_unreadable(facts: SeatFacts) -> Finding | None:
    """Report a notebook that is not JSON or holds no metadata.

    Looks like: The notebook does not open.
    Why: The file is not JSON, or has no metadata: a merge gone wrong, a download of a web page.
    How Kalyx knows: The place at which reading stops.
    What to do: Mend the file, or take it from a backup.
    """
    notebook = facts.notebook
    if notebook is None or not notebook.trouble:
        return None
    return Finding.warning(
        "notebook-unreadable", "certain",
        f"The notebook {notebook.path} cannot be read: {notebook.trouble}.",
        (Evidence(notebook.trouble, notebook.path),),
        (Remedy(f"Open {notebook.path} in an editor and mend it, or take it from a backup.",
                "manual", changes=notebook.path),))


@cause("kernel-missing", "a notebook names a kernel that is not registered here",
       brief="a notebook names a kernel that is not registered")
def kernel_missing(facts: SeatFacts, files: Files, neighbours: Neighbours) -> Finding | None:
    """Name the kernels that are registered, the most alike first.

    Looks like: The notebook asks for a kernel when it is opened.
    Why: It names a kernel that is not registered on this machine.
    How Kalyx knows: The search folders, and the kernels in them.
    What to do: Choose a kernel that is here, or enrol one of that name.
    """
    notebook = facts.notebook
    if notebook is None or notebook.name is None or facts.kernel is not None:
        return None
    import difflib

    if notebook.name in SERVER_DEFAULTS:
        return _servers_own(notebook, notebook.name)
    names = list(dict.fromkeys(k.name for k in facts.others))
    close = difflib.get_close_matches(notebook.name.lower(), names, 3, 0.55)
    near = [*close, *(n for n in names if n not in close)]
    well = [k for k, _ in well_kernels(facts.others, files, neighbours, _needs(files, notebook.path))]
    alike = [k for n in near for k in well if k.name == n and n in close]
    todo = [switch_kernel(notebook.path, k, files) for k in [*alike, *well][:1] if alike or len(names) == 1]
    if not todo:  # the one that is meant may be there and want mending first
        broken = next((k for n in close for k in facts.others if k.name == n), None)
        todo = _instead(broken, files, neighbours)[1] if broken is not None else []
    nearest = f"; {close[0]} is the nearest, and does not start" if todo and close and close[0] not in {
        k.name for k in well} else ""
    todo.append(enrol_under(files, neighbours, notebook.name or "", "Enrol", overwrite=False))
    return Finding.error(
        "kernel-missing", "certain",
        f"{notebook.path} names the kernel {notebook.name!r}, and no kernel of that name is "
        f"registered here{nearest}.",
        (Evidence(f"the notebook's metadata names {notebook.name!r}", notebook.path,
                  notebook.line),
         Evidence("registered here: " + (", ".join(near[:8]) or "none"))), tuple(todo))


def _needs(files: Files, notebook: str) -> list[str]:
    """Return the modules that a notebook's cells import and that a kernel's environment has to have."""
    from kalyx.core.facts.source_code.imports import read_source

    own = {n.partition(".")[0] for n in files.entries(files.path.dirname(notebook))}
    tops = {name.module.partition(".")[0] for name in read_source(files, notebook).imports
            if not (name.guard or name.marker)}
    return sorted(tops - own - set(sys.stdlib_module_names))


def _servers_own(notebook: NotebookKernel, name: str) -> Finding:
    """Say that the name is each server's own, where no server is found that would mean it."""
    return Finding.warning(
        "kernel-missing", "certain",
        f"{notebook.path} names {name!r}, which is what each notebook server calls its own kernel; "
        "PATH has no server that has one, so what runs it depends on the server that opens it.",
        (Evidence(f"the notebook's metadata names {name!r}", notebook.path, notebook.line),
         Evidence(f"no kernel of the name {name} is registered, for the user or the system")),
        (Remedy("Start the notebook server of the environment that you want, from that environment: "
                "its own kernel is then meant.", "manual", changes="which server is used"),
         Remedy("Or enrol the environment, with kalyx enrol, and choose its kernel in the notebook; the line below "
                "lists those that are here.", "manual", changes=notebook.path, typed="kalyx envs")))


@cause("kernel-unreadable", "kernel.json cannot be read or lacks what it must have",
       brief="a kernelspec is broken")
def kernel_unreadable(facts: SeatFacts, files: Files, neighbours: Neighbours) -> Finding | None:
    """Report a broken kernel.json.

    Looks like: A kernel is not in the menu, or fails at once.
    Why: kernel.json is not JSON, or lacks its argv.
    How Kalyx knows: The line at which reading stops.
    What to do: Enrol the environment again: which one can often still be read in the file.
    """
    kernel = facts.kernel
    if kernel is None or not kernel.trouble:
        return None
    evidence, todo = _instead(kernel, files, neighbours)
    return Finding.error(
        "kernel-unreadable", "certain",
        f"The kernel {kernel.name} cannot be used: {kernel.spec}: {kernel.trouble}.",
        (Evidence(kernel.trouble, kernel.spec), *evidence),
        (*todo, enrol_under(files, neighbours, kernel.name, "Or enrol" if todo else "Enrol", overwrite=True)))


def _written_anew(kernel: Kernel, environment: Environment, files: Files) -> Remedy | None:
    """Return the edit that makes a broken kernel.json one that starts an environment."""
    try:
        before = files.read_text(kernel.spec, 262_144)
    except Unreadable:
        return None
    if "\ufffd" in before:
        return None  # what cannot be decoded cannot be named as what stands there
    argv = [python_in(files, environment.path), "-m", "ipykernel_launcher", "-f", "{connection_file}"]
    after = json.dumps({"argv": argv, "display_name": kernel.label, "language": "python"}, indent=1) + "\n"
    return Remedy(f"Write {kernel.spec} anew, to start {argv[0]}.", "edit",
                  edits=(Edit(kernel.spec, before or None, after),), changes=kernel.spec, undoable=True)


def _instead(kernel: Kernel, files: Files, neighbours: Neighbours) -> tuple[list[Evidence], list[Remedy]]:
    """Return what the kernel was meant to run, where that can be told, and how to have it run that."""
    from kalyx.core.verdicts.remedies.kernels import run_instead, stand_in

    found = stand_in(kernel, files, neighbours)
    if found is None:
        return [], []
    environment, evidence = found
    todo = run_instead(kernel, environment, files, neighbours)
    if kernel.trouble and "--with-kernel-package" in todo.argv:
        todo = _written_anew(kernel, environment, files) or todo
    return [evidence], [todo]


@cause("kernel-interpreter-gone", "its interpreter or environment is gone",
       brief="a kernel's interpreter is gone",
       instead_of=("interpreter-gone", "interpreter-broken"))
def kernel_interpreter_gone(facts: SeatFacts, files: Files, neighbours: Neighbours) -> Finding | None:
    """Report a kernel whose program is not there any more.

    Looks like: A kernel stays in the menu and never starts.
    Why: Its environment was deleted or moved.
    How Kalyx knows: The program in kernel.json is not there.
    What to do: Have it start the environment that it was meant for: one that was moved, or that carries
        its name; put that on another base, where its base is gone; or retire the kernel.
    """
    kernel, interpreter = facts.kernel, facts.seat.interpreter
    if kernel is None or kernel.trouble:
        return None
    if interpreter is None:
        if facts.kernel_how not in ("none", "refused"):
            return None
        missing, trouble = facts.kernel_word, facts.cannot_start or f"PATH has no {facts.kernel_word}"
    elif interpreter.known_by == "gone":
        missing, trouble = interpreter.path, interpreter.trouble
    else:
        return None
    config = find_venv_config(files, missing) if interpreter is not None else None
    evidence: list[Evidence] = []
    todo = list(remake(files, config, neighbours.bases)) if config else []
    if not todo:
        evidence, todo = _instead(kernel, files, neighbours)
    return Finding.error(
        "kernel-interpreter-gone", "certain",
        f"The kernel {kernel.name} ({kernel.label}) starts {missing}"
        f"{which_is_gone(missing, trouble)}.",
        (Evidence(f"its program is {kernel.argv[0]}", kernel.spec),
         Evidence(trouble, missing), *evidence),
        (*todo, enrol_under(files, neighbours, kernel.name, "Or enrol" if todo else "Enrol", overwrite=True),
         _out_of_the_menu(files, kernel, for_notebook=facts.notebook is not None)))


def _out_of_the_menu(files: Files, kernel: Kernel, *, for_notebook: bool) -> Remedy:
    """Return how a kernel is unregistered: by hand where a notebook names it, which that alone would not help."""
    says, line = f"Or take the kernel {kernel.name} out of the menu", ("retire", kernel.name, "--yes")
    if for_notebook:
        return Remedy(f"{says}, by the line below.", "manual", changes=kernel.folder,
                      typed=command_line(files, ("kalyx", *line[:2])))
    return Remedy(f"{says}.", "command", argv=(*files.own_command, *line), changes=kernel.folder, undoable=True)


@cause("kernel-cannot-start", "the interpreter lacks a working kernel package",
       brief="a kernel cannot start")
def kernel_cannot_start(facts: SeatFacts, files: Files,
                        neighbours: Neighbours) -> Finding | None:
    """Find a kernelspec that starts a module which its interpreter does not have.

    Looks like: The notebook says that the kernel died or cannot start.
    Why: The kernel's interpreter has no working kernel package.
    How Kalyx knows: The module that the kernelspec starts is not in that interpreter's layers.
    What to do: Put the kernel package into that environment.
    """
    kernel, interpreter = facts.kernel, facts.seat.interpreter
    if kernel is None or interpreter is None or not interpreter.works or not interpreter.prefix:
        return None
    words = facts.kernel_command or kernel.argv
    if "-m" not in words[:-1]:
        return None
    module = words[words.index("-m") + 1].split(".")[0]
    more = _extra_paths(facts, files)
    folders = [*neighbours.visible_sites(interpreter), *more]
    if folders == more or any(files.is_file(p) for p in more) or neighbours.any_holds(folders, module):
        return None
    return Finding.error(
        "kernel-cannot-start", "certain",
        f"The kernel {kernel.name} starts {module}, which {interpreter.prefix} does not have.",
        (Evidence(f"its command is {' '.join(kernel.argv)}", kernel.spec),
         *([Evidence(f"that starts {words[0]} -m {module}", kernel.spec)] if tuple(words) != kernel.argv else []),
         *[Evidence(f"{module} is not in {f}", f) for f in folders]),
        (put_kernel_package(files, neighbours, interpreter, _package_of(module)),))


def _package_of(module: str) -> str:
    """Return the distribution that brings the module which a kernelspec starts."""
    return "ipykernel" if module == "ipykernel_launcher" else module


def _extra_paths(facts: SeatFacts, files: Files) -> list[str]:
    """Return the entries of PYTHONPATH with which a kernel is started."""
    launch = facts.seat.launch
    return pythonpath_of(files, launch.env, launch.cwd) if launch else []


@cause("kernel-mislabelled", "name or label claims an environment or a version that is not "
       "what runs",
       brief="a kernel is not what its label says")
def kernel_mislabelled(facts: SeatFacts, files: Files,
                       neighbours: Neighbours) -> Finding | None:
    """Compare what a kernel's name and label say with what it runs.

    Looks like: A kernel carries an environment's name and has other packages.
    Why: It was registered while another interpreter was active.
    How Kalyx knows: The interpreter in kernel.json is compared with what name and label claim.
    What to do: Enrol the environment that is meant, in its place.
    """
    kernel, interpreter = facts.kernel, facts.seat.interpreter
    if kernel is None or interpreter is None or not interpreter.works or not interpreter.version:
        return None
    claimed = claimed_version(kernel, interpreter.version)
    runs = f"{interpreter.prefix} (Python {interpreter.version})"
    evidence = [Evidence(f"name {kernel.name!r}, label {kernel.label!r}", kernel.spec),
                Evidence(f"its program is {kernel.argv[0]}, which runs {runs}", interpreter.path)]
    todo: tuple[Remedy, ...] = (enrol_under(files, neighbours, kernel.name, "Enrol", overwrite=True),)
    if claimed:
        because = f"The kernel {kernel.label!r} says Python {claimed}, and runs {runs}."
    else:
        environment = _claimed_environment(facts, files, neighbours)
        if environment is None:
            return None
        because = (f"The kernel {kernel.label!r} carries the name of {environment.path}, and runs "
                   f"{runs}.")
        evidence.append(Evidence(f"{environment.path} is another environment, called "
                                 f"{environment.name}", environment.path))
        todo = (enrol_again(environment, kernel, files),)
    return Finding.warning(
        "kernel-mislabelled", "certain", because, tuple(evidence), todo)


def _claimed_environment(facts: SeatFacts, files: Files,
                         neighbours: Neighbours) -> Environment | None:
    kernel, mine = facts.kernel, facts.seat.environment
    if kernel is None or mine is None:
        return None
    claims = {plain_name(kernel.name), plain_name(re.split(r"[(\[]", kernel.label)[0])}
    claims |= {plain_name(c.removeprefix("Python").strip()) for c in
               (re.sub(r"Python[ \d.]*", "", kernel.label),)}
    claims -= {"", "python", "python2", "python3", "python-3", "venv", "env"}
    if claims & forms_of(mine.name):
        return None
    for environment in neighbours.called(claims, forms_of):
        if environment.kind != "base" and not files.same(environment.path, mine.path):
            return environment
    return None


@cause("kernel-follows-server", "its program is the bare word python: it runs the server's "
       "interpreter, not a fixed one")
def kernel_follows_server(facts: SeatFacts) -> Finding | None:
    """Note a kernel that runs whatever its server runs in.

    Looks like: A kernel runs another Python than its label says, depending on who started the server.
    Why: Its program is the bare word python: that is the interpreter of the notebook server.
    How Kalyx knows: The argv in kernel.json, and the server that was found.
    What to do: Enrol the environment, so that the kernel has an interpreter of its own.
    """
    kernel = facts.kernel
    if kernel is None or facts.kernel_how != "server":
        return None
    return Finding.note(
        "kernel-follows-server", "certain",
        f"The kernel {kernel.name} names no interpreter of its own: it runs that of the notebook "
        "server which starts it.",
        (Evidence(f"its program is the bare word {kernel.argv[0]}", kernel.spec),))


@cause("kernel-hidden", "another kernelspec of the same name is found first")
def kernel_hidden(kernel: Kernel, first: Kernel) -> Finding:
    """Note a kernelspec that nothing finds, as another of its name comes first.

    Looks like: A kernel that you registered does not behave as it should.
    Why: Another kernelspec of the same name is found first.
    How Kalyx knows: Both files, in the search order.
    What to do: Retire one of them, or register yours under another name.
    """
    return Finding.note(
        "kernel-hidden", "certain",
        f"{kernel.spec} is hidden: {first.spec} has the name {kernel.name} too, and is found first.",
        (Evidence("found first", first.spec), Evidence(f"also called {kernel.name}", kernel.spec)),
        (Remedy(f"Register it under another name, or retire the one in front: kalyx retire {kernel.name}",
                "manual", changes="which of them is found"),))


@cause("kernel-not-activated", "it runs an environment that needs its variables or PATH set, and the "
       "kernelspec sets none", brief="a kernel does not activate its environment")
def kernel_not_activated(facts: SeatFacts, files: Files) -> Finding | None:
    """Find a kernel of a conda environment that starts without the environment's variables.

    A venv works without; there only commands in a cell, such as ``!pip``, go
    elsewhere, which is a note.

    Looks like: `DLL load failed`, a missing library or data file in the notebook only; `!pip` in a cell
        installs somewhere else.
    Why: The kernel starts the environment's interpreter without activating the environment: its folder of
        programs is not on PATH and its variables are not set.
    How Kalyx knows: Neither the env of kernel.json nor a script that it starts puts the folder of programs
        on PATH.
    What to do: Enrol the environment again; Kalyx sets what activation sets.
    """
    kernel, environment = facts.kernel, facts.seat.environment
    if kernel is None or environment is None or facts.kernel_how != "path" or environment.kind == "base":
        return None
    m = files
    folder = m.path.join(environment.path, "Scripts" if m.platform == "win32" else "bin")
    started = facts.seat.launch.env.get("PATH", "") if facts.seat.launch else ""
    added = started.removesuffix(m.env.get("PATH", ""))  # whatever is active where Kalyx is asked
    entries = [*kernel.env.get("PATH", "").split(m.path_separator), *added.split(m.path_separator)]
    if folder in entries or any(p and m.same(p, folder) for p in entries) or not m.is_folder(folder):
        return None
    conda = environment.kind == "conda"
    if not conda and facts.notebook is not None:
        return None  # a matter of the kernel, told where kernels are listed
    if not conda and not any(m.exists(m.path.join(folder, n)) for n in ("pip", "pip.exe")):
        return None
    what = "its libraries and data may not be found, and " if conda else ""
    return Finding(
        "kernel-not-activated", "warning" if conda and facts.seat.kind == "kernel" else "note", "certain",
        f"The kernel {kernel.name} starts {environment.path} without activating it: {what}a command such "
        "as pip in a cell is that of the notebook server's PATH.",
        (Evidence(f"{folder} is not on the PATH that kernel.json gives it", kernel.spec),),
        (enrol_again(environment, kernel, files),))
