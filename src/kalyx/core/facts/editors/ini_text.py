"""INI as text: what it says, where each value stands, one written anew; all else stays to the byte."""

from __future__ import annotations

import configparser
import re

__all__ = ["LONGEST_LINE", "IniText"]

LONGEST_LINE = 8192  # characters of a line that may hold a path or a command
_OPTION = re.compile(r"[^:=\s][^:=]{0,200}")


class IniText:
    """A text of INI, read as the standard library does; of what stands twice, the last counts."""

    def __init__(self, text: str) -> None:
        """Read it.

        Raises:
            ValueError: it is no INI; the message says where.
        """
        self.text = text
        self._parser = configparser.RawConfigParser(strict=False, allow_no_value=True)
        try:
            # no path is longer, and what takes a line apart there takes very long for a long one
            self._parser.read_string("\n".join(line if len(line) < LONGEST_LINE else "" for line in text.splitlines()))
        except (configparser.Error, ValueError, TypeError, AttributeError) as error:
            raise ValueError(f"it is not INI: {(str(error).splitlines() or ['?'])[0]}") from None

    def value(self, section: str, name: str) -> str:
        """Return a value without blanks and quotes around it; empty where there is none."""
        value = self._parser.get(section, name, fallback="") if self._parser.has_section(section) else ""
        return (value or "").strip().strip("'\"")

    def place(self, section: str, name: str) -> tuple[int, int] | None:
        """Return where a value begins and ends, the indented lines that go on with it too; None if it is not there."""
        found = None
        for start, line, within in self._lines():
            option = _OPTION.match(line)
            if within == section and option is not None and option[0].strip().lower() == name.lower():
                rest = line[option.end():]
                value = rest[1:].lstrip(" \t")  # behind the first sign
                begin = len(rest) - len(value)
                found = start + option.end() + begin, start + len(line.rstrip())
        return (found[0], self._whole(found[1])) if found is not None else None

    def _whole(self, end: int) -> int:
        """Return where a value ends that may go on in indented lines."""
        place = end
        while (begin := self.text.find("\n", place) + 1) > 0:
            line = self.text[begin:].split("\n", 1)[0]
            if line.strip() and line[:1] not in (" ", "\t"):
                break
            place = begin + len(line)
            end = begin + len(line.rstrip()) if line.strip() else end  # an empty line in between belongs to it
        return end

    def line(self, section: str, name: str) -> int | None:
        """Return the line that a value stands on, from one."""
        place = self.place(section, name)
        return self.text.count("\n", 0, place[0]) + 1 if place is not None else None

    def with_value(self, value: str, section: str, name: str) -> str:
        """Return the text with another value there, or with what was missing."""
        text, place = self.text, self.place(section, name)
        if place is not None:
            before = "" if text[place[0] - 1:place[0]] != "=" or " = " not in text else " "
            return text[:place[0]] + before + value + text[place[1]:]
        end = "\r\n" if "\r\n" in text else "\n"
        equals = "=" if "=" in text and " = " not in text else " = "
        row = f"{name}{equals}{value}{end}"
        last = max((start + len(line) for start, line, within in self._lines() if within == section and line.strip()),
                   default=None)
        if last is None:
            gap = "" if not text else (end if text.endswith("\n") else end * 2)
            return f"{text}{gap}[{section}]{end}{row}"
        last = self._whole(last)
        return f"{text[:last]}{end}{row.removesuffix(end)}{text[last:]}"

    def _lines(self) -> list[tuple[int, str, str | None]]:
        """Return each line that is no comment and goes on with nothing: where it starts, its text, its section."""
        found: list[tuple[int, str, str | None]] = []
        start, section = 0, None
        for whole in self.text.split("\n"):
            line = whole.rstrip("\r")
            header = self._parser.SECTCRE.match(line) if len(line) < LONGEST_LINE else None
            if header is not None:
                section = header["header"]
            if line[:1] not in ("#", ";", " ", "\t") and (line.strip() or not found):
                found.append((start, line, section))
            start += len(whole) + 1
        return found
