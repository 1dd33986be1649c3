"""Prints a page: in colour on a terminal that wants it, as plain text everywhere else."""

from __future__ import annotations

import os
import sys

from kalyx.show.page import ASCII_MARKS

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import TextIO

    from kalyx.show.page import Line, Page

__all__ = ["Writer", "wants_color"]

# Middle tones that are read on dark and on light backgrounds.
STYLES = {
    "title-problem": "bold", "title-ok": "bold", "title-unknown": "bold", "title-note": "bold",
    "mark-problem": "bold color(166)", "mark-ok": "bold color(35)", "mark-unknown": "bold color(68)",
    "part": "bold color(68)", "lead": "color(68)", "path": "color(102)", "quiet": "color(102)",
    "command": "bold color(35)", "before": "color(166)", "after": "color(35)", "slug": "color(166)",
    "plain": "",
}
WIDEST = 110


def wants_color(choice: str, stream: TextIO) -> bool:
    """Decide on colour: the choice, then NO_COLOR, then whether it is a terminal."""
    if choice != "auto":
        return choice == "always"
    if os.environ.get("NO_COLOR"):
        return False
    return stream.isatty() and os.environ.get("TERM") != "dumb"


class Writer:
    """Lays a page out for one stream."""

    def __init__(self, stream: TextIO | None = None, color: str = "auto") -> None:
        self.stream = stream or sys.stdout
        self.color = wants_color(color, self.stream)
        self.columns, self.rows = 10_000, 0  # a pipe gets whole lines
        if self.stream.isatty():
            import shutil

            self.columns, self.rows = shutil.get_terminal_size((80, 24))
        self.unicode = self._can_print("◆◇◈…→│")

    def _can_print(self, text: str) -> bool:
        try:
            text.encode(getattr(self.stream, "encoding", None) or "ascii")
        except (UnicodeEncodeError, LookupError):
            return False
        return True

    def write(self, page: Page) -> None:
        """Print the page; what is longer than a screen has its title again at the end."""
        rows = [row for line in page.lines for row in self._rows(line)]
        if self.rows and len(rows) > self.rows - 2 and page.lines:
            rows += [(" ", [("", "plain")])] + [
                r for line in page.lines if line.role.startswith("title") for r in self._rows(line)]
        if self.color:
            self._write_styled(rows)
        else:
            for indent, parts in rows:
                self.stream.write((indent + "".join(t for t, _ in parts)).rstrip() + "\n")
        self.stream.flush()

    def _rows(self, line: Line) -> list[tuple[str, list[tuple[str, str]]]]:
        """Break a line into rows of (indent, [(text, role)])."""
        lead, text = self._fit(line.lead), self._fit(line.text)
        width = min(self.columns - 1, WIDEST) if self.columns < 10_000 else 10_000
        room = max(20, width - line.indent - len(lead))
        pieces = [text]
        if line.wrap and len(text) > room:
            import textwrap

            pieces = textwrap.wrap(text, room, break_long_words=False, break_on_hyphens=False) or [""]
        rows = []
        for number, piece in enumerate(pieces):
            head = lead if number == 0 else " " * len(lead)
            rows.append((" " * line.indent, [(head, line.lead_role), (piece, line.role)]))
        if line.tail:
            tail, hang = self._fit(line.tail), line.indent + (len(lead) or 4)
            if len(pieces[-1]) + 2 + len(tail) <= room:
                rows[-1][1].append((f"  {tail}", "path"))
            else:
                rows[-1] = (rows[-1][0], [*rows[-1][1][:-1], (pieces[-1].rstrip(), line.role)])
                rows.append((" " * hang, [(tail, "path")]))
        return rows

    def _fit(self, text: str) -> str:
        if not self.unicode:
            for sign, plain in ASCII_MARKS.items():
                text = text.replace(sign, plain)
            encoding = getattr(self.stream, "encoding", None) or "ascii"
            text = text.encode(encoding, "backslashreplace").decode(encoding)
        return text

    def _write_styled(self, rows: list[tuple[str, list[tuple[str, str]]]]) -> None:
        from rich.console import Console
        from rich.text import Text

        console = Console(file=self.stream, force_terminal=True, color_system="256",
                          highlight=False, markup=False, emoji=False, width=10_000)
        for indent, parts in rows:
            text = Text(indent, no_wrap=True)
            for piece, role in parts:
                text.append(piece, STYLES.get(role, ""))
            console.print(text, soft_wrap=True)
