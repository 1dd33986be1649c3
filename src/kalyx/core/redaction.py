"""Replaces what names a person or a machine: the home folder, the user, the host; the same word by the same one."""

from __future__ import annotations

import re

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

__all__ = ["Redactor"]

SHORTEST = 3  # letters of a name that is looked for in texts: a shorter one stands in many words


class Redactor:
    """Knows the names of one person and one machine."""

    def __init__(self, home: str, user: str, host: str, home_as: str = "~") -> None:
        """Take the home folder's path, the user's name and the host's name as they are; empty ones are left out.

        `home_as` is what stands for the home folder.
        """
        short = host.split(".")[0]
        self._whole = {word: put for word, put in ((host, "host"), (short, "host"), (user, "user")) if word}
        self._words: list[tuple[re.Pattern[str], str]] = []
        if len(home.rstrip("/\\")) > 1:
            self._add(re.escape(home.rstrip("/\\")), home_as, ends=r"(?![\w.-])")
        for name, put in ((host, "host"), (short, "host"), (user, "user")):
            if len(name) >= SHORTEST and name not in ("root", "localhost"):
                self._add(rf"(?<![A-Za-z0-9]){re.escape(name)}", put, ends=r"(?![A-Za-z0-9])")

    def _add(self, pattern: str, put: str, ends: str) -> None:
        self._words.append((re.compile(pattern + ends, re.IGNORECASE), put))

    def text(self, text: str) -> str:
        """Return a text without those names; a short one is found where it is all of the text."""
        if text in self._whole:
            return self._whole[text]
        for pattern, put in self._words:
            text = pattern.sub(put.replace("\\", r"\\"), text)
        return text

    def document(self, value: Any) -> Any:
        """Return what JSON holds, without those names in any of its texts, keys included."""
        if isinstance(value, str):
            return self.text(value)
        if isinstance(value, dict):
            return {self.text(str(k)): self.document(v) for k, v in value.items()}
        return [self.document(v) for v in value] if isinstance(value, list) else value
