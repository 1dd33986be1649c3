"""What a shell's text starts in the end, where it says so outright: one command that takes the shell's place.

Read are words, quotes, variables that are known and assignments (POSIX, Shell Command Language). A text with
conditions, loops or functions, and a program whose name other commands work out, is for the shell to answer.
"""

from __future__ import annotations

from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

__all__ = ["LONGEST_WORD", "MOST_WORDS", "SHELLS", "ShellStart", "Untold", "read_shell"]

SHELLS = ("sh", "bash", "dash", "zsh", "ksh", "ash", "busybox")
# What makes it depend on more than its words what is started
_CONDITIONS = {"if", "case", "for", "while", "until", "function", "[", "[[", "test", "then", "do", "{", "select", "!"}
_NOTHING = {":", "true", "false", "set", "unset", "umask", "export", "readonly", "local", "declare"}
# What a shell does itself: it may change what follows, and starts nothing
_OWN = {".", "source", "eval", "cd", "echo", "printf", "read", "trap", "shift", "wait", "ulimit", "alias", "hash",
        "type", "pwd", "getopts", "let", "kill", "pushd", "popd", "shopt", "exit", "return"}
_OPERATORS = (";", "&", "|", "(", ")", "<", ">")
# How a script asks for its own name and folder
_OWN_NAME = ('${0##*/}', '$(basename "$0")', "$(basename $0)", "`basename $0`", '`basename "$0"`',
             '$(basename -- "$0")')
_OWN_FOLDER = ('$(dirname "$0")', "$(dirname $0)", "${0%/*}", "`dirname $0`", '`dirname "$0"`', '$(dirname -- "$0")')
# What no command that starts a Python needs; a text in which each line doubles the one before has no end otherwise
LONGEST_TEXT, LONGEST_WORD, MOST_WORDS = 65536, 8192, 4096
BLANKS = " \t\r"  # between words
_MARKED = "\x1a"  # stands in a word for what is not known


class Untold(ValueError):
    """A text does not say outright what it starts; the message says why."""


@record
class ShellStart:
    """The command that a text ends in.

    ``words`` are the program and its arguments, ``line`` where they stand. ``is_plain`` is whether nothing but
    assignments comes before, so that PATH is what it was or is assigned; ``env`` are the assigned variables.
    """

    words: tuple[str, ...]
    line: int
    env: Mapping[str, str]
    is_plain: bool


def read_shell(text: str, zero: str, arguments: Sequence[str], env: Mapping[str, str]) -> ShellStart:
    """Return what a text starts when a shell reads it as `zero` with `arguments` and the variables of `env`.

    Raises:
        Untold: it does not say so outright.
    """
    if len(text) > LONGEST_TEXT:
        raise Untold("its text is too long")
    folder, _, name = zero.rpartition("/")
    for forms, value in ((_OWN_NAME, "${KALYX_NAME}"), (_OWN_FOLDER, "${KALYX_FOLDER}")):
        for form in forms:
            text = text.replace(form, value)
    known = {**env, "0": zero, "KALYX_NAME": name, "KALYX_FOLDER": folder or "."}
    known.update({str(n): a for n, a in enumerate(arguments, 1)})
    given: dict[str, str] = {}
    is_plain, last = True, None
    for line, words in _commands(text, known, arguments):
        here: dict[str, str] = {}
        while words and _is_assignment(words[0]):
            key, _, value = words.pop(0).partition("=")
            here[key] = value
        if not words or words[0] == "export":
            here.update((w.partition("=")[0], w.partition("=")[2]) for w in words[1:] if _is_assignment(w))
            known.update(here)
            given.update(here)
            continue
        if words[0] in _CONDITIONS or words[0].endswith("()"):
            raise Untold(f"what it starts depends on conditions ({words[0]})")
        if words[0] == "exec":
            words = _without_options(words[1:])
            if words:
                return _start(words, line, {**given, **here}, is_plain and last is None)
            continue
        if words[0] in ("exit", "return"):
            break
        if words[0] in _OWN:
            is_plain = False
        elif words[0] not in _NOTHING:
            is_plain, last = is_plain and last is None, (words, line, {**given, **here})
    if last is None:
        raise Untold("it starts no other program")
    if not is_plain:
        raise Untold("it runs several commands")
    return _start(*last, is_plain)


def _start(words: list[str], line: int, env: Mapping[str, str], is_plain: bool) -> ShellStart:
    if _MARKED in words[0] or not words[0]:
        raise Untold("the name of the program is worked out when it runs")
    return ShellStart(tuple(words), line, env, is_plain)


def _is_assignment(word: str) -> bool:
    return word.partition("=")[0].isidentifier() and "=" in word


def _without_options(words: list[str]) -> list[str]:
    """Take the options of ``exec`` off."""
    while words and words[0].startswith("-"):
        option = words.pop(0)
        if option == "--":
            break
        if option == "-a":
            words = words[1:]
    return words


def _commands(text: str, known: Mapping[str, str], arguments: Sequence[str]) -> Iterator[tuple[int, list[str]]]:
    """Yield each simple command with its line; `known` may be changed between two of them.

    Raises:
        Untold: there is more in it than simple commands one after the other.
    """
    reader = _Reader(text, known, arguments)
    words: list[str] = []
    line = 1
    while True:
        token = reader.next()
        if token is None or token in ("\n", ";", "&&"):
            if words:
                yield line, words
            if token is None:
                return
            words = []
        elif isinstance(token, str):  # | & || ( ) < >
            if "exec" in words[:1]:  # what comes behind it is not reached, or says where its output goes
                yield line, words
                return
            raise Untold("it does more than start one program")
        else:
            if not words:
                line = reader.line
            words += token
            if len(words) > MOST_WORDS:
                raise Untold("it has too many words")


class _Reader:
    """Splits a shell's text into words and operators, with what is known filled in."""

    def __init__(self, text: str, known: Mapping[str, str], arguments: Sequence[str]) -> None:
        self._text = text.replace("\\\n", "")
        self._at = 0
        self._known = known
        self._arguments = arguments
        self.line = 1

    def next(self) -> str | list[str] | None:
        """Return an operator, or what one word becomes: often one, of ``"$@"`` any number; None at the end."""
        text = self._text
        while self._at < len(text) and text[self._at] in BLANKS:
            self._at += 1
        if text[self._at:self._at + 1] == "#":
            self._at = (text.find("\n", self._at) + len(text) + 1) % (len(text) + 1)
        if self._at >= len(text):
            return None
        char = text[self._at]
        if char == "\n":
            self._at += 1
            self.line += 1
            return "\n"
        if char in _OPERATORS:
            width = 2 if text[self._at:self._at + 2] in ("&&", "||", ";;", ">>", "<<") else 1
            self._at += width
            return text[self._at - width:self._at]
        return self._word()

    def _word(self) -> list[str]:
        text, word, quote, all_arguments = self._text, "", "", False
        while self._at < len(text):
            char = text[self._at]
            if quote == "'":
                quote, word = ("", word) if char == "'" else (quote, word + char)
            elif char == "\\":
                self._at += 1
                following = text[self._at:self._at + 1]
                word += following if not quote or following in '"\\$`' else char + following
            elif char == "$":
                name, width = self._variable(self._at + 1)
                self._at += width
                if name == "@":
                    all_arguments = True
                else:
                    word += self._known.get(name, _MARKED) if name else "$" if name == "" else _MARKED
            elif char == "`":
                end = text.find("`", self._at + 1)
                self._at = end if end > 0 else len(text)
                word += _MARKED
            elif char in "\"'" and quote in ("", char):
                quote = "" if quote else char
            elif not quote and (char in BLANKS or char == "\n" or char in _OPERATORS):
                break
            else:
                word += char
            if len(word) > LONGEST_WORD:
                raise Untold("a word in it is too long")
            self.line += char == "\n"
            self._at += 1
        if quote:
            raise Untold("a quote in it does not end")
        return list(self._arguments) if all_arguments and not word else [word]

    def _variable(self, start: int) -> tuple[str | None, int]:
        """Return the name behind a dollar, and how long it is; None for what has to be worked out."""
        text = self._text
        if text[start:start + 1] == "{":
            end = text.find("}", start)
            if end < 0:
                raise Untold("a brace in it does not end")
            name = text[start + 1:end]
            return (name if name.isidentifier() or name.isdigit() or name == "@" else None), end - start + 1
        if text[start:start + 1] == "(":
            depth, at = 0, start
            while at < len(text):
                depth += (text[at] == "(") - (text[at] == ")")
                at += 1
                if not depth:
                    return None, at - start
            raise Untold("a bracket in it does not end")
        if text[start:start + 1] in ("@", "*"):
            return "@", 1
        if text[start:start + 1].isdigit():
            return text[start], 1
        end = start
        while end < len(text) and (text[end].isalnum() or text[end] == "_"):
            end += 1
        return text[start:end], end - start
