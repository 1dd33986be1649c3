"""Reads the tables, each once."""

from __future__ import annotations

import os
from functools import cache

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

__all__ = ["load"]


@cache
def load(name: str) -> dict[str, Any]:
    import json

    with open(os.path.join(os.path.dirname(__file__), name), encoding="utf-8") as file:
        loaded: dict[str, Any] = json.load(file)
    return loaded
