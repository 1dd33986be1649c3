"""What a command line or a script starts in the end: through ``env``, through launchers, through a shell.

One reader for the command of a kernel, for a script's first line and for wrappers. Nothing is run.
"""

from __future__ import annotations

import re

from kalyx.core.facts.interpreters.activate_script import CONDAS, conda_prefix
from kalyx.core.facts.interpreters.env_words import WouldRefuse, env_options, split_string
from kalyx.core.facts.interpreters.path_lookup import (
    find_on_path,
    is_like_python_name,
    is_python_name,
    read_head,
)
from kalyx.core.facts.interpreters.shell_words import SHELLS, Untold
from kalyx.core.lean.record import record, replace

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from kalyx.core.facts.files import Files

__all__ = ["ALL", "FirstLine", "Started", "first_line", "follow_script", "follow_words", "hands_over",
           "program_at", "wrapped_python"]

ALL = "$@"  # stands for the arguments that a script is given

NO_PATH = "/bin:/usr/bin"  # where the C library looks when there is no PATH
MOST_HOPS = 12


@record
class FirstLine:
    """A script's first line: the program that the system starts, and what stands behind it."""

    program: str
    rest: str


def first_line(head: bytes) -> FirstLine | None:
    """Take a script's first line apart as the system does; None where it is no script.

    A carriage return at its end is a part of it: files that were written on Windows name no program elsewhere.
    """
    if not head.startswith(b"#!"):
        return None
    line = head.split(b"\n", 1)[0][2:].decode("utf-8", "surrogateescape").strip(" \t")
    program, _, rest = line.replace("\t", " ").partition(" ")
    return FirstLine(program, rest.strip(" ")) if program else None


@record
class Launcher:
    """A program that starts another one: its options that take a word of their own, and its own operands.

    ``is_loose``: it has more options than are known here, so that what follows is a program only where it is
    plainly a Python. ``elsewhere``: it starts it with other variables, where bare words mean something else.
    """

    valued: tuple[str, ...] = ()
    operands: int = 0
    is_loose: bool = False
    elsewhere: bool = False


LAUNCHERS: Mapping[str, Launcher] = {
    "nice": Launcher(("-n", "--adjustment")),
    "timeout": Launcher(("-k", "--kill-after", "-s", "--signal"), 1),
    "setsid": Launcher(),
    "nohup": Launcher(),
    "ionice": Launcher(("-c", "--class", "-n", "--classdata")),
    "chrt": Launcher(("-T", "--sched-runtime", "-P", "--sched-period", "-D", "--sched-deadline"), 1),
    "taskset": Launcher((), 1),
    "stdbuf": Launcher(("-i", "--input", "-o", "--output", "-e", "--error")),
    "time": Launcher(("-f", "--format", "-o", "--output")),
    "command": Launcher(),
    "setarch": Launcher((), 1),
    "prlimit": Launcher(is_loose=True),
    "numactl": Launcher(is_loose=True),
    "xvfb-run": Launcher(is_loose=True),
    "srun": Launcher(is_loose=True, elsewhere=True),
    "mpirun": Launcher(is_loose=True, elsewhere=True),
    "mpiexec": Launcher(is_loose=True, elsewhere=True),
    "qrsh": Launcher(is_loose=True, elsewhere=True),
    "bsub": Launcher(is_loose=True, elsewhere=True),
}


@record
class Started:
    """The program that a command line starts in the end, with its arguments, variables and folder.

    ``through`` are the programs in front that look a bare word up on PATH; ``trouble`` says why what follows them
    cannot be told, or why it is ``refused``, and ``words`` are then what is left; ``line`` is where a shell's text
    says it, ``entered`` are the environments that it activates before, and ``unread`` what it runs before of which it
    is not known what it sets.
    """

    words: tuple[str, ...]
    env: Mapping[str, str]
    folder: str
    through: tuple[str, ...] = ()
    trouble: str = ""
    refused: bool = False
    line: int = 1
    entered: tuple[str, ...] = ()
    unread: tuple[str, ...] = ()


def follow_words(files: Files, words: Sequence[str], env: Mapping[str, str], folder: str) -> Started:
    """Return what a command line starts, by its words alone."""
    now = Started(tuple(words), env, folder)
    for _ in range(MOST_HOPS):
        if not now.words or now.trouble:
            return now
        name = now.words[0].replace("\\", "/").rsplit("/", 1)[-1].removesuffix(".exe")
        try:
            after = _one_hop(files, now, name)
        except Untold as error:
            return replace(now, through=(*now.through, now.words[0]), trouble=str(error),
                           refused=isinstance(error, WouldRefuse))
        if after is None:
            return now
        now = replace(after, through=(*now.through, now.words[0]))
    return replace(now, trouble="it goes through more programs than are followed")


def _one_hop(files: Files, now: Started, name: str) -> Started | None:
    """Return what the first program of a command line starts; None where it is what is meant.

    Raises:
        Untold: what it starts cannot be told.
    """
    if name == "env":
        return _through_env(now)
    if name in SHELLS:
        return _through_shell(files, now)
    if name in LAUNCHERS:
        return _through_launcher(now, LAUNCHERS[name], name)
    if name in CONDAS and now.words[1:2] == ("run",):
        return _through_conda(files, now)
    return None


def program_at(files: Files, started: Started) -> str | None:
    """Return the path of the program that a command line starts; None where nothing is of its name.

    A word with a slash is never looked up on PATH: it starts from the folder.
    """
    word = started.words[0]
    if "/" in word or (files.platform == "win32" and "\\" in word):
        return files.located(word, started.folder)
    path = started.env.get("PATH", NO_PATH if files.platform != "win32" else "")
    found = find_on_path(files, word, path, first_only=True)
    return found[0].path if found else None


def follow_script(files: Files, path: str, arguments: Sequence[str], env: Mapping[str, str],
                  folder: str) -> Started | None:
    """Return what the system starts for an executable script, by its first line; None where it is no script.

    All that stands behind the program is one word, but on macOS.
    """
    line = first_line(read_head(files, path))
    if line is None:
        return None
    rest = line.rest.split() if files.platform == "darwin" else [line.rest] if line.rest else []
    return follow_words(files, (line.program, *rest, path, *arguments), env, folder)


def wrapped_python(files: Files, path: str, env: Mapping[str, str], folder: str) -> Started | None:
    """Return what a wrapper starts that passes all of its words on to a Python, where its text says so outright.

    The first of the words is the path of that Python.
    """
    started = follow_script(files, path, (ALL,), env, folder)
    if started is None or started.trouble or ALL not in started.words or path in started.words[1:] \
            or not is_like_python_name(started.words[0]):
        return None
    program = program_at(files, started)
    return replace(started, words=(program, *started.words[1:])) if program is not None else None


def hands_over(text: str) -> bool:
    """Whether a script's text shows that it starts a Python: a shell script that passes its words on to one."""
    line = first_line(text.encode("utf-8", "surrogateescape"))
    if line is None or not {line.program.rsplit("/", 1)[-1], *line.rest.split()} & set(SHELLS):
        return False
    passing = [ln for ln in text.split("\n") if "$@" in ln and not ln.lstrip().startswith("#")]
    return any(re.search(r"python|pypy|\$\{?0|\$\{?program\b|BASH_SOURCE", line) for line in passing)


# -- env ------------------------------------------------------------------------------------------
def _through_env(now: Started) -> Started:
    """Return what ``env`` starts: options, then assignments, then a program that is looked up on PATH."""
    words, env, folder = list(now.words[1:]), dict(now.env), now.folder
    while words and words[0].startswith("-"):
        word = words.pop(0)
        if word == "--":
            break
        for option, value in env_options(word, words):
            if option == "i":
                env = {}
            elif option == "u":
                env.pop(value, None)
            elif option == "C":
                folder = value if value.startswith("/") else f"{folder.rstrip('/')}/{value}"
            elif option == "S":
                words[:0] = split_string(value, now.env)
    while words and "=" in words[0] and not words[0].startswith("="):
        key, _, value = words.pop(0).partition("=")
        env[key] = value
    if not words:
        raise WouldRefuse("env is given no program")
    return replace(now, words=tuple(words), env=env, folder=folder)


# -- what sets a program going ----------------------------------------------------------------------
def _through_launcher(now: Started, launcher: Launcher, name: str) -> Started | None:
    """Return what a launcher starts: behind its options, and behind its own operands."""
    words = list(now.words[1:])
    if launcher.is_loose:
        return _plain_python(now, words, launcher, name)
    while words and words[0].startswith("-") and words[0] != "-":
        option = words.pop(0)
        if option == "--":
            break
        if option in launcher.valued and words:
            words.pop(0)
    words = words[launcher.operands:]
    if not words:
        raise Untold(f"{name} is given no program")
    return replace(now, words=tuple(words))


def _plain_python(now: Started, words: list[str], launcher: Launcher, name: str) -> Started:
    """Return the Python that stands behind options, and behind what may be values of them, and nothing else."""
    was_option = False
    for place, word in enumerate(words):
        if is_python_name(word) and (word.startswith("/") or not launcher.elsewhere):
            return replace(now, words=tuple(words[place:]))
        if not word.startswith("-") and not was_option:
            break
        was_option = word.startswith("-") and "=" not in word
    raise Untold(f"what {name} starts cannot be told by its words")


def _through_conda(files: Files, now: Started) -> Started:
    """Return what ``conda run`` starts in one of its environments.

    Raises:
        Untold: which one that is cannot be told.
    """
    words, name = list(now.words[2:]), ""
    while words and words[0].startswith("-"):
        option, _, value = words.pop(0).partition("=")
        if option in ("-n", "--name", "-p", "--prefix", "--cwd", "-a", "--attach", "-e", "--env"):
            value = value or (words.pop(0) if words else "")
            if option not in ("-n", "--name", "-p", "--prefix"):
                raise Untold(f"conda's option {option} is not followed")
            name = value
    program = program_at(files, replace(now, words=now.words[:1]))
    root = files.path.dirname(files.path.dirname(program)) if program else now.env.get("MAMBA_ROOT_PREFIX", "")
    prefix = conda_prefix(files, root, name, now.env, now.folder) if words else None
    if prefix is None:
        raise Untold(f"conda's environment {name or 'base'} was not found")
    path = f"{files.path.join(prefix, 'bin')}:{now.env.get('PATH', NO_PATH)}"
    return replace(now, words=tuple(words), env={**now.env, "PATH": path, "CONDA_PREFIX": prefix},
                   entered=(*now.entered, prefix))


# -- shells -----------------------------------------------------------------------------------------
def _through_shell(files: Files, now: Started) -> Started:
    """Return what a shell starts: by the text behind ``-c``, or by that of the script that it is given.

    Raises:
        Untold: neither says it outright.
    """
    words, is_login = list(now.words[1:]), False
    while words and words[0][:1] in ("-", "+") and words[0] not in ("-", "--"):
        option = words.pop(0)
        letters = set() if option.startswith("--") else set(option[1:])
        is_login = is_login or option == "--login" or bool(letters & {"l", "i"})
        if option in ("-o", "+o", "-O", "+O", "--rcfile", "--init-file") and words:
            words.pop(0)
        if "c" in letters and option.startswith("-"):
            if not words:
                raise Untold("the shell is given no text")
            zero = words[1] if len(words) > 1 else now.words[0]
            return _by_text(files, now, words[0], zero, words[2:], is_login)
    words = words[1:] if words[:1] in (["-"], ["--"]) else words
    if not words:
        raise Untold("it is a shell, and is given nothing to read")
    script = files.located(words[0], now.folder)
    text = read_head(files, script).decode("utf-8", "surrogateescape")
    return _by_text(files, now, text, words[0], words[1:], is_login)


def _by_text(files: Files, now: Started, text: str, zero: str, arguments: Sequence[str], is_login: bool) -> Started:
    from kalyx.core.facts.interpreters.shell_text import read_shell

    found = read_shell(files, text, zero, arguments, now.env, now.folder, files.path.basename(now.words[0]))
    if "/" not in found.words[0] and not (found.is_plain and (found.entered or not is_login)):
        raise Untold(f"which {found.words[0]} it means is worked out when it runs")
    return replace(now, words=found.words, env=found.env, folder=found.folder, line=found.line,
                   entered=(*now.entered, *found.entered), unread=(*now.unread, *found.unread))
