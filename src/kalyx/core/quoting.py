"""Quotes words for the shell that they are typed into."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

__all__ = ["join_words", "name_of_shell", "quote_word"]

# A word of these is the same in every shell
_PLAIN = frozenset("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789/-_.@%+=:,")
_NU = {"\\": "\\\\", '"': '\\"', "\n": "\\n", "\t": "\\t", "\r": "\\r"}
_QUOTES_OF_POWERSHELL = "'\u2018\u2019\u201a\u201b"  # the typographic ones end a text in quotes, too
_PLAIN_ON_WINDOWS = (_PLAIN | frozenset("\\~")) - frozenset("%,")  # a comma divides words there


def name_of_shell(platform: str, env: Mapping[str, str]) -> str:
    """Return which kind of shell started us: cmd, powershell, fish, csh, or one that reads as sh does."""
    if platform == "win32":  # both set PSModulePath; only the older one has a PROMPT
        return "powershell" if "PSModulePath" in env and "PROMPT" not in env else "cmd"
    name = (env.get("SHELL") or "sh").rsplit("/", 1)[-1]
    return {"tcsh": "csh"}.get(name, name)


def join_words(words: Sequence[str], shell: str) -> str:
    """Return a command line. In PowerShell a program that has to be quoted is called by ``&``."""
    line = " ".join(quote_word(word, shell) for word in words)
    return f"& {line}" if shell == "powershell" and line[:1] in "'\"" else line


def quote_word(word: str, shell: str, *, always: bool = False) -> str:
    """Return a word so that the shell takes it as it is.

    `always` puts quotes also where none are needed. cmd has no sign that
    keeps a percent sign or a line break as it is: there the word is quoted as
    far as that goes.
    """
    if shell == "xonsh":
        return repr(word)
    if shell == "nu":
        return '"' + "".join(_NU.get(c, c) for c in word) + '"'
    if shell in ("powershell", "cmd"):
        if word and not always and _PLAIN_ON_WINDOWS.issuperset(word):
            return word
        if shell == "powershell":
            return "'" + "".join(c + c if c in _QUOTES_OF_POWERSHELL else c for c in word) + "'"
        return '"' + word.replace('"', '""') + '"'
    if word and not always and _PLAIN.issuperset(word):
        return word
    if not word.isprintable() and shell not in ("csh", "fish"):
        return "$'" + "".join(map(_escaped, word)) + "'"
    if shell == "fish":
        return "'" + word.replace("\\", "\\\\").replace("'", "\\'") + "'"
    quoted = "'" + word.replace("'", "'\"'\"'") + "'"
    return quoted.replace("!", "'\\!'").replace("\n", "\\\n") if shell == "csh" else quoted


def _escaped(char: str) -> str:
    """Write a character as ``$'...'`` takes it: what cannot be seen by its bytes."""
    if char in "\\'":
        return "\\" + char
    if char.isprintable():
        return char
    return "".join(f"\\{byte:03o}" for byte in char.encode("utf-8", "surrogateescape"))
