"""XML as text: its elements with their attributes, where each value stands, one written anew."""

from __future__ import annotations

import re

from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

__all__ = ["Element", "XmlText"]


@record
class Element:
    """An element: its tag, its attributes, the character that its tag begins at, the tags around it."""

    tag: str
    attributes: Mapping[str, str]
    start: int
    above: tuple[int, ...] = ()


class XmlText:
    """A text of XML. ``elements`` are in the order of the text."""

    def __init__(self, text: str) -> None:
        """Read it.

        Raises:
            ValueError: it is no XML, or declares entities; the message says where.
        """
        from xml.parsers import expat

        if "<!ENTITY" in text:  # settings have no entities; a bomb has
            raise ValueError("it declares XML entities, which are not read")
        self.text = text
        self.elements: list[Element] = []
        data = text.encode("utf-8", "surrogatepass")
        is_ascii = len(data) == len(text)
        open_ones: list[int] = []
        parser = expat.ParserCreate("utf-8")

        def begin(tag: str, attributes: dict[str, str]) -> None:
            at = parser.CurrentByteIndex
            start = at if is_ascii else len(data[:at].decode("utf-8", "replace"))
            self.elements.append(Element(tag, attributes, start, tuple(open_ones[-4:])))
            open_ones.append(len(self.elements) - 1)

        parser.StartElementHandler = begin
        parser.EndElementHandler = lambda tag: open_ones.pop()
        try:
            parser.Parse(data, True)
        except (expat.ExpatError, ValueError) as error:
            raise ValueError(f"it is not XML: {error}") from None

    def place(self, element: int, name: str) -> tuple[int, int] | None:
        """Return where the value of an attribute begins and ends, between its quotes."""
        start = self.elements[element].start
        within = r"""(?:[^<>"']|"[^"<]*"|'[^'<]*')"""
        found = re.compile(rf"""<{within}*?\s{re.escape(name)}\s*=\s*("[^"<]*"|'[^'<]*')""").match(self.text, start)
        return (found.start(1) + 1, found.end(1) - 1) if found is not None else None

    def line(self, element: int, name: str) -> int | None:
        """Return the line that an attribute stands on, from one."""
        place = self.place(element, name)
        return self.text.count("\n", 0, place[0]) + 1 if place is not None else None

    def with_value(self, value: str, element: int, name: str) -> str:
        """Return the text with another value of an attribute, or with one more.

        Raises:
            ValueError: the element's tag is not as it should be.
        """
        from xml.sax.saxutils import escape

        value = escape(value, {'"': "&quot;", "'": "&apos;"})
        place = self.place(element, name)
        if place is not None:
            return self.text[:place[0]] + value + self.text[place[1]:]
        tag = re.compile(r"<[^\s<>/]+").match(self.text, self.elements[element].start)
        if tag is None:
            raise ValueError("its tag is not found")
        return f'{self.text[:tag.end()]} {name}="{value}"{self.text[tag.end():]}'
