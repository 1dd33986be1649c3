"""Registered notebook kernels: the published search order, and what each would run."""

from __future__ import annotations

import json
import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.interpreters.environment import prefix_of
from kalyx.core.facts.interpreters.path_lookup import (
    find_on_path,
    is_python_name,
)
from kalyx.core.facts.kernels.data_folders import data_folders
from kalyx.core.lean.record import record
from kalyx.core.model import Kernel

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

    from kalyx.core.facts.files import Files
    from kalyx.core.model import Environment, Interpreter

__all__ = ["KernelProgram", "derive_name", "kernel_environment", "prefixes_of_kernels", "program_of", "read_kernel",
           "read_kernels"]

NAME = re.compile(r"^[a-z0-9._-]+$", re.IGNORECASE)
SERVER_DEFAULTS = ("python", "python2", "python3")  # names that servers give their own kernel
BARE_PYTHON = re.compile(r"^python(\d(\.\d+)?)?$")


def read_kernels(files: Files, server: Interpreter | None) -> list[Kernel]:
    """Read every kernelspec in search order, those hidden by an earlier one too."""
    m = files
    kernels = []
    for scope, folder in data_folders(m, server):
        for name in m.names_in(folder):
            if NAME.match(name) and m.is_folder(m.path.join(folder, name)):  # the server looks into folders alone
                spec = m.path.join(folder, name, "kernel.json")
                if m.is_there(spec):
                    kernels.append(read_kernel(m, spec, scope))
    return kernels


def read_kernel(files: Files, spec: str, scope: str) -> Kernel:
    """Read one kernel.json; what is wrong with it stands in ``trouble``."""
    m = files
    name = m.path.basename(m.path.dirname(spec)).lower()
    try:
        content = json.loads(m.read_whole(spec, 1_048_576).decode("utf-8"))  # as the server: no mark, no other encoding
    except Unreadable as error:
        return Kernel(name, name, spec, scope, trouble=error.reason)
    except UnicodeDecodeError as error:
        return Kernel(name, name, spec, scope, trouble=f"it is not text in UTF-8: {error.reason}")
    except (ValueError, RecursionError) as error:
        return Kernel(name, name, spec, scope, trouble=f"it is not JSON: {error}")
    if not isinstance(content, dict):
        return Kernel(name, name, spec, scope, trouble="it is not a JSON object")
    argv, env = content.get("argv"), content.get("env")
    env = env if isinstance(env, dict) else {}
    label = content.get("display_name")
    label = label if isinstance(label, str) and label else name
    if not isinstance(argv, list) or not argv or not all(isinstance(a, str) for a in argv):
        return Kernel(name, label, spec, scope, trouble="it has no argv, the command to start")
    wrong = _wrong_field(content)
    if wrong:
        return Kernel(name, label, spec, scope, trouble=wrong)
    return Kernel(name, label, spec, scope, tuple(argv), {k: str(v) for k, v in env.items()},
                  content.get("language", ""))


# What a notebook server takes for each field; it drops a kernelspec with another type
_FIELDS: tuple[tuple[str, type, str], ...] = (
    ("argv", list, "a list"), ("env", dict, "an object"), ("display_name", str, "a text"),
    ("language", str, "a text"), ("name", str, "a text"), ("mimetype", str, "a text"), ("metadata", dict, "an object"))


def _wrong_field(content: Mapping[str, object]) -> str:
    """Say which field of a kernelspec has a type that the server does not take; empty when none has."""
    for field, kind, called in _FIELDS:
        if field in content and not isinstance(content[field], kind):
            return f"its {field} is not {called}, and a notebook server drops it"
    mode = content.get("interrupt_mode", "signal")
    if not isinstance(mode, str) or mode.lower() not in ("signal", "message"):
        return "its interrupt_mode is neither signal nor message, and a notebook server drops it"
    return ""


def kernel_environment(kernel: Kernel, base: Mapping[str, str]) -> dict[str, str]:
    """Return the variables that the kernel starts with; ``${NAME}`` is filled in from `base`."""
    from string import Template

    merged = dict(base)
    for name, value in kernel.env.items():
        merged[name] = Template(value).safe_substitute(base)
    return merged


@record
class KernelProgram:
    """What a kernelspec starts. ``how`` is path, server (bare python), PATH or none."""

    path: str | None
    flags: tuple[str, ...]
    how: str
    is_python: bool


def program_of(files: Files, kernel: Kernel, server: Interpreter | None) -> KernelProgram:
    """Resolve the program of a kernelspec as a notebook server would start it."""
    m = files
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


def prefixes_of_kernels(files: Files, folders: Iterable[str]) -> list[str]:
    """Return the prefixes that the kernelspecs in `folders` run, by their program's path."""
    import json

    m = files
    found = []
    for folder in folders:
        for name in m.names_in(folder):
            try:
                spec = json.loads(m.read_text(m.path.join(folder, name, "kernel.json"), 262_144))
                program = str(spec["argv"][0])
            except (Unreadable, ValueError, KeyError, IndexError, TypeError, RecursionError):
                continue
            if m.path.isabs(program):
                found.append(prefix_of(m, program))
    return found
