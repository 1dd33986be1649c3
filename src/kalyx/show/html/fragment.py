"""A page as a piece of HTML that stands in somebody else's page: no style sheet, no script, its colours its own."""

from __future__ import annotations

import os

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence
    from typing import Any

    from kalyx.show.page import Line, Page

__all__ = ["fragment"]

FOLDER = os.path.dirname(os.path.abspath(__file__))


def fragment(pages: Sequence[Page]) -> str:
    """Return pages as HTML, one after the other; everything in them is escaped.

    The colours are read on light and on dark; letters have the colour of the page around them.
    """
    from jinja2 import Environment, FileSystemLoader, StrictUndefined

    environment = Environment(loader=FileSystemLoader(FOLDER), autoescape=True, undefined=StrictUndefined,
                              trim_blocks=True, lstrip_blocks=True)
    template = environment.get_template("fragment.html")
    return "".join(template.render(status=_status(page), rows=[_row(line) for line in page.lines])
                   for page in pages)


def _status(page: Page) -> str:
    titles = [line.role.removeprefix("title-") for line in page.lines if line.role.startswith("title-")]
    return next((s for s in titles if s in ("problem", "ok")), "unknown")


def _row(line: Line) -> dict[str, Any]:
    """Return a line as the template wants it: sentences in the letters of the page, what is copied in fixed ones."""
    is_title = line.role.startswith("title-")
    return {"text": line.text, "tail": line.tail, "lead": line.lead.rstrip(), "lead_role": line.lead_role[5:]
            if line.lead_role.startswith("mark-") else line.lead_role, "indent": line.indent, "hang": len(line.lead),
            "mono": not line.wrap, "bold": is_title or line.role == "part", "role": line.role,
            "soft": line.role in ("quiet", "path")}
