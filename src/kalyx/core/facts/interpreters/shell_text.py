"""What a shell's text starts in the end, where it says so outright: one program, with its variables and its folder.

Followed are assignments, conditions that files and known words decide, ``cd``, and the activation of environments.
Loops, functions, and what other programs work out, are for the shell to answer.
"""

from __future__ import annotations

from posixpath import basename, dirname

from kalyx.core.errors import Unreadable
from kalyx.core.facts.interpreters.activate_script import conda_prefix, named_by_activate
from kalyx.core.facts.interpreters.path_lookup import find_on_path
from kalyx.core.facts.interpreters.shell_answers import answer_of
from kalyx.core.facts.interpreters.shell_tests import holds
from kalyx.core.facts.interpreters.shell_words import LONGEST_TEXT, MARKED, UNSET, Command, Scope, Untold, commands_of
from kalyx.core.facts.interpreters.variables import VARIABLES
from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from kalyx.core.facts.files import Files

__all__ = ["ShellStart", "read_shell"]

_LOOPS = {"case": "esac", "for": "done", "while": "done", "until": "done", "select": "done", "function": "}"}
# What starts nothing, and changes nothing that matters for what is started
_HARMLESS = {":", "true", "echo", "printf", "umask", "ulimit", "trap", "hash", "wait", "pwd", "type", "mkdir", "sleep",
             "date", "touch", "cat", "ls", "rm", "hostname", "logger", "chmod", "cp", "mv", "ln", "tee", "uname", "id",
             "whoami", "nvidia-smi", "alias", "unalias", "getopts", "kill", "let", "mesg", "stty", "tput", "clear"}
_DECLARES = {"export", "readonly", "declare", "typeset", "local"}
# Functions of a cluster's or a tool's that change PATH
_CHANGES_PATH = {"module", "ml", "spack", "pyenv", "asdf", "workon", "deactivate", "nvm", "source_env", "load"}
_CONDAS = ("conda", "mamba", "micromamba")
_CONDITION = "what it starts depends on conditions ({})"


@record
class ShellStart:
    """The command that a text ends in.

    ``words`` are the program and its arguments, ``line`` where they stand. ``is_plain`` is whether PATH is known;
    ``env`` are the variables that the program gets, ``folder`` where it starts, ``entered`` the prefixes that were
    activated.
    """

    words: tuple[str, ...]
    line: int
    env: Mapping[str, str]
    folder: str
    is_plain: bool
    entered: tuple[str, ...] = ()


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
        self.started: ShellStart | None = None
        self._functions = {n[10:-2] for n in env if n.startswith("BASH_FUNC_")} | _CHANGES_PATH
        self._status: bool | None = True
        self._blocks: list[str] = []  # each: on, off, done (with what may follow), if (its condition), maybe
        self._closes: list[str] = []  # the word that ends each
        self._conda, self._is_over = "", False

    # -- the flow -----------------------------------------------------------------------------------
    def run(self, text: str, depth: int) -> None:
        """Read a text to its end, or to where it starts what takes its place.

        Raises:
            Untold: what it starts is not said outright.
        """
        for command in commands_of(text, self.scope, depth):
            words = self._flow(command)
            if not words or self._is_off():
                continue
            if command.before == "operator":
                raise Untold("it does more than start one program")
            negated = words[0] == "!"
            words = words[1:] if negated else words
            if "maybe" in self._blocks:
                self._must_not_matter(words)
                self._status = None
                continue
            self._command(words, command.line, depth)
            if negated and self._status is not None:
                self._status = not self._status
            if self._is_over:
                return

    def _flow(self, command: Command) -> list[str]:
        """Take reserved words off a command, and what is not reached; return what is left of it to run."""
        words, before = list(command.words), command.before
        while words:
            word = words[0]
            if self._closes and word == self._closes[-1] and (word != "}" or len(words) == 1):
                self._close()
                return []
            if word in _LOOPS or (word == "{" and len(words) > 1) or word == "if" or word == "{":
                self._open(word, before)
                words, before = words[1:], ""
            elif word in ("then", "elif", "else") and self._blocks and self._closes[-1] == "fi":
                self._turn(word)
                words, before = words[1:], ""
            elif word in ("do", "!") and len(words) > 1 and word == "do":
                words = words[1:]
            else:
                break
        if not words or self._is_off() or before not in ("&&", "||"):
            return words
        follows = self._follows(before)
        if follows is None:
            self._must_not_matter(words)
        return words if follows else []

    def _follows(self, operator: str) -> bool | None:
        """Whether what stands behind an operator is run; None where that is not known."""
        if operator not in ("&&", "||") or self._status is None:
            return None if operator in ("&&", "||") else True
        return self._status == (operator == "&&")

    def _is_off(self) -> bool:
        return any(b in ("off", "done") for b in self._blocks)

    def _open(self, word: str, before: str) -> None:
        follows = self._follows(before)
        if self._is_off() or follows is False:
            self._blocks.append("done")
        elif word in _LOOPS:
            raise Untold(_CONDITION.format(word))
        elif follows is None:
            self._blocks.append("maybe")
        else:
            self._blocks.append("if" if word == "if" else "on")
        self._closes.append("fi" if word == "if" else _LOOPS.get(word, "}"))

    def _turn(self, word: str) -> None:
        """Go on to another part of an ``if``."""
        now = self._blocks[-1]
        if now == "if":  # behind the condition
            self._blocks[-1] = "maybe" if self._status is None else "on" if self._status else "off"
        elif now == "on":
            self._blocks[-1] = "done"
        elif now == "off":
            self._blocks[-1] = "on" if word == "else" else "if"

    def _close(self) -> None:
        if self._blocks.pop() in ("off", "maybe") and self._closes[-1] == "fi":
            self._status = True
        self._closes.pop()

    def _must_not_matter(self, words: Sequence[str]) -> None:
        """Make sure that a command may be run or not, and the same is started.

        Raises:
            Untold: it is not so.
        """
        if words[0] not in _HARMLESS and words[0] not in ("[", "[[", "test", "false"):
            raise Untold(_CONDITION.format(words[0]))

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
        elif name in _CONDAS and words[1:2] == ["activate"]:
            self._activate_conda(words[2] if len(words) > 2 else "")
        elif not self._own(words):
            self._outside(words, line, here)

    def _own(self, words: Sequence[str]) -> bool:
        """Do what a shell does itself; return whether it does."""
        name, told = words[0], holds(self.files, words, self.scope.known.get("PATH", ""), self.folder)
        if told is not NotImplemented:
            self._status = told
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
        elif name in _HARMLESS:
            self._status = True
        else:
            return False
        return True

    def _outside(self, words: Sequence[str], line: int, here: Mapping[str, str]) -> None:
        """Go past another program, which may be what is started in the end, or past a function."""
        if words[0] in self._functions or (words[0] in _CONDAS and self._conda):
            self.is_plain = False
        self._status = None
        self.others += 1
        self._start(words, line, here)

    def _start(self, words: Sequence[str], line: int, here: Mapping[str, str], *, is_exec: bool = False) -> None:
        env = {**{k: v for k, v in self.scope.known.items() if k in self.exported}, **here}
        unknown = next((k for k in VARIABLES if MARKED in env.get(k, "")), None)
        if unknown and is_exec:
            raise Untold(f"the value of {unknown} is worked out when it runs")
        self.is_plain = self.is_plain and MARKED not in env.get("PATH", "")
        self.started = ShellStart(
            (words[0], *(w.replace(UNSET, "") for w in words[1:])), line,
            {k: v.replace(UNSET, "") for k, v in env.items() if MARKED not in v}, self.folder,
            self.is_plain and MARKED not in words[0] and not unknown, tuple(self.entered))
        self.is_exec = self._is_over = is_exec

    def _assign(self, values: Mapping[str, str]) -> None:
        self.scope.known.update(values)
        if self._exports_all:
            self.exported.update(values)
        self._status = True

    def _declare(self, words: Sequence[str]) -> None:
        options = [w for w in words[1:] if w.startswith("-")]
        for word in words[1:]:
            key, equals, value = word.replace(UNSET, "").partition("=")
            if equals and key.isidentifier():
                self.scope.known[key] = value
            if key.isidentifier() and (words[0] == "export" or any("x" in o for o in options) or self._exports_all):
                self.exported.add(key)
        self._status = True

    def _set(self, words: Sequence[str]) -> None:
        for number, word in enumerate(words):
            if word in ("--", "-"):
                self.scope.arguments = tuple(words[number + 1:])
                break
            if not word.startswith(("-", "+")) and words[number - 1] not in ("-o", "+o"):
                self.scope.arguments = tuple(words[number:])
                break
            if word == "allexport" or (word[0] == "-" and "a" in word[1:]):
                self._exports_all = True
        self._status = True

    def _shift(self, words: Sequence[str]) -> None:
        count = int(words[0]) if words and words[0].isdigit() else 1
        if any(a == "$@" for a in self.scope.arguments[:count]) or len(self.scope.arguments) < count:
            raise Untold("it takes some of its words itself")
        self.scope.arguments = self.scope.arguments[count:]
        self._status = True

    def _cd(self, words: Sequence[str]) -> None:
        place = words[0] if words else self.scope.value("HOME") or MARKED
        if {MARKED, UNSET} & set(place) or place == "-":
            self._status, self.folder = None, self.folder
            return
        there = self.files.located(place, self.folder)
        self._status = self.files.is_folder(there)
        self.folder = there if self._status else self.folder

    def _eval(self, text: str, depth: int) -> None:
        if MARKED not in text:
            self.run(text.replace(UNSET, ""), depth + 1)
        elif not self._conda:  # of conda's own hook only functions come
            self.is_plain = False
        self._status = None if MARKED in text else self._status

    # -- environments that are entered --------------------------------------------------------------
    def _read_in_place(self, script: str, depth: int) -> None:
        """Read another text as a part of this one; what cannot be followed in it leaves it open what PATH is."""
        before = dict(self.scope.known), set(self.exported), self.scope.arguments, self.folder, self.others
        blocks, closes = self._blocks, self._closes
        self._blocks, self._closes = [], []
        try:
            self.run(self.files.read_text(script, LONGEST_TEXT), depth + 1)
            self._is_over = self.is_exec  # it may return
        except (Untold, Unreadable):
            self.scope.known, self.exported, self.scope.arguments, self.folder, self.others = before
            self.is_plain, self._is_over = False, False
        self._blocks, self._closes = blocks, closes

    def _source(self, words: Sequence[str], depth: int) -> None:
        """Read what a shell reads in its own place: the activation of an environment, or it is not known what."""
        m, self._status = self.files, True
        if not words or {MARKED, UNSET} & set(words[0]):
            self.is_plain = False
            return
        script = self._program(words[0])
        root = dirname(dirname(script))
        if not m.is_there(script):
            if self.ends_for_want:
                raise Untold(f"it reads {script}, which is not there")
            self._status = False
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

    def _program(self, name: str) -> str:
        """Return the path that a word means: of PATH, else from the folder."""
        path = self.scope.known.get("PATH", "")
        found = find_on_path(self.files, name, path, first_only=True) if "/" not in name else ()
        return found[0].path if found else self.files.located(name, self.folder)

    def _activate_conda(self, name: str) -> None:
        prefix = None if {MARKED, UNSET} & set(name) else conda_prefix(
            self.files, self._conda, name, self.scope.known, self.folder)
        self._enter(prefix, "CONDA_PREFIX")
        self._status = True if prefix else None

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
        if said and said[0][0].rsplit("/", 1)[-1] in _CONDAS and said[0][-1] == "hook":
            place = self._program(said[0][0])
            self._conda = dirname(dirname(place)) if self.files.is_there(place) else self._conda
        return answer_of(self.files, said, self.scope.known.get("PATH", ""), self.folder)


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
