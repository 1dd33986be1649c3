"""Syntax that only a newer Python reads, or only Python 2."""

from __future__ import annotations

import re

from kalyx.core.model import version_pair

__all__ = ["is_python2", "is_surely_python2", "newer_syntax"]

# Forms of syntax by the version that brought them, for a line that this Python cannot parse
_SYNTAX = (
    ("3.14", re.compile(r"(?<![\w'\"])[tT][rR]?['\"]"), "a template string"),
    ("3.12", re.compile(r"^\s*type\s+\w+\s*(\[.*\])?\s*="), "the type statement"),
    ("3.12", re.compile(r"^\s*((async\s+)?def|class)\s+\w+\s*\["), "type parameters"),
    ("3.11", re.compile(r"^\s*except\s*\*"), "except*"),
    ("3.10", re.compile(r"^\s*(match\s+.+|case\s+.+):\s*(#.*)?$"), "the match statement"),
    ("3.9", re.compile(r"^\s*(async\s+)?with\s*\("), "with in brackets"),
    ("3.8", re.compile(r":="), "the operator :="),
    ("3.8", re.compile(r"\bdef\s+\w+\(.*[(,]\s*/\s*[,)]"), "parameters by position only"),
    ("3.8", re.compile(r"[fF][rR]?(['\"]).*\{[^{}'\"]+=(![rsa])?(:[^{}]*)?\}"), "= in an f-string"),
    ("3.6", re.compile(r"(?<![\w'\"])[fF][rR]?['\"]"), "an f-string"),
    ("3.6", re.compile(r"^\s*[\w.]+\s*:\s*[\w.\[\], \"']+(=|$)"), "a variable with a type"),
    ("3.5", re.compile(r"^\s*async\s+(def|for|with)\b"), "async"),
)
# What Python before 3.12 says of what an f-string may have inside its braces since (PEP 701), and how the line looks
# then: the outer quote again, anything at all, or braces that go on in the next line
_NESTED = (
    (re.compile(r"f-string: (?:unmatched|expecting '}'|unterminated|invalid syntax)"),
     re.compile(r"(?<![\w'\"])[fF][rR]?(['\"]).*?\{[^{}]*\1[^{}]*\}")),
    (re.compile(r"f-string expression part cannot include"), re.compile(r"\{")),
    (re.compile(r"unterminated string literal|EOL while scanning string literal"),
     re.compile(r"(?<![\w'\"])[fF][rR]?['\"][^'\"{}]*\{\s*(?:[\w.]*[(\[,]\s*)?$")),
)
# Names that `from __future__` takes, by the version that brought them
_FUTURE = {"annotations": "3.7", "generator_stop": "3.5", "unicode_literals": "2.6", "print_function": "2.6"}
# Forms that Python 2 alone has: with such a line a syntax error needs no other explanation
_PYTHON2 = re.compile(r"^\s*(?:print\s+[\"'\w%(]|print\s*>>|exec\s+[\"'\w]|raise\s+[\w.]+\s*,|"
                      r"except\s+[\w.()\s,]+,\s*\w+\s*:)|"
                      r"\bur[\"']|`[^`]+`|<>|(?<![\w.])0[0-7]+\b|\b\d+L\b")
# Statements among them, and what Python 3 says of the others when it means Python 2
_PYTHON2_STATEMENT = re.compile(r"^\s*(?:print\s+[\"'\w%(]|exec\s+[\"'\w]|raise\s+[\w.]+\s*,|"
                                r"except\s+[\w.()\s,]+,\s*\w+\s*:)")
_PYTHON2_SAID = re.compile(r"Missing parentheses in call to '(?:print|exec)'|leading zeros in decimal|"
                           r"multiple exception types must be parenthesized")
_NO_FEATURE = re.compile(r"future feature (\w+) is not defined")


def newer_syntax(version: tuple[int, int], line: str, message: str) -> tuple[str, str] | None:
    """Return the version that brought a line's form, and its name; None when no newer form is seen in it."""
    if version < (3, 12) and any(says.match(message) and form.search(line) for says, form in _NESTED):
        return "3.12", "an f-string with quotes, a backslash, a comment or a new line inside its braces"
    feature = _NO_FEATURE.match(message)
    since = _FUTURE.get(feature[1], "") if feature else ""
    if feature and since and version_pair(since) > version:
        return since, f"from __future__ import {feature[1]}"
    for since, form, name in _SYNTAX:
        if version_pair(since) > version and form.search(line):
            return since, name
    return None


def is_python2(line: str) -> bool:
    """Whether a line that Python 3 cannot parse has a form that only Python 2 knows."""
    return _PYTHON2.search(line) is not None


def is_surely_python2(line: str, message: str) -> bool:
    """Whether that is so by what Python 3 says of it, or by the statement that it is: no text that is no code."""
    return _PYTHON2_STATEMENT.match(line) is not None or (
        _PYTHON2_SAID.match(message) is not None and is_python2(line))
