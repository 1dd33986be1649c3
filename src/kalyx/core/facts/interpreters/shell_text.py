"""What a shell's text starts in the end, where it says so outright: one program, with its variables and its folder.

Followed are assignments, conditions that files and known words decide, ``cd``, and the activation of environments.
Loops, functions that do more than to say something, and what other programs work out, are for the shell to answer.
"""

from __future__ import annotations

from posixpath import basename, dirname

from kalyx.core.errors import Unreadable
from kalyx.core.facts.interpreters.activate_script import CONDAS, conda_prefix, named_by_activate
from kalyx.core.facts.interpreters.path_lookup import find_on_path
from kalyx.core.facts.interpreters.shell_answers import answer_of
from kalyx.core.facts.interpreters.shell_flow import HARMLESS, Flow
from kalyx.core.facts.interpreters.shell_tests import holds
from kalyx.core.facts.interpreters.shell_words import LONGEST_TEXT, MARKED, UNSET, Scope, Untold, commands_of, shown
from kalyx.core.facts.interpreters.variables import VARIABLES
from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from kalyx.core.facts.files import Files

__all__ = ["ShellStart", "read_shell"]

MOST_FOLDERS = 200  # of PATH
MOST_STEPS = 2000  # commands that are read, those of other texts too
_DECLARES = {"export", "readonly", "declare", "typeset", "local"}
# Functions of a cluster's or a tool's that change PATH
_MODULES = {"module", "ml", "spack"}
_CHANGES_PATH = {*_MODULES, "pyenv", "asdf", "workon", "deactivate", "nvm", "source_env", "load"}


@record
class ShellStart:
    """The command that a text ends in.

    ``words`` are the program and its arguments, ``line`` where they stand. ``is_plain`` is whether PATH is known;
    ``env`` are the variables that the program gets, ``folder`` where it starts, ``entered`` the prefixes that were
    activated, and ``unread`` what was run before of which it is not known what it sets.
    """

    words: tuple[str, ...]
    line: int
    env: Mapping[str, str]
    folder: str
    is_plain: bool
    entered: tuple[str, ...] = ()
    unread: tuple[str, ...] = ()


def read_shell(files: Files, text: str, zero: str, arguments: Sequence[str], env: Mapping[str, str],
               folder: str, name: str = "sh") -> ShellStart:
    """Return what a text starts when the shell of a name reads it in a folder as `zero`, with arguments and variables.

    Raises:
        Untold: it does not say so outright.
    """
    shell = _Shell(files, zero, arguments, env, folder)
    shell.ends_for_want = name not in ("bash", "zsh")
    shell.run(text, 0)
    if shell.started is None:
        raise Untold("it starts no other program")
    if {MARKED, UNSET} & set(shell.started.words[0]) or not shell.started.words[0]:
        raise Untold("the name of the program is worked out when it runs")
    if not shell.is_exec and shell.others > 1:
        raise Untold("it runs several commands")
    return shell.started


class _Shell:
    """Reads a text command by command, as a shell would run it."""

    def __init__(self, files: Files, zero: str, arguments: Sequence[str], env: Mapping[str, str], folder: str) -> None:
        self.files, self.folder = files, folder
        self.scope = Scope(env, zero, arguments, self._answer)
        self.exported, self._exports_all = set(env), False
        self.is_plain, self.is_exec, self.others = True, False, 0
        self.ends_for_want = False  # of a file that it is to read
        self.entered: list[str] = []
        self._unread: list[str] = []
        self.started: ShellStart | None = None
        self._functions = {n[10:-2] for n in env if n.startswith("BASH_FUNC_")} | _CHANGES_PATH
        self.flow = Flow()
        self._conda, self._is_over, self._steps = "", False, 0

    def run(self, text: str, depth: int) -> None:
        """Read a text to its end, or to where it starts what takes its place.

        Raises:
            Untold: what it starts is not said outright.
        """
        for command in commands_of(text, self.scope, depth):
            self._steps += 1
            if self._steps > MOST_STEPS:
                raise Untold("it has too many commands")
            words = self.flow.take(command)
            negated = words[:1] == ["!"]
            words = words[1:] if negated else words
            if not words:
                continue
            self._command(words, command.line, depth)
            if negated and self.flow.status is not None:
                self.flow.status = not self.flow.status
            if self._is_over:
                return

    # -- commands -----------------------------------------------------------------------------------
    def _command(self, words: list[str], line: int, depth: int) -> None:
        here: dict[str, str] = {}
        while words and _is_assignment(words[0]):
            key, _, value = words.pop(0).replace(UNSET, "").partition("=")
            here[key.rstrip("+")] = (self.scope.value(key[:-1]) or "") + value if key.endswith("+") else value
        name = words[0] if words else ""
        if not words:
            self._assign(here)
        elif name in _DECLARES:
            self._declare(words)
        elif name == "exec":
            words = _without_options(words[1:])
            if words:
                self._start(words, line, here, is_exec=True)
        elif name in ("exit", "return"):
            self._is_over = True
        elif name in (".", "source"):
            self._source(words[1:], depth)
        elif name == "eval":
            self._eval(" ".join(words[1:]), depth)
        elif name in self.flow.functions:
            self._call(name)
        elif name in CONDAS and words[1:2] == ["activate"]:
            self._activate_conda(words[2] if len(words) > 2 else "")
        elif not self._own(words):
            self._outside(words, line, here)

    def _own(self, words: Sequence[str]) -> bool:
        """Do what a shell does itself; return whether it does."""
        name, told = words[0], holds(self.files, words, self._path(), self.folder)
        if told is not NotImplemented:
            self.flow.status = told
        elif name == "set":
            self._set(words[1:])
        elif name == "unset":
            for key in words[1:]:
                self.scope.known.pop(key, None)
                self.exported.discard(key)
        elif name == "shift":
            self._shift(words[1:])
        elif name == "cd":
            self._cd([w for w in words[1:] if w not in ("-P", "-L", "--")])
        elif name in HARMLESS:
            self.flow.status = True
        else:
            return False
        return True

    def _call(self, name: str) -> None:
        """Run a function of the text's own.

        Raises:
            Untold: it does more than to say something, or to end.
        """
        does = self.flow.functions[name]
        if does == "other":
            raise Untold(f"it runs a function of its own ({name})")
        self._is_over, self.flow.status = does == "end", True

    def _outside(self, words: Sequence[str], line: int, here: Mapping[str, str]) -> None:
        """Go past another program, which may be what is started in the end, or past a function."""
        if words[0] in self._functions or (words[0] in CONDAS and self._conda):
            self.is_plain = False
            self._unread.append(" ".join(map(shown, words if words[0] in _MODULES else words[:1])))  # no secrets
        self.flow.status = None
        self.others += 1
        self._start(words, line, here)

    def _start(self, words: Sequence[str], line: int, here: Mapping[str, str], *, is_exec: bool = False) -> None:
        env = {**{k: v for k, v in self.scope.known.items() if k in self.exported}, **here}
        unknown = next((k for k in VARIABLES if MARKED in env.get(k, "")), None)
        if unknown and is_exec:
            raise Untold(f"the value of {unknown} is worked out when it runs")
        self.is_plain = self.is_plain and MARKED not in env.get("PATH", "")
        self.started = ShellStart(
            (words[0], *map(shown, words[1:])), line,
            {k: v.replace(UNSET, "") for k, v in env.items() if MARKED not in v}, self.folder,
            self.is_plain and MARKED not in words[0] and not unknown, tuple(self.entered), tuple(self._unread))
        self.is_exec = self._is_over = is_exec

    def _assign(self, values: Mapping[str, str]) -> None:
        self.scope.known.update(values)
        if self._exports_all:
            self.exported.update(values)
        self.flow.status = True

    def _declare(self, words: Sequence[str]) -> None:
        options = [w for w in words[1:] if w.startswith("-")]
        for word in words[1:]:
            key, equals, value = word.replace(UNSET, "").partition("=")
            if equals and key.isidentifier():
                self.scope.known[key] = value
            if key.isidentifier() and (words[0] == "export" or any("x" in o for o in options) or self._exports_all):
                self.exported.add(key)
        self.flow.status = True

    def _set(self, words: Sequence[str]) -> None:
        for number, word in enumerate(words):
            if word in ("--", "-"):
                self.scope.arguments = tuple(w.replace(UNSET, "") for w in words[number + 1:])
                break
            if not word.startswith(("-", "+")) and not (number and words[number - 1][0] in "-+" and
                                                        words[number - 1].endswith("o")):
                self.scope.arguments = tuple(words[number:])
                break
            if word == "allexport" or (word[0] == "-" and "a" in word[1:]):
                self._exports_all = True
        self.flow.status = True

    def _shift(self, words: Sequence[str]) -> None:
        count = int(words[0]) if words and words[0].isdigit() else 1
        if any(a == "$@" for a in self.scope.arguments[:count]) or len(self.scope.arguments) < count:
            raise Untold("it takes some of its words itself")
        self.scope.arguments = self.scope.arguments[count:]
        self.flow.status = True

    def _cd(self, words: Sequence[str]) -> None:
        place = words[0] if words else self.scope.value("HOME") or MARKED
        if {MARKED, UNSET} & set(place) or place == "-":
            self.flow.status, self.folder = None, self.folder
            return
        there = self.files.located(place, self.folder)
        self.flow.status = self.files.is_folder(there)
        self.folder = there if self.flow.status else self.folder

    def _eval(self, text: str, depth: int) -> None:
        if MARKED not in text:
            self.run(text.replace(UNSET, ""), depth + 1)
        elif not self._conda:  # of conda's own hook only functions come
            self.is_plain = False
            self._unread.append("eval")
        self.flow.status = None if MARKED in text else self.flow.status

    # -- environments that are entered --------------------------------------------------------------
    def _read_in_place(self, script: str, depth: int) -> None:
        """Read another text as a part of this one; what cannot be followed in it leaves it open what PATH is."""
        before = dict(self.scope.known), set(self.exported), self.scope.arguments, self.folder, self.others
        flow, self.flow = self.flow, Flow()
        try:
            self.run(self.files.read_text(script, LONGEST_TEXT), depth + 1)
            self._is_over = self.is_exec  # it may return
        except (Untold, Unreadable):
            if self._steps > MOST_STEPS:
                raise
            self.scope.known, self.exported, self.scope.arguments, self.folder, self.others = before
            self.is_plain, self._is_over = False, False
            self._unread.append(script)
        self.flow = flow

    def _source(self, words: Sequence[str], depth: int) -> None:
        """Read what a shell reads in its own place: the activation of an environment, or it is not known what."""
        m, self.flow.status = self.files, True
        if not words or {MARKED, UNSET} & set(words[0]):
            self.is_plain = False
            return
        places = [m.path.join(p, words[0]) for p in self._path().split(":") if p]
        script = next((p for p in places if "/" not in words[0] and m.is_file(p)), m.located(words[0], self.folder))
        root = dirname(dirname(script))
        if not m.is_there(script):
            if self.ends_for_want:
                raise Untold(f"it reads {script}, which is not there")
            self.flow.status = False
        elif script.endswith("/etc/profile.d/conda.sh"):
            self._conda = dirname(dirname(root))
        elif basename(script) != "activate":
            self._read_in_place(script, depth)
        elif m.is_folder(m.path.join(root, "conda-meta")):
            self._conda = root
            self._activate_conda([*words[1:], *self.scope.arguments, ""][0])  # without words it has those of the text
        else:
            named = named_by_activate(m, script)
            self._enter(named[0] if named else None, "VIRTUAL_ENV")
            self.scope.known.pop("PYTHONHOME", None)

    def _path(self) -> str:
        """Return PATH, as much of it as is looked through."""
        return ":".join(self.scope.known.get("PATH", "").split(":")[:MOST_FOLDERS])

    def _program(self, name: str) -> str:
        """Return the path that a word means: of PATH, else from the folder."""
        found = find_on_path(self.files, name, self._path(), first_only=True) if "/" not in name else ()
        return found[0].path if found else self.files.located(name, self.folder)

    def _activate_conda(self, name: str) -> None:
        prefix = None if {MARKED, UNSET} & set(name) else conda_prefix(
            self.files, self._conda, name, self.scope.known, self.folder)
        self._enter(prefix, "CONDA_PREFIX")
        self.flow.status = True if prefix else None

    def _enter(self, prefix: str | None, variable: str) -> None:
        if prefix is None:
            self.is_plain = False
            return
        known, programs = self.scope.known, self.files.path.join(prefix, "bin")
        known["PATH"] = f"{programs}:{known['PATH']}" if known.get("PATH") else programs
        known[variable] = prefix
        self.exported |= {"PATH", variable}
        self.entered.append(prefix)
        self.is_plain = True  # what is found there, is found first

    def _answer(self, text: str, depth: int) -> str:
        """Return what a command within a word answers; a mark where that is not known."""
        said = [c.words for c in commands_of(text, self.scope, depth)]
        if said and said[0][0].rsplit("/", 1)[-1] in CONDAS and "hook" in said[0]:
            place = self._program(said[0][0])
            self._conda = dirname(dirname(place)) if self.files.is_there(place) else self._conda
        return answer_of(self.files, said, self._path(), self.folder)


def _is_assignment(word: str) -> bool:
    key, equals, _ = word.partition("=")
    return bool(equals) and key.removesuffix("+").isidentifier()


def _without_options(words: list[str]) -> list[str]:
    """Take the options of ``exec`` off.

    Raises:
        Untold: the program is told another name than its own, by which Python looks for where it is.
    """
    while words and words[0].startswith("-"):
        option = words.pop(0)
        if option == "--":
            break
        if "a" in option:
            raise Untold("it tells the program another name than its own")
    return words
