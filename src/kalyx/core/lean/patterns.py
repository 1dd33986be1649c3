"""Regular expressions that are compiled when first used: most runs use few of those that modules define."""

from __future__ import annotations

import re

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

__all__ = ["pattern"]

if TYPE_CHECKING:
    pattern = re.compile
else:
    class pattern:  # noqa: N801 - it stands for a function
        """Behaves as the compiled expression does, and is compiled at the first use."""

        def __init__(self, text: str, flags: int = 0) -> None:
            self._text = text
            self._flags = flags

        def __getattr__(self, name: str) -> Any:
            compiled = re.compile(self._text, self._flags)
            for method in ("search", "match", "fullmatch", "findall", "finditer", "sub", "split"):
                setattr(self, method, getattr(compiled, method))
            return getattr(compiled, name)
