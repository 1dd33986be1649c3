"""The texts in a JSON document, comments and all: hidden where they stand, and everything else left as it is."""

from __future__ import annotations

import re

from kalyx.core.masks import MASK

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

__all__ = ["with_values"]

_TOKEN = re.compile(r"\"(?:[^\"\\\n]|\\.)*\"|//[^\n]*|/\*(?:[^*]|\*(?!/))*\*/|[{}\[\]:,]")


def with_values(text: str, stays: Callable[[Sequence[str]], bool]) -> str:
    """Return a document in which each text that does not stay is ``"***"``, and each comment empty.

    `stays` is told the keys that lead to it, the outermost first. Of what is no JSON at all, each text that no
    key leads to is judged by no keys.
    """
    out: list[str] = []
    open_keys: list[str | None] = []  # for each bracket that is open, the key of its value
    key, end = None, 0
    found = list(_TOKEN.finditer(text))
    for number, match in enumerate(found):
        token = match[0]
        out.append(text[end:match.start()])
        end = match.end()
        if token in ("{", "["):
            open_keys.append(key)
            key = None
        elif token in ("}", "]"):
            key = None
            del open_keys[-1:]
        elif token == ",":
            key = None
        elif token[0] == "/":
            token = "\n" * token.count("\n")
        elif token[0] == '"':
            if number + 1 < len(found) and found[number + 1][0] == ":":
                key = token[1:-1]
            elif not stays([k for k in (*open_keys, key) if k is not None]):
                token = f'"{MASK}"'
        out.append(token)
    return "".join([*out, text[end:]])
