"""What to do: remedies that can be carried out as they stand."""

from __future__ import annotations

import re
from collections.abc import Sequence

from kalyx.core.facts import tables
from kalyx.core.facts.cases import Case
from kalyx.core.facts.distributions import normal_name, requirement_name
from kalyx.core.facts.interpreters import python_in
from kalyx.core.machine import Machine
from kalyx.core.model import Distribution, Elsewhere, Remedy
from kalyx.core.record import replace
from kalyx.core.verdicts.shell_words import command_line

__all__ = ["build_again", "install", "make_readable", "move_seat", "quiet_flags", "reinstall",
           "remove_file", "rename", "rename_file", "restore_library", "set_aside"]


# What pip itself imports of an environment where it is there, and stumbles over where that is damaged
BREAK_PIP = {"attrs": ("attr", "attrs")}


def quiet_flags(case: Case) -> tuple[str, ...]:
    """Return the flags without which pip itself would fail here: -I, -W ignore.

    A file that hides a module of the standard library from the person's import
    hides it from ``python -m pip`` run in the same folder too.
    """
    if case.version < (3, 4):
        return ()
    calm = ("-W", "ignore") if "error" in case.launch.env.get("PYTHONWARNINGS", "") else ()  # pip warns too
    for layer in case.layers:
        if layer.layer in ("start", "pythonpath"):
            stems = {n.removesuffix(".py") for n in case.finder.names(layer.path)}
            for name in stems & (case.stdlib_names | {"pip"}):
                if case.finder.find_in(layer.path, name) is not None:
                    return (*calm, "-I")
    return calm


def pip_command(case: Case) -> tuple[str, ...] | None:
    """Return how to run pip for the seat's interpreter; None when it has none to use.

    Where the seat's environment has no pip of its own, another environment's
    recent one can install into it.
    """
    if case.candidates("pip"):
        return (case.python, *quiet_flags(case), "-m", "pip")
    if case.version < (3, 8):
        return None
    nearest_first = sorted(case.neighbours.environments,
                           key=lambda e: e.path != case.base_prefix)
    for environment in nearest_first:
        interpreter = environment.interpreter
        if interpreter is None or not interpreter.works:
            continue
        for folder in case.neighbours.sites(environment):
            pip = case.neighbours.shelf(folder).named("pip")
            if pip is not None and int(re.match(r"\d*", pip.version)[0] or 0) >= 23:  # type: ignore[index]
                return (interpreter.path, "-m", "pip", "--python", case.python)
    return None


def managed_marker(case: Case) -> str | None:
    """Return the file by which a base installation forbids pip to change it (PEP 668)."""
    if case.prefix != case.base_prefix:
        return None
    m = case.machine
    for layer in case.layers:
        if layer.layer == "stdlib":
            marker = m.path.join(layer.path, "EXTERNALLY-MANAGED")
            if m.is_file(marker):
                return str(marker)
    return None


def unmet(case: Case, owner: Distribution | None, first: str) -> tuple[str, ...]:
    """Return what else a distribution requires and has not, so that one fix does not uncover the next failure.

    Where pip is told to look into local folders alone, what they do not have is left out.
    """
    from kalyx.core.facts.markers import applies, is_met
    from kalyx.core.verdicts.pins import pinned

    found, closed = {}, case.wheelhouse.is_closed
    for line in owner.requires if owner is not None else ():
        name = normal_name(requirement_name(line))
        if name == normal_name(requirement_name(first)) or not applies(line, case.markers):
            continue
        here = case.distribution_named(name)
        wanted = pinned(case, line)
        if (here is None or is_met(wanted, here.version) is False) and (not closed or any(
                is_met(wanted, str(w.version)) for w in case.wheels_of(name))):
            found[name] = wanted
    return tuple(found.values())


def install(case: Case, requirement: str, *, why: str = "", options: tuple[str, ...] = (),
            beside: Sequence[str] = ()) -> tuple[Remedy, ...]:
    """Return the remedies that put a requirement, and others beside it, into the seat's environment."""
    name = requirement_name(requirement) or requirement
    if name != requirement:  # the name with its extras
        name = re.split(r"[\s<>=!~;]", requirement)[0]
    marker = managed_marker(case)
    if marker is not None:
        return _install_in_managed(case, requirement, marker)
    command = pip_command(case)
    if command is None:
        return (Remedy(
            f"Give {case.environment_name} a pip of its own.", "command",
            argv=(case.python, "-m", "ensurepip", "--upgrade"),
            changes=f"adds pip to {case.prefix}; then {name} can be installed with it"),)
    said = f"Put {name} into {case.environment_name}{why}."
    if beside:
        said = f"{said[:-1]}; with it {', '.join(map(requirement_name, beside))}, required too and not met."
    if case.seat.environment is not None and case.seat.environment.kind == "conda" and not options:
        said += (" It is a conda environment: where conda has the package too, conda is the "
                 "better way, as pip may change packages that conda counts on.")
    if not options and not beside and "[" not in requirement and _is_satisfied(case, requirement):
        options = ("--force-reinstall", "--no-deps")
    if not _can_be_replaced(case, name):
        options = tuple("--ignore-installed" if o == "--force-reinstall" else o for o in options) or (
            "--ignore-installed",)
    argv, removed = (*command, "install", *options, requirement, *beside), _obstacles(case, name)
    if removed:
        argv = _after_removal(case, removed, argv)
    affected = "".join(dict.fromkeys(_others_affected(case, r) for r in (requirement, *beside)))
    return (Remedy(said, "command", argv=argv,
                   changes=f"adds {', '.join([name, *map(requirement_name, beside)])}, and what "
                   f"{'they require' if beside else 'it requires'}, to {case.prefix}"
                   f"{', removes ' + ', '.join(removed) if removed else ''}{affected}"),)


def _obstacles(case: Case, name: str) -> tuple[str, ...]:
    """Return over what pip would stumble: metadata without METADATA, what is no folder in a package's place."""
    m, plain = case.machine, requirement_name(name)
    site = next((x.path for x in case.layers if x.layer == "env"), None)
    if site is None or not plain or not name.startswith(plain):
        return ()  # a folder or file of the person's own is to be installed: that is no obstacle
    modules = {tables.module_for(plain) or plain, plain.replace("-", "_")}
    places = [m.path.join(site, n) for n in sorted(modules) if n.isidentifier()]
    return (*_unreadable_metadata(case, name), *[
        p for p in places if m.is_file(p) or (m.read_link(p) is not None and not m.exists(p))])


def _unreadable_metadata(case: Case, name: str) -> tuple[str, ...]:
    """Return the metadata folder over which pip would stumble: it has no METADATA any more."""
    here = case.distribution_named(requirement_name(name) or name)
    if here is None or here.layer not in ("env", "user") or not here.metadata.endswith(".dist-info"):
        return ()
    whole = case.machine.is_file(case.machine.path.join(here.metadata, "METADATA"))
    return () if whole else (here.metadata,)


def _is_satisfied(case: Case, requirement: str) -> bool:
    """Whether pip would find a requirement met, and do nothing."""
    here = case.distribution_named(requirement_name(requirement)) if requirement_name(requirement) else None
    if here is None:
        return False
    from kalyx.core.facts.markers import is_met

    return is_met(requirement, here.version) is not False


def _can_be_replaced(case: Case, name: str) -> bool:
    """Whether pip knows which files of a distribution to remove first: only RECORD tells."""
    here = case.distribution_named(requirement_name(name) or name)
    return here is None or not here.metadata.endswith(".dist-info") or case.machine.is_file(
        case.machine.path.join(here.metadata, "RECORD"))


def _others_affected(case: Case, requirement: str) -> str:
    """Say what else an installation changes: nothing, where any version will do, as what is there stays."""
    if not any(sign in requirement for sign in "<>=!~"):
        return ""
    from kalyx.core.verdicts.pins import others_affected

    return others_affected(case, requirement)


def _install_in_managed(case: Case, requirement: str, marker: str) -> tuple[Remedy, ...]:
    m = case.machine
    folder = m.path.join(case.launch.cwd, ".venv")
    made = python_in(m, folder)
    steps = (f"This Python belongs to the system, and pip is told to leave it alone ({marker}). "
             f"Make an environment of your own, put it there, and run with {made}.")
    lines = (command_line(m, (case.python, "-m", "venv", folder)),
             command_line(m, (made, "-m", "pip", "install", requirement)))
    return (
        Remedy(steps, "manual", changes=f"makes {folder}; the system's Python stays as it is",
               typed="\n".join(lines)),
        Remedy("Or go past the system's guard, for your user alone. An update of the system may "
               "then meet packages that it did not expect.", "command",
               argv=(case.python, *quiet_flags(case)[:0], "-m", "pip", "install", "--user",
                     "--break-system-packages", requirement),
               changes="adds it to your user site, for every environment that looks there"),
    )


def reinstall(case: Case, name: str, version: str, reason: str, sign: str = "==",
              in_the_way: tuple[str, ...] = ()) -> tuple[Remedy, ...]:
    """Return the remedies that install a distribution afresh, without touching others.

    `sign` says which versions will do beside the one that is here: ``>=`` or ``<=``. What is
    `in_the_way` is removed before.
    """
    command = pip_command(case)
    wanted = f"{name}{sign}{version}"
    if sign != "==":
        from kalyx.core.verdicts.pins import pinned

        wanted = pinned(case, wanted)
    if command is None or managed_marker(case) is not None:
        return install(case, wanted)
    other = {">=": " or newer", "<=": " or older"}.get(sign, "")
    force = "--force-reinstall" if _can_be_replaced(case, name) else "--ignore-installed"
    argv, changes = (*command, "install", force, "--no-deps", wanted), ""
    in_the_way += _unreadable_metadata(case, name)
    if name in BREAK_PIP:
        in_the_way += tuple(f for m in BREAK_PIP[name] if (f := _package_folder(case, name, m)))
    if in_the_way:
        argv, changes = _after_removal(case, in_the_way, argv), f", removes {', '.join(in_the_way)}"
    return (Remedy(f"Install {name} {version}{other} again {reason}.", "command", argv=argv,
                   changes=f"replaces the files of {name} in {case.prefix}{changes}"),)


def _package_folder(case: Case, name: str, module: str) -> str | None:
    """Return the folder of a distribution's package, where it is there."""
    here = case.distribution_named(name)
    folder = case.machine.path.join(here.location, module) if here else ""
    return folder if folder and case.machine.is_folder(folder) else None


def _after_removal(case: Case, paths: Sequence[str], argv: tuple[str, ...]) -> tuple[str, ...]:
    """Return a command line that removes files and folders, then runs another."""
    if case.machine.platform == "win32":
        remove = ("rmdir", "/s", "/q") if all(map(case.machine.is_folder, paths)) else ("del",)
        return ("cmd", "/c", *remove, *paths, "&&", *argv)
    import shlex

    return ("sh", "-c", f"{shlex.join(['rm', '-r', *paths])} && {shlex.join(argv)}")


def restore_library(case: Case, folder: str, name: str) -> tuple[Remedy, ...]:
    """Return how to have a file or folder of the standard library in `folder` whole again."""
    m, version = case.machine, str(case.obs.who.get("version"))
    short = f"{case.version[0]}.{case.version[1]}"
    if case.base_prefix == "/usr" and m.exists("/usr/bin/apt-get"):
        package = tables.stdlib_history()["debian_packages"].get(name.split(".")[0], f"libpython{short}-stdlib")
        again = Remedy(f"Install the system's package {package} again.", "command",
                       argv=("apt-get", "install", "--reinstall", "-y", package),
                       changes=f"the files of {package} (needs root)")
    else:
        again = Remedy(f"Install Python {version} again into {case.base_prefix}.", "manual",
                       changes=f"the installation in {case.base_prefix}")
    for environment in case.neighbours.environments:
        other = m.path.join(environment.path, "lib", m.path.basename(folder), name)
        if environment.kind == "base" and environment.python_version == version and m.platform != "win32" \
                and m.exists(other) and not m.same(other, m.path.join(folder, name)):
            copy = Remedy(f"Copy it from the Python {version} in {environment.path}.", "command",
                          argv=("cp", "-R", other, folder), changes=f"{name} in {folder}")
            return copy, again
    return (again,)


def build_again(case: Case, file: str) -> tuple[Remedy, ...]:
    """Return what to do about a compiled file that no distribution owns."""
    return (Remedy(f"Build or install {file} again with {case.python}.", "manual",
                   changes="the compiled file"),)


def move_seat(case: Case, elsewhere: Elsewhere, module: str) -> Remedy | None:
    """Return how to make the seat use the environment that has the module already."""
    interpreter = elsewhere.interpreter
    if interpreter is None or interpreter.known_by == "gone":
        return None
    place = f"{elsewhere.environment.name}, which has " + (
        f"{elsewhere.name} {elsewhere.version}" if elsewhere.name and elsewhere.version else module)
    kind, launch = case.seat.kind, case.launch
    if kind in ("shell", "python", "env"):
        from kalyx.core.verdicts.shell_words import activation

        typed = activation(case.machine, elsewhere.environment) if kind == "shell" else None
        return Remedy(f"Or use {place}: run {interpreter.path} instead"
                      + (", or activate it in this shell:" if typed else "."), "manual",
                      changes="which Python is used", typed=typed or "")
    if kind == "script":
        return Remedy(f"Or run the script with {place}.", "command",
                      argv=(interpreter.path, launch.main or ""), cwd=launch.cwd,
                      changes="nothing is installed; the script is run")
    if kind in ("notebook", "kernel"):
        moved = _as_it_is_called(case, elsewhere) or (
            _switch_notebook(case, elsewhere) if kind == "notebook" else None)
        if moved is not None:
            return moved
    if kind in ("notebook", "kernel"):
        return Remedy(f"Or choose the kernel of {place}, in the notebook's kernel menu. If it is "
                      "not in the menu, enrol it first by the line below.", "manual",
                      changes="which interpreter the notebook runs",
                      typed=command_line(case.machine, ("kalyx", "enrol", elsewhere.environment.path)))
    return Remedy(f"Or point the editor at {place}: {interpreter.path}", "manual",
                  changes="which interpreter the editor runs")


def _as_it_is_called(case: Case, elsewhere: Elsewhere) -> Remedy | None:
    """Return how to have a kernel run the environment whose name it carries, where that has the module."""
    from kalyx.core.verdicts.stand_ins import claims_of, names_of, run_instead

    places = {s.where for s in case.seat.trail}
    kernel = next((k for k in case.neighbours.kernels if k.spec in places), None)
    if kernel is None or not claims_of(kernel) & names_of(elsewhere.environment):
        return None
    todo = run_instead(kernel, elsewhere.environment, case.machine, case.neighbours)
    return replace(todo, do=f"{todo.do[:-1]}, the environment whose name the kernel carries.")


def _switch_notebook(case: Case, elsewhere: Elsewhere) -> Remedy | None:
    """Return the edit that has a notebook use a registered kernel of an environment."""
    m, prefix = case.machine, elsewhere.environment.path
    kernel = next((k for k in case.neighbours.kernels if k.argv and not k.trouble and m.path.isabs(k.argv[0])
                   and m.is_executable(k.argv[0])
                   and m.same(m.path.dirname(m.path.dirname(k.argv[0])), prefix)), None)
    if kernel is None:
        return None
    from kalyx.core.verdicts.kernel import switch_kernel

    switch = switch_kernel(case.seat.ref.partition(":")[2], kernel, m)
    what = f"{elsewhere.name} {elsewhere.version}" if elsewhere.name and elsewhere.version else "it"
    return replace(switch, do=f"Or h{switch.do[1:-1]}: {elsewhere.environment.name} has {what}.") \
        if switch.kind == "edit" else None


def set_aside(machine: Machine, path: str, why: str = "so that Python does not find it") -> Remedy:
    """Return the command that gives a file or folder an ending by which Python does not find it."""
    new = path + ".unused"
    argv = ("cmd", "/c", "move", path, new) if machine.platform == "win32" else ("mv", path, new)
    return Remedy(f"Set {path} aside, {why}.", "command", argv=argv,
                  changes=f"renames {path} to {machine.path.basename(new)}")


def remove_file(case: Case, path: str, why: str) -> Remedy:
    """Return the command that takes a file, or a folder, away."""
    is_folder = case.machine.is_folder(path)
    argv: tuple[str, ...] = ("rm", "-r", path) if is_folder else ("rm", path)
    if case.machine.platform == "win32":
        argv = ("cmd", "/c", "rmdir", "/s", "/q", path) if is_folder else ("cmd", "/c", "del", path)
    return Remedy(f"Take {path} away{why}.", "command", argv=argv, changes=f"removes {path}")


def make_readable(case: Case, path: str) -> Remedy:
    """Return how to let the seat's user read a file or folder: a command for whom it belongs to."""
    m = case.machine
    info = m.stat(path)
    if m.platform == "win32":
        return Remedy(f"Give yourself the right to read {path}.", "command",
                      argv=("icacls", path, "/grant", f"{m.env.get('USERNAME', '')}:(OI)(CI)RX", "/T"),
                      changes=f"who may read {path}")
    argv = ("chmod", "-R", "u+rwX", path)
    if (info is not None and info.owner not in (m.user_id, 0)) or (
            info is not None and info.owner == 0 != m.user_id):
        return Remedy(f"Have its owner (user {info.owner}) let you read it: chmod -R a+rX {path}", "manual",
                      changes=f"who may read {path}")
    return Remedy("Let yourself read it again; it is yours.", "command", argv=argv,
                  changes=f"the permissions of {path}")


def rename(machine: Machine, path: str, new: str) -> Remedy:
    """Return the command that gives a file or folder a certain name, where nothing has that yet."""
    argv = ("cmd", "/c", "move", path, new) if machine.platform == "win32" else ("mv", "-n", path, new)
    return Remedy(f"Give it the name {machine.path.basename(new)}.", "command", argv=argv,
                  changes=f"renames {path}")


def rename_file(machine: Machine, path: str) -> Remedy:
    """Return the command that gives a file or folder of the person's own another name."""
    m = machine
    folder, name = m.path.dirname(path), m.path.basename(path)
    if name.startswith("__init__."):
        folder, name = m.path.dirname(folder), m.path.basename(folder)
        path = m.path.join(folder, name)
    stem, ending = m.path.splitext(name)
    new = m.path.join(folder, f"my_{stem}{ending}")
    number = 2
    while m.exists(new):
        new, number = m.path.join(folder, f"my_{stem}_{number}{ending}"), number + 1
    argv = ("cmd", "/c", "move", path, new) if m.platform == "win32" else ("mv", path, new)
    return Remedy(
        f"Give your own {name} another name, and use that name where your code imports it.",
        "command", argv=argv, changes=f"renames {path} to {m.path.basename(new)}")
