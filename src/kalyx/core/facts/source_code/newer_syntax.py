"""Syntax that only a newer Python reads."""

from __future__ import annotations

import re

from kalyx.core.model import version_pair

__all__ = ["newer_syntax"]

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
_NESTED = "f-string: "  # what Python before 3.12 says of quotes, backslashes and comments inside one


def newer_syntax(version: tuple[int, int], line: str, message: str) -> tuple[str, str] | None:
    """Return the version that brought a line's form, and its name; None when no newer form is seen in it."""
    if version < (3, 12) and message.startswith(_NESTED) and "{" in line and (
            "backslash" in message or "#" in message or "expecting '}'" in message):
        return "3.12", "an f-string with quotes, a backslash or a comment inside its braces"
    for since, form, name in _SYNTAX:
        if version_pair(since) > version and form.search(line):
            return since, name
    return None
