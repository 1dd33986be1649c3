"""Registered notebook kernels: the published search order, and what each would run."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping

from kalyx.core.errors import Unreadable
from kalyx.core.facts.launchers import find_on_path, is_python_name
from kalyx.core.machine import Machine
from kalyx.core.model import Environment, Interpreter, Kernel
from kalyx.core.patterns import pattern
from kalyx.core.record import dataclass

__all__ = ["KernelProgram", "data_folders", "derive_name", "kernel_environment",
           "program_of", "read_kernel", "read_kernels", "user_data_folder"]

NAME = pattern(r"^[a-z0-9._-]+$", re.IGNORECASE)
SERVER_DEFAULTS = ("python", "python2", "python3")  # names that servers give their own kernel
BARE_PYTHON = pattern(r"^python(\d(\.\d+)?)?$")


def user_data_folder(machine: Machine) -> str:
    """Return the user's data folder for notebook kernels on this platform."""
    m = machine
    if m.env.get("JUPYTER_DATA_DIR"):
        return str(m.absolute(m.env["JUPYTER_DATA_DIR"]))
    if m.platform == "darwin":
        return str(m.path.join(m.home, "Library", "Jupyter"))
    if m.platform == "win32":
        roaming = m.env.get("APPDATA")
        return str(m.path.join(roaming, "jupyter") if roaming
                   else m.path.join(m.home, ".jupyter", "data"))
    base = m.env.get("XDG_DATA_HOME") or m.path.join(m.home, ".local", "share")
    return str(m.path.join(base, "jupyter"))


def data_folders(machine: Machine, server: Interpreter | None) -> list[tuple[str, str]]:
    """Return (scope, folder) in the order in which a server looks for kernels.

    `server` is the interpreter that the notebook server runs in: its own prefix
    is searched too, before the user's folder when it is a virtual environment
    that the user owns, or when JUPYTER_PREFER_ENV_PATH says so.
    """
    m = machine
    folders = [("path", m.absolute(entry))
               for entry in m.env.get("JUPYTER_PATH", "").split(m.path_separator) if entry]
    user = [("user", user_data_folder(m))]
    env = [("env", m.path.join(server.prefix, "share", "jupyter"))] if server and server.prefix \
        else []
    folders += env + user if _prefers_environment(m, server) else user + env
    if m.platform == "win32":
        if m.env.get("PROGRAMDATA"):
            folders.append(("system", m.path.join(m.env["PROGRAMDATA"], "jupyter")))
    else:
        folders += [("system", "/usr/local/share/jupyter"), ("system", "/usr/share/jupyter")]
    found = [(scope, m.path.join(folder, "kernels")) for scope, folder in folders]
    found.append(("user", m.path.join(m.env.get("IPYTHONDIR") or m.path.join(m.home, ".ipython"),
                                      "kernels")))
    unique: dict[str, tuple[str, str]] = {}
    for scope, folder in found:
        unique.setdefault(folder, (scope, folder))
    return list(unique.values())


def _prefers_environment(m: Machine, server: Interpreter | None) -> bool:
    said = m.env.get("JUPYTER_PREFER_ENV_PATH")
    if said is not None:
        return said.lower() not in ("no", "n", "false", "off", "0", "0.0")
    if server is None or server.prefix is None or server.prefix == server.base_prefix:
        return False
    owner = m.stat(server.prefix)
    return owner is not None and owner.owner == m.user_id


def read_kernels(machine: Machine, server: Interpreter | None) -> list[Kernel]:
    """Read every kernelspec in search order, those hidden by an earlier one too."""
    m = machine
    kernels = []
    for scope, folder in data_folders(m, server):
        for name in m.names_in(folder):
            if NAME.match(name) and m.is_folder(m.path.join(folder, name)):
                spec = m.path.join(folder, name, "kernel.json")
                if m.exists(spec):
                    kernels.append(read_kernel(m, spec, scope))
    return kernels


def read_kernel(machine: Machine, spec: str, scope: str) -> Kernel:
    """Read one kernel.json; what is wrong with it stands in ``trouble``."""
    m = machine
    name = m.path.basename(m.path.dirname(spec)).lower()
    try:
        content = json.loads(m.read_text(spec, 1_048_576))
    except Unreadable as error:
        return Kernel(name, name, spec, scope, trouble=error.reason)
    except (ValueError, RecursionError) as error:
        return Kernel(name, name, spec, scope, trouble=f"it is not JSON: {error}")
    if not isinstance(content, dict):
        return Kernel(name, name, spec, scope, trouble="it is not a JSON object")
    argv, env = content.get("argv"), content.get("env") or {}
    label = content.get("display_name")
    label = label if isinstance(label, str) and label else name
    if not isinstance(argv, list) or not argv or not all(isinstance(a, str) for a in argv):
        return Kernel(name, label, spec, scope, trouble="it has no argv, the command to start")
    if not isinstance(env, dict):
        return Kernel(name, label, spec, scope, trouble="its env is not an object")
    return Kernel(name, label, spec, scope, tuple(argv), {k: str(v) for k, v in env.items()},
                  str(content.get("language", "")))


def kernel_environment(kernel: Kernel, base: Mapping[str, str]) -> dict[str, str]:
    """Return the variables that the kernel starts with; ``${NAME}`` is filled in from `base`."""
    from string import Template

    merged = dict(base)
    for name, value in kernel.env.items():
        merged[name] = Template(value).safe_substitute(base)
    return merged


@dataclass(frozen=True)
class KernelProgram:
    """What a kernelspec starts. ``how`` is path, server (bare python), PATH or none."""

    path: str | None
    flags: tuple[str, ...]
    how: str
    is_python: bool


def program_of(machine: Machine, kernel: Kernel, server: Interpreter | None) -> KernelProgram:
    """Resolve the program of a kernelspec as a notebook server would start it."""
    m = machine
    argv = [a.replace("{resource_dir}", kernel.folder) for a in kernel.argv]
    if server and server.prefix:
        argv = [a.replace("{prefix}", server.prefix) for a in argv]
    while len(argv) > 1 and (m.path.basename(argv[0]) == "env" or "=" in argv[0].split("/")[0]):
        argv.pop(0)
    program, rest = argv[0], argv[1:]
    flags: list[str] = []
    for word in rest:
        if not word.startswith("-") or word in ("-m", "-c") or word == "-f":
            break
        flags.append(word)
    is_python = is_python_name(program) or kernel.language.lower() == "python"
    if BARE_PYTHON.match(program):
        return KernelProgram(server.path if server else None, tuple(flags), "server", True)
    if m.path.isabs(program):
        return KernelProgram(program, tuple(flags), "path", is_python)
    value = kernel_environment(kernel, m.env).get("PATH", "")
    found = find_on_path(m, program, value, first_only=True)
    return KernelProgram(found[0].path if found else None, tuple(flags),
                         "PATH" if found else "none", is_python)


def derive_name(environment: Environment) -> str:
    """Return a kernel name that tells the truth: the environment's own, in allowed letters."""
    name = environment.name.split("/")[0]
    if environment.kind == "base":
        name = f"python-{environment.python_version}"
    plain = re.sub(r"[^a-z0-9._-]+", "-", name.lower()).strip("-.")
    return plain or "environment"
