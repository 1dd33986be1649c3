"""TOML, read by the standard library, within limits."""

from __future__ import annotations

import re

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

__all__ = ["load_toml"]

MOST_PARTS = 100     # of a dotted key
_MANY_PARTS = re.compile(r"(?<![\w.\"'-])(?:[\w\"'-]{1,80}[ \t]*\.[ \t]*){100}")


def load_toml(text: str) -> dict[str, Any]:
    """Parse TOML.

    Raises:
        ValueError: it is not TOML; the message says where.
    """
    import sys

    if _MANY_PARTS.search(text):
        raise ValueError(f"it is not TOML that is read: a key has more than {MOST_PARTS} parts")
    if sys.version_info >= (3, 11):
        import tomllib
    else:
        import tomli as tomllib

    try:
        content: dict[str, Any] = tomllib.loads(text)
        return content
    except RecursionError:
        raise ValueError("it is nested too deeply") from None
    except ValueError as error:  # a number of thousands of digits is one, too
        raise ValueError(f"it is not TOML: {error}") from None
