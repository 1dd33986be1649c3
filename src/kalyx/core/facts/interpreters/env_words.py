"""What ``env`` is given before the program that it starts: its options, and the text that ``-S`` takes apart."""

from __future__ import annotations

from kalyx.core.facts.interpreters.shell_words import LONGEST_WORD, MOST_WORDS, Untold

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

__all__ = ["WouldRefuse", "env_options", "split_string"]

_SHORT_VALUED, _SHORT = "uCSa", "i0v"
_LONG = {"unset": "u", "chdir": "C", "split-string": "S", "argv0": "a", "ignore-environment": "i", "null": "0",
         "debug": "v", "block-signal": "", "default-signal": "", "ignore-signal": "", "list-signal-handling": ""}


class WouldRefuse(Untold):
    """A program in front would not take what it is given, and starts nothing."""


def env_options(word: str, words: list[str]) -> list[tuple[str, str]]:
    """Return the options in a word of ``env``'s, each with its value, which may be the next word.

    Raises:
        WouldRefuse: env would not take it.
    """
    if word == "-":
        return [("i", "")]
    if word.startswith("--"):
        name, equals, value = word[2:].partition("=")
        names = [n for n in _LONG if n == name] or [n for n in _LONG if n.startswith(name)]
        if len(names) != 1:
            raise WouldRefuse(f"env has no option {word}")
        letter = _LONG[names[0]]
        if letter in tuple(_SHORT_VALUED) and not equals:
            if not words:
                raise WouldRefuse(f"env's option {word} lacks its value")
            value = words.pop(0)
        return [(letter, value)]
    found: list[tuple[str, str]] = []
    for place, letter in enumerate(word[1:], 1):
        if letter in _SHORT_VALUED:
            if not word[place + 1:] and not words:
                raise WouldRefuse(f"env's option -{letter} lacks its value")
            return [*found, (letter, word[place + 1:] or words.pop(0))]
        if letter not in _SHORT:
            raise WouldRefuse(f"env has no option -{letter}" if letter.strip() else
                         "env gets all that stands behind it as one word; with -S it would take it apart")
        found.append((letter, ""))
    return found


_ESCAPES = {"f": "\f", "n": "\n", "r": "\r", "t": "\t", "v": "\v", "#": "#", "$": "$", '"': '"', "'": "'", "\\": "\\"}


def _fits(words: Sequence[str], word: str | None) -> bool:
    """Whether words and the one being read are of a command's size.

    Raises:
        Untold: they are not.
    """
    if len(word or "") > LONGEST_WORD or len(words) > MOST_WORDS:
        raise Untold("what env -S is given is too long")
    return True


def split_string(text: str, env: Mapping[str, str]) -> list[str]:
    """Split a text as ``env -S`` does: quotes, escapes, ``${NAME}``, and ``#`` at the start of a word.

    Raises:
        WouldRefuse: env would not take it.
    """
    words: list[str] = []
    word: str | None = None
    quote, at = "", 0
    while at < len(text) and _fits(words, word):
        char = text[at]
        at += 1
        if quote != "'" and char == "\\":
            following = text[at:at + 1]
            at += 1
            if following == "c" and not quote:
                break
            if following == "_":
                if not quote:
                    words, word = (words if word is None else [*words, word]), None
                else:
                    word = (word or "") + " "
            elif following in _ESCAPES:
                word = (word or "") + _ESCAPES[following]
            else:
                raise WouldRefuse(f"env -S does not know \\{following}")
        elif char == "\\" and text[at:at + 1] in ("'", "\\"):
            word, at = (word or "") + text[at], at + 1
        elif char in "\"'" and quote in ("", char):
            quote, word = ("" if quote else char), word or ""
        elif quote != "'" and char == "$":
            end = text.find("}", at)
            if text[at:at + 1] != "{" or end < 0:
                raise WouldRefuse("env -S takes ${NAME} only")
            value = env.get(text[at + 1:end])
            word = (word or "") + (value or "") if value is not None or word is not None else word
            at = end + 1
        elif not quote and char in " \t\n\v\f\r":
            words, word = (words if word is None else [*words, word]), None
        elif char == "#" and word is None and not quote:
            break
        else:
            word = (word or "") + char
    if quote:
        raise WouldRefuse("a quote in what env -S is given does not end")
    return words if word is None else [*words, word]
