"""Hides what nobody else is to read: names and passwords in addresses, and what is called a secret."""

from __future__ import annotations

import re
from functools import cache

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

__all__ = ["MASK", "is_secret_name", "masked", "masked_addresses", "masked_code", "masked_document"]

MASK = "***"
# A path that was made of an address has a slash less. Who asks a host for a repository, and variables, tell nothing
_ADDRESS = re.compile(r"(?<=[A-Za-z0-9]{2}:/)(/?)(?!(?:git|hg|(?:\$\{\w{1,99}\}:)?\$\{\w{1,99}\})@)"
                      r"[^/\s@\"'<>]{1,400}@")
_CHANNEL = re.compile(r"(://[^/\s\"'<>]{1,400}/t/)[^/\s\"'<>]{1,400}")  # a token as a part of a channel's address
_SECRET = (r"[\w-]{0,60}(?:token|passw(?:or)?d|passphrase|secret|credentials?|"
           r"(?:api|access|private|secret|auth|account|signing|ssh|encryption)[_-]?key)")
# A secret's name, a sign and its value; an option with its value; a bare ``key`` with what no line of code says
_NAMED = (rf"(?i)(?<![\w-])(?:(?P<named>{_SECRET}[\"']?\s{{0,3}}[=:]\s{{0,3}}|--{_SECRET}[= ])"
          r"(?P<value>\"[^\"\n]{0,400}\"|'[^'\n]{0,400}'|[^\s\"',;&)\]}]+)|"
          r"(?P<key>[\w-]{0,60}key=)(?=[A-Za-z0-9+/_-]{0,200}[0-9])[A-Za-z0-9+/=_-]{8,400})")
# The same where it is a text in code: what an expression makes is not known, and left as it is
_NAMED_TEXT = (rf"(?i)(?<![\w-])(?P<named>{_SECRET}[\"']?\s{{0,3}}[=:]\s{{0,3}})"
               r"(?P<value>\"[^\"\n]{0,400}\"|'[^'\n]{0,400}')")
_NAME = rf"(?i){_SECRET}s?"
_expression = cache(re.compile)  # these take milliseconds, and most answers have nothing that could be a secret
_WORDS = ("token", "passw", "secret", "key", "passphrase", "credential")


def masked(text: str) -> str:
    """Return a text in which such values are three asterisks; their names stay, so that one sees what it was."""
    text = masked_addresses(text)
    return _expression(_NAMED).sub(_hidden, text) if _may_name(text) else text


def masked_code(text: str) -> str:
    """Return code in which such values are three asterisks, and which is still code."""
    text = masked_addresses(text)
    return _expression(_NAMED_TEXT).sub(_hidden, text) if _may_name(text) else text


def masked_addresses(text: str) -> str:
    """Return a text in which the names and passwords in addresses are three asterisks."""
    if ":/" not in text:
        return text
    text = _ADDRESS.sub(rf"\1{MASK}@", text)
    return _CHANNEL.sub(rf"\1{MASK}", text) if "/t/" in text else text


def _may_name(text: str) -> bool:
    low = text.lower()
    return any(word in low for word in _WORDS)


def _hidden(match: re.Match[str]) -> str:
    value = match["value"] or ""
    quote = value[:1] if value[:1] in ("'", '"') else ""
    return f"{match['named'] or match.groupdict().get('key')}{quote}{MASK}{quote}"


def is_secret_name(name: str) -> bool:
    """Whether what has this name is a secret, by its name."""
    return _expression(_NAME).fullmatch(name) is not None


def masked_document(value: Any) -> Any:
    """Return what JSON holds with every text in it masked, and every text whose key is a secret's name."""
    if isinstance(value, str):
        return masked(value)
    if isinstance(value, list):
        return [masked_document(item) for item in value]
    if isinstance(value, dict):
        return {masked_addresses(str(key)): MASK if isinstance(item, str) and item and is_secret_name(str(key))
                else masked_document(item) for key, item in value.items()}
    return value
