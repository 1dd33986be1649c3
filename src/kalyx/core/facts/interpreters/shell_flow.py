"""Which commands of a shell's text are run: conditions, choices, groups, definitions of functions.

A part of which it is not known whether it is run may hold only what changes nothing. Loops are not followed.
"""

from __future__ import annotations

import re

from kalyx.core.facts.interpreters.shell_words import MARKED, UNSET, Command, Untold, shown

__all__ = ["HARMLESS", "Flow"]

# What starts nothing, and changes nothing that matters for what is started
HARMLESS = {":", "true", "echo", "printf", "umask", "ulimit", "trap", "hash", "wait", "pwd", "type", "mkdir", "sleep",
            "date", "touch", "cat", "ls", "rm", "hostname", "logger", "chmod", "cp", "mv", "ln", "tee", "uname", "id",
            "whoami", "nvidia-smi", "alias", "unalias", "getopts", "kill", "let", "mesg", "stty", "tput", "clear"}
_TESTS = {"[", "[[", "test", "false"}
_ENDS = {"exit", "return"}
_LOOPS = {"for": "done", "while": "done", "until": "done", "select": "done"}
_CLOSES = {**_LOOPS, "case": "esac", "if": "fi", "{": "}"}
_RUNS_MAYBE = "what it starts depends on conditions ({})"


class _Block:
    """A part of the text: whether it is run (on, off, done with all that may follow, maybe), and what ends it.

    ``if`` is the state of a condition that is being read. A ``choice`` is the word that is compared with patterns
    (None: it is not known); ``function`` the name of what is defined, and ``does`` what it would do.
    """

    def __init__(self, state: str, closes: str, function: str = "") -> None:
        self.state, self.closes, self.function = state, closes, function
        self.does = "nothing"
        self.choice: str | None = None
        self.patterns: list[str] | None = None  # while they are read


class Flow:
    """Goes through commands, and says which of them are run; ``status`` is whether the last one succeeded."""

    def __init__(self) -> None:
        self.status: bool | None = True
        self.functions: dict[str, str] = {}  # what those that are defined do: nothing, end the text, other
        self._blocks: list[_Block] = []
        self._defining = ""

    def take(self, command: Command) -> list[str]:
        """Return what of a command is run: its words without reserved ones; empty for nothing.

        Raises:
            Untold: whether it is run is not known, and it matters.
        """
        if self._is_of_choice(command) or self._is_of_definition(command):
            return []
        words, before = list(command.words), command.before
        while words:
            word, block = words[0], self._blocks[-1] if self._blocks else None
            if block is not None and word == block.closes and (word != "}" or len(words) == 1):
                self._close()
                return []
            if word in _CLOSES:
                words = self._open(word, words[1:], before)
            elif word in ("then", "elif", "else") and block is not None and block.closes == "fi":
                self._turn(block, word)
                words = words[1:]
            elif word == "do":
                words = words[1:]
            else:
                break
            before = ""
        if not words or self._is_off(words):
            return []
        if command.before == "operator":
            raise Untold("it does more than start one program")
        return words if self._is_reached(words, before) else []

    def _is_reached(self, words: list[str], before: str) -> bool:
        """Whether a command is run that nothing around it keeps from that."""
        follows = self._follows(before)
        if any(b.state == "maybe" for b in self._blocks) or follows is None:
            name = words[1] if words[0] == "!" and len(words) > 1 else words[0]
            # where it may end, it starts what is read, or nothing
            if name not in HARMLESS | _TESTS | _ENDS and self.functions.get(name) not in ("nothing", "end"):
                raise Untold(_RUNS_MAYBE.format(shown(name.partition("=")[0])))  # no value: it may be a secret
            self.status = None
            return False
        return follows

    def _follows(self, operator: str) -> bool | None:
        """Whether what stands behind an operator is run; None where that is not known."""
        if operator not in ("&&", "||"):
            return True
        return None if self.status is None else self.status == (operator == "&&")

    def _is_off(self, words: list[str]) -> bool:
        """Whether nothing is run here; of what a function would do, it is noted whether it matters."""
        function = next((b for b in self._blocks if b.function), None)
        if function is not None and words[0] not in HARMLESS | _TESTS and "=" not in words[0]:
            ends = words[0] in _ENDS and function.does != "other"
            function.does = "end" if ends else "other"
        elif function is not None and "=" in words[0]:
            function.does = "other"
        return any(b.state in ("off", "done") for b in self._blocks)

    # -- parts ----------------------------------------------------------------------------------------
    def _open(self, word: str, rest: list[str], before: str) -> list[str]:
        """Begin a part; return the words behind what begins it."""
        follows = self._follows(before)
        if self._is_in_what_is_not_run() or follows is False:
            state = "done"
        elif word in _LOOPS:
            raise Untold(_RUNS_MAYBE.format(word))
        elif follows is None or any(b.state == "maybe" for b in self._blocks):
            state = "maybe"
        else:
            state = "if" if word == "if" else "off" if word == "case" else "on"
        block = _Block(state, _CLOSES[word])
        self._blocks.append(block)
        if word != "case":
            return rest
        subject = rest[0] if rest else MARKED
        block.choice = None if MARKED in subject or "$@" in subject else subject.replace(UNSET, "")
        block.patterns = rest[2:]
        return []

    def _is_in_what_is_not_run(self) -> bool:
        return any(b.state in ("off", "done") for b in self._blocks)

    def _turn(self, block: _Block, word: str) -> None:
        """Go on to another part of an ``if``."""
        if block.state == "if":  # behind the condition
            block.state = "maybe" if self.status is None else "on" if self.status else "off"
        elif block.state == "on":
            block.state = "done"
        elif block.state == "off":
            block.state = "on" if word == "else" else "if"

    def _close(self) -> None:
        block = self._blocks.pop()
        if block.function:
            self.functions[block.function] = block.does
        elif block.state in ("off", "maybe") and block.closes != "}":
            self.status = True

    # -- choices ----------------------------------------------------------------------------------------
    def _is_of_choice(self, command: Command) -> bool:
        """Whether a command is a pattern of a ``case``, or what stands between two of its parts."""
        block = self._blocks[-1] if self._blocks else None
        if block is None or block.closes != "esac":
            return False
        words, is_operator = command.words, command.before == "operator"
        if block.patterns is None:
            if is_operator and words[0] in (";;", ";&"):
                block.state = "done" if block.state == "on" else block.state
                block.patterns = []
                return True
            return False
        if is_operator and words[0] == ")":
            if block.state == "off":
                told = _is_among(block.choice, block.patterns)
                block.state = "maybe" if told is None else "on" if told else "off"
            block.patterns = None
        elif not is_operator and words[0] == "esac":
            return False
        elif not is_operator:
            block.patterns += words
        return True

    # -- functions ---------------------------------------------------------------------------------------
    def _is_of_definition(self, command: Command) -> bool:
        """Whether a command begins the definition of a function."""
        words = command.words
        if self._defining:
            if command.before == "operator" and words[0] in ("(", ")"):
                return True
            name, self._defining = self._defining, ""
            if words[0] != "{":
                raise Untold("it defines a function that cannot be followed")
            self._blocks.append(_Block("done", "}", name))
            inner = list(words[1:])
            if inner:
                self._is_off(inner)
            return True
        if words[0] == "function" and len(words) > 1:
            self._defining = words[1]
            return len(words) == 2 or self._is_of_definition(
                Command(tuple(words[2:]), command.line, command.before, command.behind))
        if len(words) == 1 and command.behind == "(" and command.before != "operator" and \
                re.fullmatch(r"[A-Za-z_][\w-]{0,99}", words[0]):
            self._defining = words[0]
            return True
        return False


def _is_among(word: str | None, patterns: list[str]) -> bool | None:
    """Whether a word matches one of some patterns; None where that is not known."""
    if word is None or any("[" in p for p in patterns):
        return True if any(p == f"{MARKED}*" for p in patterns) else None
    found = False
    for pattern in patterns:
        parts = re.split(f"({MARKED}[*?])", pattern)
        if any(MARKED in p for p in parts[::2]):
            return None
        shapes = {f"{MARKED}*": ".*", f"{MARKED}?": "."}
        found = found or re.fullmatch("".join(shapes.get(p) or re.escape(p.replace(UNSET, "")) for p in parts), word,
                                      re.DOTALL) is not None
    return found
