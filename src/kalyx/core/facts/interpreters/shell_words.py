"""A shell's text taken apart into commands: words, quotes, what is known of variables, operators.

Follows the Shell Command Language of POSIX (2.2 to 2.6), as far as wrappers use it. What is not known stands in a word
as a mark.
"""

from __future__ import annotations

import re

from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Mapping, Sequence

__all__ = ["LONGEST_TEXT", "LONGEST_WORD", "MARKED", "MOST_WORDS", "SHELLS", "UNSET", "Command", "Scope", "Untold",
           "commands_of", "shown"]

SHELLS = ("sh", "bash", "dash", "zsh", "ksh", "ash", "busybox")
# What no command that starts a Python needs; a text in which each line doubles the one before has no end otherwise
LONGEST_TEXT, LONGEST_WORD, MOST_WORDS, DEEPEST = 65536, 8192, 4096, 12
BLANKS = " \t\r"  # between words
MARKED = "\x1a"  # stands in a word for what is not known; before * and ? for the names of files
UNSET = "\x19"  # for a variable that is not set: nothing, if the shell has no more variables than are known
_OPERATORS = ";&|()<>"
_TWO = ("&&", "||", ";;", ">>", "<<", "&>", ">&", "<&", ">|")
_REDIRECTIONS = (">", ">>", "<", "&>", ">&", "<&", ">|")
_BRACES = re.compile(r"([A-Za-z_]\w{0,99}|\d{1,3}|[@*#?])(?:\[[\d@*]\])?(:?[-=+?]|%/\*|##\*/)?")

_NAME = re.compile(r"[A-Za-z_]\w{0,99}|[\d@*#?$!-]")
_ASSIGNS = re.compile(r"[A-Za-z_]\w{0,99}\+?=")  # what follows is one word


class Untold(ValueError):
    """A text does not say outright what it starts; the message says why."""


@record
class Command:
    """A simple command: its words, the line that they begin on, and the operator before and behind it."""

    words: tuple[str, ...]
    line: int
    before: str
    behind: str


def shown(word: str) -> str:
    """Return a word as it is written where it is not known, for people."""
    for mark, written in ((UNSET, ""), (f"{MARKED}*", "*"), (f"{MARKED}?", "?"), (MARKED, "…")):
        word = word.replace(mark, written)
    return word


class Scope:
    """What a shell knows while it reads: variables, its own arguments, and what commands within words answer."""

    def __init__(self, known: Mapping[str, str], zero: str, arguments: Sequence[str],
                 answer: Callable[[str, int], str]) -> None:
        self.known, self.zero, self.answer = dict(known), zero, answer
        self.arguments = tuple(arguments)
        self.pending: dict[str, str] = {}  # assigned before in the same command, for the next assignments in it
        self.assigns = False

    def value(self, name: str) -> str | None:
        """Return the value of a variable or of a word that was given; None where there is none."""
        if self.assigns and name in self.pending:
            return self.pending[name]
        if name in ("0", "BASH_SOURCE"):
            return self.zero
        if name.isdigit():
            return self.arguments[int(name) - 1] if int(name) <= len(self.arguments) else None
        return MARKED if name in ("#", "?", "$", "!", "-") else self.known.get(name)


def commands_of(text: str, scope: Scope, depth: int = 0) -> Iterator[Command]:
    """Yield the commands of a text one after the other; `scope` may be changed between two of them.

    Where output goes is left out. Brackets, pipes and what runs beside are commands of their own, of one operator.

    Raises:
        Untold: a quote, a bracket or a brace does not end, or it is too much.
    """
    if depth > DEEPEST or len(text) > LONGEST_TEXT:
        raise Untold("its text is too long" if depth <= DEEPEST else "it is too deep")
    reader, words, line, before = _Reader(text, scope, depth), list[str](), 1, ""
    while True:
        token = reader.next()
        if isinstance(token, list):
            line = line if words else reader.began
            words += token
            if len(token) == 1 and _ASSIGNS.match(token[0]) and all(_ASSIGNS.match(w) for w in words):
                scope.pending[token[0].partition("=")[0]] = token[0].partition("=")[2]
            if len(words) > MOST_WORDS:
                raise Untold("it has too many words")
        elif token in _REDIRECTIONS:
            if words and words[-1].isdigit() and reader.is_glued:
                words.pop()
            reader.next()  # where to
        else:
            had, scope.pending = bool(words), {}
            if words:
                yield Command(tuple(words), line, before, token or "")
                words = []
            if token is None:
                return
            if token in ("\n", ";", "&&", "||"):
                before = token if token != "\n" or had or before not in ("&&", "||") else before
            else:
                yield Command((token,), reader.line, "operator", "")
                before = token


class _Reader:
    """Splits a text into words and operators, with what is known filled in."""

    def __init__(self, text: str, scope: Scope, depth: int) -> None:
        self._text, self._scope, self._depth = text, scope, depth
        self._at = 0
        self.line = self.began = 1
        self.is_glued = False  # the last operator stands right behind a word
        self._is_split = False  # what the last dollar stands for was taken apart into words already

    def next(self) -> str | list[str] | None:
        """Return an operator, or what one word becomes: often one, of ``"$@"`` any number; None at the end."""
        text, start = self._text, self._at
        while self._at < len(text) and (text[self._at] in BLANKS or text.startswith("\\\n", self._at)):
            self.line += text[self._at] == "\\"
            self._at += 2 if text[self._at] == "\\" else 1
        if text[self._at:self._at + 1] == "#":
            end = text.find("\n", self._at)
            self._at = end if end >= 0 else len(text)
        if self._at >= len(text):
            return None
        char = text[self._at]
        if char == "\n":
            self._at += 1
            self.line += 1
            return "\n"
        if char in _OPERATORS:
            self.is_glued = self._at == start
            width = 2 if text[self._at:self._at + 2] in _TWO else 1
            self._at += width
            return text[self._at - width:self._at]
        self.began = self.line
        return self._word()

    def _word(self) -> list[str]:
        """Read one word; what stands without quotes and has blanks becomes several, or none."""
        text, word, quote = self._text, _Word(), ""
        while self._at < len(text):
            char = text[self._at]
            if quote == "'":
                quote = "" if char == "'" else quote
                word.add("" if char == "'" else char)
            elif char == "\\":
                self._at += 1
                following = text[self._at:self._at + 1]
                self.line += following == "\n"
                if following != "\n":
                    word.add(following if not quote or following in '"\\$`' else char + following)
            elif char in "$`":
                self._scope.assigns = bool(_ASSIGNS.match(word.text))
                values, width = self._expanded(self._at, bool(quote))
                self._scope.assigns = False
                self._at += width - 1
                word.put(values, bool(quote) or self._is_split or _ASSIGNS.match(word.text) is not None)
            elif char == quote:
                quote = ""
                word.close()
            elif char in "\"'" and not quote:
                quote = char
                word.open()
            elif not quote and (char in BLANKS or char == "\n" or char in _OPERATORS):
                break
            elif not quote and char == "~" and self._is_home(word.text):
                word.add(self._scope.value("HOME") or MARKED)
            else:
                word.add(f"{MARKED}{char}" if not quote and char in "*?" else char)
            self.line += char == "\n"
            self._at += 1
        if quote:
            raise Untold("a quote in it does not end")
        return word.fields()

    def _is_home(self, word: str) -> bool:
        following = self._text[self._at + 1:self._at + 2]
        return (not word or word.endswith(("=", ":"))) and (not following or following in "/:\n;&|" + BLANKS)

    def _expanded(self, at: int, is_quoted: bool) -> tuple[list[str] | None, int]:
        """Return what stands for a dollar or a backtick at a place, and how much of the text that is.

        Several values are words of their own; None is no word at all (``"$@"`` without arguments).
        """
        text, scope, self._is_split = self._text, self._scope, False
        if text[at] == "`":
            end = text.find("`", at + 1)
            if end < 0:
                raise Untold("a backtick in it does not end")
            return [scope.answer(text[at + 1:end], self._depth + 1)], end - at + 1
        following = text[at + 1:at + 2]
        if following == "(":
            inner = _in_brackets(text, at + 1)
            return [MARKED if inner.startswith("(") else scope.answer(inner, self._depth + 1)], len(inner) + 3
        if following == "{":
            inner = _in_brackets(text, at + 1, "{}")
            return self._braced(inner, is_quoted), len(inner) + 3
        if following == "'" and not is_quoted:  # with escapes in it, as C has them
            end = text.find("'", at + 2)
            inner = text[at + 2:end]
            self._is_split = True
            return [MARKED if "\\" in inner or end < 0 else inner], len(inner) + 3
        match = _NAME.match(text, at + 1)
        if match is None:
            return ["$"], 1
        return self._values(match[0], is_quoted), 1 + len(match[0])

    def _values(self, name: str, is_quoted: bool) -> list[str] | None:
        if name == "*" and is_quoted:
            return [" ".join(self._scope.arguments)]
        if name in ("@", "*"):
            return list(self._scope.arguments) or None
        value = self._scope.value(name)
        return [UNSET if value is None else value]

    def _braced(self, inner: str, is_quoted: bool) -> list[str] | None:
        """Return what stands for ``${...}``."""
        match = _BRACES.match(inner)
        if match is None or (not match[2] and match.end() != len(inner)):
            return [MARKED]
        name, operator, rest = match[1], match[2] or "", inner[match.end():]
        if not operator:
            return self._values(name, is_quoted)
        is_list = name in ("@", "*")
        value = "".join(self._scope.arguments) if is_list else self._scope.value(name)
        if operator in ("%/*", "##*/"):
            if rest or value is None:
                return [UNSET if value is None else MARKED]
            head, slash, tail = value.rpartition("/")
            return [tail if operator == "##*/" else head if slash else value]
        is_there = bool(value) if operator[0] == ":" else value is not None
        if (operator[-1] == "+") == is_there:  # what stands behind it
            values = _Reader(rest, self._scope, self._depth + 1)._all(is_quoted)
            if operator[-1] == "=" and len(values) == 1:
                self._scope.known[name] = values[0]
            self._is_split = not is_quoted
            return values or None if operator[-1] != "?" else [MARKED]
        return [""] if operator[-1] == "+" else self._values(name, is_quoted)

    def _all(self, is_quoted: bool) -> list[str]:
        """Return the words of all of the text; within quotes it is one."""
        if self._depth > DEEPEST:
            raise Untold("it is too deep")
        words: list[str] = []
        while (token := self.next()) is not None:
            words += token if isinstance(token, list) else [token]
        return [" ".join(words)] if is_quoted else words


class _Word:
    """A word as it is read, which may become several."""

    def __init__(self) -> None:
        self.text, self._length = "", 0
        self._before: list[str] = []
        self._is_there = self._was_nothing = self._has_quotes = False

    def add(self, text: str) -> None:
        """Add what stands for itself."""
        self.text += text
        self._length += len(text)
        self._is_there = True
        if self._length > LONGEST_WORD or len(self._before) > MOST_WORDS:
            raise Untold("a word in it is too long")

    def put(self, values: Sequence[str] | None, is_quoted: bool) -> None:
        """Add what stands for a variable; None is nothing at all."""
        if values is None:
            self._was_nothing = True
            return
        pieces = list(values) if is_quoted else [p for v in values for p in _split(v)]
        for number, piece in enumerate(pieces):
            if number:
                self._before += [self.text] if self._is_there else []
                self.text, self._is_there = "", False
            if piece or is_quoted:
                self.add(piece)

    def open(self) -> None:
        """Begin a quote."""
        self._was_nothing, self._has_quotes = False, True

    def close(self) -> None:
        """End a quote: what was in it is a word, though it may be empty."""
        self._is_there = self._is_there or not self._was_nothing

    def fields(self) -> list[str]:
        """Return what became of it."""
        nothing = not self._is_there or (self.text == UNSET and not self._has_quotes)
        return self._before if nothing else [*self._before, self.text]


def _split(value: str) -> list[str]:
    """Split what stands without quotes; one that begins or ends in blanks is parted from what is beside it."""
    words = value.split()
    return [*([""] if words and value[:1].isspace() else []), *words, *([""] if words and value[-1:].isspace() else [])]


def _in_brackets(text: str, start: int, pair: str = "()") -> str:
    """Return what stands within the brackets that open at `start`; those within quotes do not count.

    Raises:
        Untold: they do not end.
    """
    depth, at, quote = 0, start, ""
    while at < len(text):
        char = text[at]
        if char == "\\" and quote != "'":
            at += 1
        elif quote:
            quote = "" if char == quote else quote
        elif char in "'\"":
            quote = char
        else:
            depth += (char == pair[0]) - (char == pair[1])
            if not depth:
                return text[start + 1:at]
        at += 1
    raise Untold(f"a {'brace' if pair == '{}' else 'bracket'} in it does not end")
