"""TOML as text: what it holds, where a value stands, one written anew; all else stays to the byte."""

from __future__ import annotations

from kalyx.core.toml import load_toml

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

__all__ = ["TomlText"]

LARGEST = 200_000  # characters that are taken apart for a place: what does that takes seconds for more


class TomlText:
    """A text of TOML. ``content`` is what it holds."""

    def __init__(self, text: str) -> None:
        """Read it.

        Raises:
            ValueError: it is no TOML; the message says where.
        """
        self.text = text
        self.content = load_toml(text)

    def line(self, *path: str) -> int | None:
        """Return the line that a value stands on, from one; None where there is none, or the text is too long."""
        table: Any = self.content
        for key in path:
            table = table.get(key) if isinstance(table, dict) else None
        if not isinstance(table, str):
            return None
        try:
            changed = self.with_value(f"{table}.", *path)
        except ValueError:
            return None
        return next((n for n, (a, b) in enumerate(zip(self.text.split("\n"), changed.split("\n"), strict=False), 1)
                     if a != b), None)

    def with_value(self, value: str, *path: str) -> str:
        """Return the text with another value there, or with what was missing.

        Raises:
            ValueError: it is too long to be written, or something else stands where a table has to.
        """
        if len(self.text) > LARGEST:
            raise ValueError("it is too long")
        import tomlkit
        from tomlkit.exceptions import TOMLKitError

        plain = self.text.replace("\r\n", "\n")
        try:
            document: Any = tomlkit.parse(plain)
            table = document
            for depth, key in enumerate(path[:-1]):
                if key not in table:
                    table[key] = tomlkit.table(is_super_table=depth < len(path) - 2)
                table = table[key]
            table[path[-1]] = value
            changed = tomlkit.dumps(document)
        except (TOMLKitError, TypeError, AttributeError, RecursionError) as error:
            raise ValueError(f"it cannot be written: {error}") from None
        return _carried(self.text, plain, changed)


def _carried(text: str, before: str, after: str) -> str:
    """Return a text with the change that its form with plain line ends got: the lines that differ."""
    if before == text:
        return after
    old, new, kept = before.split("\n"), after.split("\n"), text.split("\n")
    first = next((n for n, (a, b) in enumerate(zip(old, new, strict=False)) if a != b), min(len(old), len(new)))
    last = 0
    while last < min(len(old), len(new)) - first and old[-1 - last] == new[-1 - last]:
        last += 1
    changed = [f"{line}\r" for line in new[first:len(new) - last]]
    return "\n".join([*kept[:first], *changed, *kept[len(old) - last:]])
