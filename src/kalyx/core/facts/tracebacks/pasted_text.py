"""Texts as people paste them: with what logs, mails and containers write before each line."""

from __future__ import annotations

import json
import re

__all__ = ["text_of_notebook", "without_prefixes"]

_BEGINS = "Traceback (most recent call last)"
_OF_GROUPS = re.compile(r"(?<![ |+-])[ |+-]*(?:Exception Group )?$")  # what Python itself writes before it
# The exception's name, which notebooks write there
_OF_NOTEBOOKS = re.compile(r"(?<!\S)\S*(?:Error|Exception|Exit|Interrupt|Warning|Group)(?:\x1b\[[\d;]*m)?\s+$")


MOST_LINE = 4000   # characters of a line: of more, its beginning and its end
MOST_BEFORE = 200  # characters before each line of a log


def _short(line: str) -> str:
    half = MOST_LINE // 2
    return line if len(line) <= MOST_LINE else f"{line[:half]} ... {line[-half:]}"


def text_of_notebook(text: str) -> str:
    """Return the last error that the cells of a notebook show (``traceback`` of an ``error`` output)."""
    try:
        cells = json.loads(text)["cells"]
        errors = [out["traceback"] for cell in cells for out in cell.get("outputs", ())
                  if out.get("output_type") == "error"]
        return "\n".join(errors[-1]) if errors else ""
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return ""


def without_prefixes(text: str) -> str:
    """Take away what stands before each line: a time, a level, a container's name, a mail's ``>``.

    What stands before its first line tells what to look for; numbers may differ from line to line.
    """
    lines = [_short(line) for line in text.split("\n")]
    text = "\n".join(lines)
    for line in lines:
        before, found, _ = line.partition(_BEGINS)
        before = before.removesuffix("  + Exception Group ")
        if found and len(before) <= MOST_BEFORE and not _OF_GROUPS.match(before) and not _OF_NOTEBOOKS.match(before):
            return _stripped(lines, before)
    return text


def _stripped(lines: list[str], before: str) -> str:
    words = [re.sub(r"\d+", r"\\d+", re.escape(word)) for word in before.split()]
    form = re.compile(r"\s*" + r"\s+".join(words) + r"\s?")
    return "\n".join(form.sub("", line, count=1) if form.match(line) else line for line in lines)
