"""Live Python processes, read from the process table."""

from __future__ import annotations

import json

from kalyx.core.errors import Unreadable
from kalyx.core.facts.interpreters.environment import environment_of
from kalyx.core.facts.interpreters.flags import VALUED, parted
from kalyx.core.facts.interpreters.path_lookup import find_on_path, is_python_name
from kalyx.core.model.process import PythonProcess

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from kalyx.core.facts.interpreters.examiner import Examiner
    from kalyx.core.machine.interface import Machine
    from kalyx.core.model.process import RawProcess

__all__ = ["connection_file_of", "describe_process", "kind_of", "program_of", "python_processes", "start_of"]

# What a module or script says of its process, as data: the first match counts
KINDS: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("kernel", ("ipykernel_launcher", "ipykernel", "sprigkernel", "xpython_launcher",
                "colab_kernel_launcher")),
    ("server", ("jupyter-lab", "jupyter-notebook", "jupyter-server", "jupyter", "jupyterlab",
                "jupyter_server", "notebook", "jupyterhub", "jupyter-hub", "jupyterhub-singleuser")),
    ("language-server", ("pylsp", "pyls", "jedi-language-server", "jedi_language_server",
                         "pyright-langserver", "ruff-lsp", "lsp_server", "pylsp_server")),
)


def python_processes(machine: Machine) -> list[RawProcess]:
    """Return every process whose program or first word is a Python, or that is closed to us."""
    return [p for p in machine.processes() if p.closed or is_python_name(p.argv[0])
            or is_python_name((p.program or "").removesuffix(" (deleted)"))]


def start_of(argv: Sequence[str]) -> tuple[str, str, tuple[str, ...]]:
    """Return how Python was told what to run: (module, script, command or shell; what; rest)."""
    words = parted(argv[1:])
    while words:
        word = words.pop(0)
        if word == "-m" and words:
            return "module", words[0], tuple(words[1:])
        if word == "-c":
            return "command", (words[0] if words else "").strip().split("\n")[0], tuple(words[1:])
        if word in VALUED and words:
            words.pop(0)
        elif word == "-":
            return "shell", "standard input", tuple(words)
        elif not word.startswith("-"):
            return "script", word, tuple(words)
    return "shell", "interactive", ()


def kind_of(argv: Sequence[str]) -> tuple[str, str, tuple[str, ...]]:
    """Return a process's kind, what it runs, and the words after that."""
    how, what, rest = start_of(argv)
    name = what.replace("\\", "/").rsplit("/", 1)[-1].removesuffix(".py").removesuffix(".exe")
    if how == "module":
        name = what
    for kind, names in KINDS:
        if how in ("module", "script") and (name in names or name.split(".")[0] in names):
            return kind, what, rest
    return how, what, rest


def connection_file_of(words: Sequence[str]) -> str | None:
    """Return the connection file among a kernel's arguments."""
    for number, word in enumerate(words):
        if word in ("-f", "--f") and number + 1 < len(words):
            return words[number + 1]
        if word.startswith(("--f=", "-f=", "--IPKernelApp.connection_file=")):
            return word.split("=", 1)[1]
    return None


def describe_process(raw: RawProcess, examiner: Examiner,
                     parents: Mapping[int, RawProcess]) -> PythonProcess:
    """Find out interpreter, environment and belonging of one process."""
    m = examiner.machine
    kind, what, rest = kind_of(raw.argv)
    program = program_of(raw, m)
    interpreter = examiner.examine(program, ask=False).interpreter if program else None
    connection = connection_file_of(rest) if kind == "kernel" else None
    parent = parents.get(raw.parent) if raw.parent is not None else None
    server = parent.pid if kind == "kernel" and parent and kind_of(parent.argv)[0] == "server" else None
    notebook = _notebook_of(raw, connection, m) if kind == "kernel" else None
    works = interpreter is not None and interpreter.works
    return PythonProcess(raw.pid, kind, what, raw.argv, raw.folder, interpreter,
                         environment_of(m, interpreter) if works else None, connection, notebook,
                         server, raw.started, raw.user)


def program_of(raw: RawProcess, machine: Machine) -> str | None:
    """Return the path that a process was started by.

    The program that runs is the resolved file; the word that started it says
    which environment it is in, when it leads to that very file.
    """
    m = machine
    real = (raw.program or "").removesuffix(" (deleted)")
    word = raw.argv[0] if raw.argv else ""
    env = raw.env or {}
    if "/" in word or "\\" in word:
        candidates = [m.absolute(word, raw.folder)]
    else:
        candidates = [f.path for f in find_on_path(m, word, env.get("PATH", ""))] if word else []
    for candidate in candidates:
        if not real or not m.exists(candidate) or m.same(candidate, real):
            return candidate
    return real or (candidates[0] if candidates else None)


def _notebook_of(raw: RawProcess, connection: str | None, m: Machine) -> str | None:
    """Return the notebook that a kernel was started for, where its variables or file say so."""
    named = (raw.env or {}).get("JPY_SESSION_NAME")
    if named and named.endswith(".ipynb"):
        return m.absolute(named, raw.folder)
    if connection is None:
        return None
    try:
        content = json.loads(m.read_text(connection, 65536))
    except (Unreadable, ValueError, RecursionError):
        return None
    session = content.get("jupyter_session") if isinstance(content, dict) else None
    return str(session) if session else None
