"""Registered notebook kernels: the published search order, and what each would run."""

from __future__ import annotations

import json
import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.interpreters.command_words import follow_words, program_at
from kalyx.core.facts.interpreters.environment import prefix_of
from kalyx.core.facts.kernels.data_folders import data_folders
from kalyx.core.lean.record import record
from kalyx.core.model import Kernel

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from kalyx.core.facts.files import Files
    from kalyx.core.model import Environment, Interpreter

__all__ = ["KernelProgram", "command_of", "derive_name", "is_servers_own", "kernel_environment", "prefix_of_kernel",
           "prefixes_of_kernels", "program_of", "read_kernel", "read_kernels", "started_by_server"]

NAME = re.compile(r"^[a-z0-9._-]+$", re.IGNORECASE)
SERVER_DEFAULTS = ("python", "python2", "python3")  # names that servers give their own kernel
BARE_PYTHON = re.compile(r"^python(\d(\.\d+)?)?$")  # as kernel packages write it for their own environment


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
    """What a kernelspec starts.

    ``how`` is path, server (the server's own interpreter), PATH, none (PATH has none) or unknown, with the reason
    in ``trouble``. ``flags`` stand between it and the module; ``env`` and ``folder`` are what it starts with.
    """

    path: str | None
    flags: tuple[str, ...]
    how: str
    word: str
    env: Mapping[str, str]
    folder: str
    trouble: str = ""
    through: tuple[str, ...] = ()


def program_of(files: Files, kernel: Kernel, server: Interpreter | None, folder: str) -> KernelProgram:
    """Return what a notebook server starts for a kernelspec in a folder: by its words alone, nothing is run."""
    argv = command_of(kernel, server)
    env = kernel_environment(kernel, files.env)
    if is_servers_own(argv[0], server):
        return KernelProgram(server.path if server else None, _flags(argv[1:]), "server", argv[0], env, folder)
    started = follow_words(files, argv, env, folder)
    word = started.words[0] if started.words else argv[0]
    if started.trouble:
        return KernelProgram(None, (), "unknown", word, started.env, started.folder, started.trouble, started.through)
    path = program_at(files, started)
    is_bare = "/" not in word and not (files.platform == "win32" and "\\" in word)
    how = "none" if path is None else "PATH" if is_bare else "path"
    return KernelProgram(path, _flags(started.words[1:]), how, word, started.env, started.folder, "", started.through)


def command_of(kernel: Kernel, server: Interpreter | None) -> list[str]:
    """Return the command of a kernelspec with its own folder and the server's prefix filled in."""
    argv = [a.replace("{resource_dir}", kernel.folder) for a in kernel.argv]
    return [a.replace("{prefix}", server.prefix) for a in argv] if server and server.prefix else argv


def is_servers_own(word: str, server: Interpreter | None) -> bool:
    """Whether a server puts its own interpreter in the place of a word: python, and that of its own version."""
    version = server.version_pair if server else None
    own = {"python", *((f"python{version[0]}", f"python{version[0]}.{version[1]}") if version else ("python3",))}
    return word in own


def started_by_server(kernel: Kernel, interpreter: Interpreter | None, server: Interpreter | None) -> list[str]:
    """Return the command that a server really starts; `interpreter` stands for a word that is the server's own."""
    argv = command_of(kernel, server)
    if is_servers_own(argv[0], server) and interpreter is not None:
        argv[0] = interpreter.path
    return argv


def _flags(words: Sequence[str]) -> tuple[str, ...]:
    """Return the interpreter's options at the start of its arguments."""
    flags: list[str] = []
    for word in words:
        if not word.startswith("-") or word in ("-m", "-c", "-f"):
            break
        flags.append(word)
    return tuple(flags)


def derive_name(environment: Environment) -> str:
    """Return a kernel name that tells the truth: the environment's own, in allowed letters."""
    name = environment.name.split("/")[0]
    if environment.kind == "base":
        name = f"python-{environment.python_version}"
    plain = re.sub(r"[^a-z0-9._-]+", "-", name.lower()).strip("-.")
    return plain or "environment"


def prefixes_of_kernels(files: Files, folders: Iterable[str]) -> list[str]:
    """Return the prefixes of the programs that the kernelspecs in `folders` start, where they say so outright."""
    m = files
    found = []
    for folder in folders:
        for name in m.names_in(folder):
            kernel = read_kernel(m, m.path.join(folder, name, "kernel.json"), "")
            if kernel.argv:
                found += prefix_of_kernel(m, kernel)
    return found


def prefix_of_kernel(files: Files, kernel: Kernel) -> list[str]:
    """Return the prefix of the program that a kernelspec names by its path; nothing where it names none."""
    started = follow_words(files, kernel.argv, kernel_environment(kernel, files.env), files.cwd)
    word = started.words[0] if started.words and not started.trouble else ""
    return [prefix_of(files, word)] if files.path.isabs(word) else []
