"""The code of a script or notebook as text: decoded as Python does, a notebook's cell by cell."""

from __future__ import annotations

import json
import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.source_code.cell_magics import files_run, python_of

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator
    from typing import Any

    from kalyx.core.facts.files import Files

__all__ = ["file_run", "place_in_notebook", "read_pieces", "run_from"]

SOURCE_LIMIT = 8 * 1024 * 1024      # bytes of a script
NOTEBOOK_LIMIT = 256 * 1024 * 1024  # bytes of a notebook; outputs make them large
_LIKE_PYTHON = ("", "sage", "pyspark")


def read_pieces(files: Files, path: str) -> tuple[list[tuple[int | None, str]], str]:
    """Return a script's text, or the code cells of a notebook with their numbers from 1; or why there is none.

    The second is empty where the first is to be had. Magics and shell lines are taken out.
    """
    is_notebook = path.endswith(".ipynb")
    limit = NOTEBOOK_LIMIT if is_notebook else SOURCE_LIMIT
    info = files.stat(path) if is_notebook else None  # of a script a part is soon read
    try:
        data = files.read_bytes(path, limit + 1) if info is None or info.size <= limit else None
    except Unreadable as error:
        return [], error.reason
    if data is None or len(data) > limit:
        return [], f"it is larger than {limit // (1024 * 1024)} MB"
    if is_notebook:
        return _cells_of(data)
    text, trouble = _decoded(data)
    return ([], trouble) if trouble else ([(None, text)], "")


def _cells_of(data: bytes) -> tuple[list[tuple[int | None, str]], str]:
    try:
        content = json.loads(data.decode("utf-8-sig"))
        language = _language_of(content)
        if language:
            return [], f"its cells are {language}, and no Python"
        cells = content["cells"] if "cells" in content else content["worksheets"][0]["cells"]
        code = [c for c in cells if c.get("cell_type") == "code"]
        texts = [s if isinstance(s := c.get("source", c.get("input", "")), str) else "".join(s)
                 for c in code]
    except RecursionError:
        return [], "it is nested too deeply to be read"
    except (ValueError, KeyError, TypeError, AttributeError, IndexError) as error:
        return [], f"it is not a notebook that can be read: {error}"
    return [(n, python_of(t)) for n, t in enumerate(texts, 1)], ""


def _language_of(content: Any) -> str:
    """Return the language of a notebook's cells where it says that it is another than Python."""
    metadata = content.get("metadata") if isinstance(content, dict) else None
    said = [part.get(key) for name, key in (("language_info", "name"), ("kernelspec", "language"))
            if isinstance(metadata, dict) and isinstance(part := metadata.get(name), dict)]
    first = next((s for s in said if isinstance(s, str) and s), "")
    return "" if "python" in first.lower() or first.lower() in _LIKE_PYTHON else first


def _decoded(data: bytes) -> tuple[str, str]:
    """Decode source as Python does (PEP 263); return the text, or why it cannot be."""
    try:
        text = data.decode(_encoding_of(data))
        return text.replace("\r\n", "\n").replace("\r", "\n") if "\r" in text else text, ""
    except (SyntaxError, UnicodeDecodeError, LookupError) as error:
        return "", f"it cannot be decoded: {error}"


def _encoding_of(data: bytes) -> str:
    """Return the encoding that source has by its mark or one of its first two lines.

    Raises:
        SyntaxError: it names none that there is, or another one than its mark is for.
    """
    second_end = data.find(b"\n", data.find(b"\n") + 1)
    if not data.startswith(b"\xef\xbb\xbf") and data.find(b"coding", 0, second_end if second_end > 0 else None) < 0:
        return "utf-8"
    import io
    import tokenize

    return tokenize.detect_encoding(io.BytesIO(data).readline)[0]


def run_from(files: Files, notebook: str) -> list[str]:
    """Return the files that are there and that a notebook's magics run; none where it cannot be read."""
    m, found = files, []
    for _, text in read_pieces(files, notebook)[0]:
        for said in files_run(text):
            found += file_run(m, notebook, said)
    return found


def file_run(files: Files, notebook: str, said: str) -> list[str]:
    """Return the file that a magic means by what it says; nothing where there is none."""
    m = files
    whole = m.path.join(m.path.dirname(notebook), said)
    return [str(m.path.normpath(p)) for p in (whole, f"{whole}.py", f"{whole}.ipynb") if m.is_file(p)][:1]


# -- where a line stands in the file -----------------------------------------------------------
def place_in_notebook(text: str, cell: int, line: int) -> tuple[int, int] | None:
    """Return where a line of a code cell stands in a notebook's file, both counted from 1: start and end.

    It is the line as JSON writes it, without quotes and without what ends it. None where there is no such line,
    or the file is no JSON.
    """
    try:
        content = json.loads(text)
        cells = content["cells"] if "cells" in content else content["worksheets"][0]["cells"]
        numbers = [n for n, c in enumerate(cells) if c.get("cell_type") == "code"]
        number = numbers[cell - 1]
    except (ValueError, KeyError, TypeError, AttributeError, IndexError, RecursionError):
        return None
    before = ("cells",) if "cells" in content else ("worksheets", 0, "cells")
    strings = [(start, end) for path, start, end in _strings_of(text)
               if path[:len(before) + 1] == (*before, number) and path[len(before) + 1:len(before) + 2] in (
                   ("source",), ("input",))]
    at = 1
    for start, end in strings:
        for piece in re.finditer(r"(?:[^\\]|\\[^n])+|\\n", text[start:end]):
            if piece.group() == "\\n":
                at += 1
            elif at == line:
                return start + piece.start(), start + piece.end()
    return None


def _strings_of(text: str) -> Iterator[tuple[tuple[str | int, ...], int, int]]:
    """Yield the strings that are values in a JSON text: the keys and numbers that lead there, start and end."""
    path: list[str | int] = []
    key, is_key = "", False
    for token in re.finditer(r'"(?:[^"\\]|\\.)*"|[\[\]{},:]', text):
        sign = token.group()
        if sign in "{[":
            path.append(0 if sign == "[" else "")
            is_key = sign == "{"
        elif sign in "}]":
            path.pop()
            is_key = False
        elif sign == ",":
            if isinstance(path[-1], int):
                path[-1] += 1
            is_key = path[-1:] != [] and isinstance(path[-1], str)
        elif sign == ":":
            path[-1], is_key = key, False
        elif is_key:
            key = str(json.loads(sign))
        else:
            yield tuple(path), token.start() + 1, token.end() - 1
