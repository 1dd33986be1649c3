"""What is printed: whole paths, wrapped sentences, no control characters, plain where asked for."""

from __future__ import annotations

import html
import io
import re
import shlex
import subprocess

import pytest

from kalyx.core.model import Edit, Evidence, Finding, Remedy
from kalyx.show.html.fragment import fragment
from kalyx.show.page import Page, clean
from kalyx.show.parts import human_size
from kalyx.show.write import STYLES, Writer

LONG = "/home/ada/" + "a-very-long-folder-name/" * 6 + "python"
FINDING = Finding("some-cause", "error", "certain", "A sentence that is long enough to be wrapped at "
                  f"eighty columns, with {LONG} in it.",
                  (Evidence("it says so", LONG, 3),),
                  (Remedy("Do this.", "command", argv=("/home/ada/my env/bin/python", "-c", "print('é')")),
                   Remedy("Or this.", "edit", edits=(Edit(LONG, "/home/ada/x", "/home/ada/y"),))))


class Stream(io.StringIO):
    """A stream that can claim to be a terminal and to have an encoding."""

    def __init__(self, terminal: bool, encoding: str = "utf-8") -> None:
        super().__init__()
        self._terminal = terminal
        self._encoding = encoding

    def isatty(self) -> bool:
        return self._terminal

    @property
    def encoding(self) -> str:  # type: ignore[override]
        return self._encoding


def printed(page: Page, *, columns: int | None = None, encoding: str = "utf-8",
            color: str = "never") -> str:
    """Print a page and return what came out."""
    stream = Stream(columns is not None, encoding)
    writer = Writer(stream, color)
    if columns is not None:
        writer.columns, writer.rows = columns, 12
    writer.write(page)
    return stream.getvalue()


def page_of(finding: Finding) -> Page:
    """Lay a finding out for the user whose home is /home/ada."""
    page = Page("/home/ada", own_command=("/opt/kalyx",))
    page.title("problem", "It does not work.")
    page.finding(finding)
    return page


@pytest.mark.parametrize("columns", [40, 80, 140])
def test_paths_stay_whole_and_sentences_wrap(columns: int) -> None:
    """At any width: words are wrapped, a path is never broken, the parts stand in order."""
    text = printed(page_of(FINDING), columns=columns)
    short = "~" + LONG[len("/home/ada"):]
    assert f"{short}:3" in text and short in text
    assert all(len(row) < columns or short in row or "$ " in row for row in text.splitlines())
    parts = [text.index(f"\n  {p}\n") for p in ("because", "how we know", "what to do")]
    assert parts == sorted(parts)
    assert text.rstrip().endswith("It does not work.")  # longer than the screen: the answer again


def test_commands_can_be_copied() -> None:
    """A command line means, in a shell whose home is that home, exactly the argv."""
    text = printed(page_of(FINDING))
    line = next(row for row in text.splitlines() if "$ " in row).split("$ ", 1)[1]
    said = subprocess.run(["sh", "-c", f"printf '%s\\n' {line}"], env={"HOME": "/home/ada"},
                          capture_output=True, text=True, check=True).stdout.splitlines()
    assert tuple(said) == FINDING.remedies[0].argv
    assert "- /home/ada/x\n" in text and "+ /home/ada/y\n" in text  # an edit is to the letter
    assert Page(own_command=("/opt/kalyx",)).quote(("/opt/kalyx", "here", "a b")) == "kalyx here 'a b'"
    assert Page("C:\\Users\\ada", True).quote(("C:\\a b\\python.exe", "x")) == '"C:\\a b\\python.exe" x'
    assert shlex.split(Page().quote(("a'b", "c d"))) == ["a'b", "c d"]


def test_nothing_said_by_color_alone() -> None:
    """The coloured text, its colours taken off, is the plain text; every role has a style."""
    import re

    page = page_of(FINDING)
    colored = printed(page, color="always")
    assert re.sub(r"\x1b\[[0-9;]*m", "", colored) == printed(page)
    assert {line.role for line in page.lines} | {line.lead_role for line in page.lines} <= set(STYLES)


def test_ascii_where_that_is_all_there_is() -> None:
    """Signs have plain forms, other letters are escaped, nothing raises."""
    text = printed(page_of(FINDING), encoding="ascii")
    assert text.isascii() and text.startswith("[!] ") and "\\xe9" in text


@pytest.mark.parametrize(("raw", "shown"), [
    ("a\x1b[31mb", "a\\x1b[31mb"), ("a\nb", "a\\nb"), ("a\u202eb", "a\\u202eb"), ("é…", "é…"),
    ("\x7f\x9b", "\\x7f\\x9b"),
])
def test_control_characters_are_shown_not_sent(raw: str, shown: str) -> None:
    """Names from the outside cannot steer the terminal."""
    assert clean(raw) == shown


def test_home_is_shortened_only_where_it_is_the_home() -> None:
    """A folder that merely begins like it is left alone."""
    page = Page("/home/ada")
    assert page.short("/home/ada/x and /home/adam/y, /mnt/home/ada/z: /home/ada") == (
        "~/x and /home/adam/y, /mnt/home/ada/z: ~")


@pytest.mark.parametrize(("size", "shown"), [
    (None, "?"), (0, "0 B"), (999, "999 B"), (1500, "1.5 kB"), (2_500_000, "2.5 MB"),
    (3_200_000_000, "3.2 GB"),
])
def test_sizes(size: int | None, shown: str) -> None:
    """Bytes with a unit that fits."""
    assert human_size(size) == shown


def test_fragment_is_escaped() -> None:
    """In a notebook's page all is text; a line of a cell is marked, unless the notebook would fill something in."""
    page = Page("/home/ada", own_command=("kalyx",))
    page.in_cell = True
    page.title("problem", "<script>alert(1)</script> & more\u202e")
    page.say("said \"<b>\"", "quiet", 2, "<i> ")
    page.command(("/home/ada/lab/bin/python", "-m", "pip", "install", "a<b>"))
    page.command(("echo", "{x}"))
    page.typed("import sys\nsys.path.append('/home/ada/x')")
    page.table([["one", "<u>"]])
    page.blank()
    text = fragment([page])
    assert not re.search(r"<(?!/?(?:div|span)\b)", text) and "\u202e" not in text
    assert text.count("<div") == text.count("</div") and text.count("<span") == text.count("</span")
    seen = html.unescape(re.sub(r"<[^>]*>", "", text))
    for shown in ("<script>alert(1)</script> & more", 'said "<b>"', "!~/lab/bin/python -m pip install 'a<b>'",
                  "echo '{x}'", "sys.path.append('/home/ada/x')", "<u>"):
        assert shown in seen, shown
    assert "!echo" not in seen
