"""Registered notebook kernels: the published search order, and what each would run."""

from __future__ import annotations

import json
import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.interpreters.command_words import follow_script, follow_words, program_at
from kalyx.core.facts.interpreters.environment import prefix_of
from kalyx.core.facts.interpreters.flags import flags_of
from kalyx.core.facts.interpreters.path_lookup import is_like_python_name
from kalyx.core.facts.kernels.data_folders import data_folders
from kalyx.core.facts.search_path.site_folders import visible_sites
from kalyx.core.lean.record import record, replace
from kalyx.core.model import Kernel

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

    from kalyx.core.facts.files import Files
    from kalyx.core.model import Environment, Interpreter

__all__ = ["BARE_PYTHON", "NAME", "SERVER_DEFAULTS", "KernelProgram", "command_of", "derive_name", "is_servers_own",
           "kernel_environment", "prefix_of_kernel", "prefixes_of_kernels", "program_of", "read_kernel",
           "read_kernels", "started_by_server"]

NAME = re.compile(r"^[a-z0-9._-]+$", re.IGNORECASE)  # what new kernels may be called
SERVER_DEFAULTS = ("python", "python2", "python3")  # names that servers give their own kernel
BARE_PYTHON = re.compile(r"^python(\d(\.\d+)?)?$")  # as kernel packages write it for their own environment


def read_kernels(files: Files, server: Interpreter | None) -> list[Kernel]:
    """Read every kernelspec in search order, those hidden by an earlier one too, and the server's own kernel."""
    m = files
    kernels = []
    for scope, folder in data_folders(m, server):
        for name in m.names_in(folder):
            if m.is_folder(m.path.join(folder, name)):  # the server looks into folders alone, whatever they are called
                spec = m.path.join(folder, name, "kernel.json")
                if m.is_there(spec):
                    kernels.append(_if_available(m, read_kernel(m, spec, scope), server))
    if server is not None and not any(k.name == NATIVE for k in kernels):
        kernels += _native_kernel(m, server)
    return kernels


NATIVE = "python3"  # what a server calls its own kernel
# How the kernel package calls the kernel that it describes
_DISPLAY_NAME = re.compile(r"""["']display_name["']: ["']([^"'\n]+)["']""")
LOCAL = "local-provisioner"  # what starts kernels on the server's own machine, and comes with every server
_ENTRY_POINTS = "jupyter_client.kernel_provisioners"


def _native_kernel(files: Files, server: Interpreter) -> list[Kernel]:
    """Return the kernel that a server adds where none is called python3 and its kernel package can be imported."""
    m = files
    for folder in visible_sites(m, server):
        source = m.path.join(folder, "ipykernel", "kernelspec.py")
        try:
            text = m.read_text(source, 262_144)
        except Unreadable:
            continue
        said = _DISPLAY_NAME.search(text)
        major = (server.version_pair or (3, 0))[0]
        label = said[1].replace("%i", str(major)) if said else f"Python {major}"
        argv = (server.path, "-m", "ipykernel_launcher", "-f", "{connection_file}")
        return [Kernel(NATIVE, label, m.path.join(folder, "ipykernel", "resources", "kernel.json"), "env", argv,
                       language="python")]
    return []


def _if_available(files: Files, kernel: Kernel, server: Interpreter | None) -> Kernel:
    """Return a kernel, with its trouble where it asks to be started by what the server has not (a provisioner)."""
    wanted = kernel.provisioner
    if kernel.trouble or not wanted or wanted == LOCAL or server is None:
        return kernel
    m = files
    for folder in visible_sites(m, server):
        for name in m.names_in(folder):
            if name.endswith((".dist-info", ".egg-info")) and wanted in _provisioners(m, m.path.join(folder, name)):
                return kernel
    return replace(kernel, trouble=f"it is to be started by {wanted}, a provisioner that the server's environment has "
                   "not, so that the server drops it")


def _provisioners(files: Files, metadata: str) -> list[str]:
    """Return the provisioners that a distribution brings."""
    try:
        text = files.read_text(files.path.join(metadata, "entry_points.txt"), 262_144)
    except Unreadable:
        return []
    inside, found = False, []
    for line in text.splitlines():
        if line.strip().startswith("["):
            inside = line.strip() == f"[{_ENTRY_POINTS}]"
        elif inside and "=" in line:
            found.append(line.partition("=")[0].strip())
    return found


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
                  content.get("language", ""), provisioner=_provisioner_of(content))


def _provisioner_of(content: Mapping[str, object]) -> str:
    """Return what is to start a kernel; empty where it names nothing."""
    metadata = content.get("metadata")
    said = metadata.get("kernel_provisioner") if isinstance(metadata, dict) else None
    name = said.get("provisioner_name") if isinstance(said, dict) else None
    return name if isinstance(name, str) else ""


# What a notebook server takes for each field; it drops a kernelspec with another type
_FIELDS: tuple[tuple[str, type, str], ...] = (
    ("argv", list, "a list"), ("env", dict, "an object"), ("display_name", str, "a text"),
    ("language", str, "a text"), ("name", str, "a text"), ("mimetype", str, "a text"), ("metadata", dict, "an object"),
    ("kernel_protocol_version", str, "a text"))


def _wrong_field(content: Mapping[str, object]) -> str:
    """Say which field of a kernelspec has a type that the server does not take; empty when none has."""
    for field, kind, called in _FIELDS:
        if field in content and not isinstance(content[field], kind):
            return f"its {field} is not {called}, and a notebook server drops it"
    if "resource_dir" in content:
        return "it has a resource_dir, which the server fills in itself, and drops it"
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

    ``how`` is path, server (the server's own interpreter), PATH, none (PATH has none), or with the reason in
    ``trouble``: refused (what stands in front would not start it), unknown. ``flags`` stand between it and the
    module; ``env`` and ``folder`` are what it starts with, ``entered`` the environments that are activated before,
    ``words`` the whole command of what is started in the end, and ``unread`` what is run before of which it is not
    known what it sets.
    """

    path: str | None
    flags: tuple[str, ...]
    how: str
    word: str
    env: Mapping[str, str]
    folder: str
    trouble: str = ""
    through: tuple[str, ...] = ()
    entered: tuple[str, ...] = ()
    words: tuple[str, ...] = ()
    unread: tuple[str, ...] = ()


def program_of(files: Files, kernel: Kernel, server: Interpreter | None, folder: str) -> KernelProgram:
    """Return what a notebook server starts for a kernelspec in a folder: by its words alone, nothing is run."""
    argv = command_of(files, kernel, server)
    env = kernel_environment(kernel, files.env)
    if is_servers_own(argv[0], server):
        return KernelProgram(server.path if server else None, flags_of(argv[1:]), "server", argv[0], env, folder,
                             words=tuple(argv))
    started = follow_words(files, argv, env, folder)
    word = started.words[0] if started.words else argv[0]
    if started.trouble:
        how = "refused" if started.refused else "unknown"
        return KernelProgram(None, (), how, word, started.env, started.folder, started.trouble, started.through)
    path = program_at(files, started)
    script = follow_script(files, path, started.words[1:], started.env, started.folder) if path is not None else None
    if path is not None and script is not None and not script.trouble and (
            path in script.words[1:] or (is_like_python_name(script.words[0]) and not is_like_python_name(path))):
        started = replace(script, through=(*started.through, path))  # a script of Python's own, or one that starts it
        path, word = program_at(files, script), script.words[0]
    is_bare = "/" not in word and not (files.platform == "win32" and "\\" in word)
    how = "none" if path is None else "PATH" if is_bare else "path"
    return KernelProgram(path, flags_of(started.words[1:]), how, word, started.env, started.folder, "", started.through,
                         started.entered, started.words, started.unread)


def command_of(files: Files, kernel: Kernel, server: Interpreter | None) -> list[str]:
    """Return the command of a kernelspec with its own folder, the server's prefix and the home folder filled in."""
    argv = [a.replace("{resource_dir}", kernel.folder) for a in kernel.argv]
    argv = [a.replace("{prefix}", server.prefix) for a in argv] if server and server.prefix else argv
    return [files.home + a[1:] if a == "~" or a.startswith("~/") else a for a in argv]


def is_servers_own(word: str, server: Interpreter | None) -> bool:
    """Whether a server puts its own interpreter in the place of a word: python, and that of its own version."""
    version = server.version_pair if server else None
    own = {"python", *((f"python{version[0]}", f"python{version[0]}.{version[1]}") if version else ("python3",))}
    return word in own


def started_by_server(files: Files, kernel: Kernel, interpreter: Interpreter | None,
                      server: Interpreter | None) -> list[str]:
    """Return the command that a server really starts; `interpreter` stands for a word that is the server's own."""
    argv = command_of(files, kernel, server)
    if is_servers_own(argv[0], server) and interpreter is not None:
        argv[0] = interpreter.path
    return argv


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
    started = follow_words(files, command_of(files, kernel, None), kernel_environment(kernel, files.env), files.cwd)
    word = started.words[0] if started.words and not started.trouble else ""
    return [prefix_of(files, word)] if files.path.isabs(word) else []
