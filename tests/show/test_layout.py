"""How a page becomes rows, and a plot rectangles: nothing is lost, nothing overlaps, at any width and of any sizes."""

from __future__ import annotations

import io
import re
from types import SimpleNamespace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kalyx.core.model import Edit, Evidence, Finding, Move, Remedy, Unowned, WeighedDistribution
from kalyx.core.squares import divided
from kalyx.show.page import ASCII_MARKS, Page
from kalyx.show.plots import rectangles
from kalyx.show.write import STYLES, Writer, wants_color

EXAMPLES = settings(max_examples=80, deadline=None, derandomize=True)


class Terminal(io.TextIOWrapper):
    """A stream of an encoding that says whether it is a terminal."""

    def __init__(self, encoding: str, terminal: bool) -> None:
        super().__init__(io.BytesIO(), encoding=encoding, newline="")
        self.terminal = terminal

    def isatty(self) -> bool:
        return self.terminal

    def shown(self) -> str:
        self.flush()
        return self.buffer.getvalue().decode(self.encoding)  # type: ignore[attr-defined]


def rows_of(page: Page, columns: int, encoding: str = "utf-8", color: str = "never") -> list[str]:
    """Return the rows of a page on a screen of that width and of any height."""
    stream = Terminal(encoding, True)
    writer = Writer(stream, color)
    writer.columns, writer.rows = columns, 0
    writer.write(page)
    return stream.shown().split("\n")[:-1]


WORDS = st.text(st.characters(categories=("L", "N", "P", "S")), min_size=1, max_size=12)
SENTENCES = st.lists(WORDS, min_size=1, max_size=25).map(" ".join)


@EXAMPLES
@given(text=SENTENCES, indent=st.integers(0, 20), lead=st.sampled_from(("", "1  ", "· ", "a  ")),
       columns=st.integers(30, 130), encoding=st.sampled_from(("utf-8", "ascii", "cp1252")))
def test_sentences(text: str, indent: int, lead: str, columns: int, encoding: str) -> None:
    """All words are there, in order; a row is longer than the screen only for a word that is."""
    page = Page()
    page.say(text, indent=indent, lead=lead)
    rows = rows_of(page, columns, encoding)
    expected = text
    if not all(mark.encode(encoding, "ignore").decode(encoding) for mark in "◆◇◈…→│"):
        for sign, plain in ASCII_MARKS.items():
            expected = expected.replace(sign, plain)
    expected = expected.encode(encoding, "backslashreplace").decode(encoding)
    first = rows[0][indent:]
    assert first.startswith(lead if encoding == "utf-8" else lead.replace("·", first[:1]))
    body = [first[len(lead):], *(row[indent + len(lead):] for row in rows[1:])]
    assert " ".join(body).split() == expected.split()
    room = max(20, min(columns - 1, 110) - indent - len(lead))
    assert all(len(piece) <= room or " " not in piece.strip() for piece in body)
    assert all(row[:indent + len(lead)].strip() == "" for row in rows[1:])


@EXAMPLES
@given(cells=st.lists(st.tuples(WORDS, WORDS, st.just("") | WORDS.map(lambda w: f"/p/{w}")), min_size=1, max_size=6),
       columns=st.integers(30, 130))
def test_tables(cells: list[tuple[str, str, str]], columns: int) -> None:
    """Columns stand below each other; a path is whole, in its row where there is room and below it where not."""
    page = Page()
    page.table(cells)
    rows = rows_of(page, columns)
    wide = max(len(a) for a, _, _ in cells)
    found = [row for row in rows if not row.strip().startswith("/p/")]
    assert [row[2:2 + wide].rstrip() for row in found] == [a for a, _, _ in cells]
    assert [row[4 + wide:].split("  ")[0].rstrip() for row in found] == [b for _, b, _ in cells]
    text = "\n".join(rows)
    assert all(path in text for _, _, path in cells) and len(rows) - len(found) <= sum(bool(p) for _, _, p in cells)


FINDINGS = st.lists(st.builds(
    Finding, st.just("some-cause"), st.sampled_from(("error", "warning")), st.just("certain"), SENTENCES,
    st.lists(st.builds(Evidence, SENTENCES, st.none() | st.just("/home/ada/lab/a.py"), st.none() | st.integers(1, 9)),
             min_size=1, max_size=5).map(tuple),
    st.lists(st.sampled_from((
        Remedy("Do this.", "command", argv=("/home/ada/lab/bin/python", "-m", "pip", "install", "a b")),
        Remedy("Or that.", "edit", edits=(Edit("/home/ada/x.py", "one\ntwo", "three"),), moves=(Move("/a", "/b"),)),
        Remedy("Or type it.", "manual", typed="export P=/home/ada/x\nunset Q"))), min_size=1, max_size=3).map(tuple)),
    min_size=1, max_size=4)


@EXAMPLES
@given(findings=FINDINGS, verbose=st.booleans(), columns=st.integers(50, 130), windows=st.booleans())
def test_findings(findings: list[Finding], verbose: bool, columns: int, windows: bool) -> None:
    """Of several findings each has its sentence, what decides it and its remedies; the same remedy stands once."""
    page = Page("/home/ada", windows, ("kalyx",))
    page.findings(findings, verbose=verbose)
    words = " ".join(" ".join(rows_of(page, columns)).split())
    text = "\n".join(line.lead + line.text + " " + line.tail for line in page.lines)
    for number, finding in enumerate(findings, 1):
        assert f"{number:<3}because" in text and " ".join(page.short(finding.because).split()) in words
        shown = finding.evidence if verbose else page.decisive(finding.evidence)
        assert 1 <= len(shown) <= len(finding.evidence)
        assert all(" ".join(page.short(e.says).split()) in words for e in shown)
    kinds = {r.do for f in findings for r in f.remedies}
    assert all(text.count(f"  {do} ") == 1 for do in kinds)
    assert text.count("the same as") == sum(len(f.remedies) for f in findings) - len(kinds)
    assert {line.role for line in page.lines} | {line.lead_role for line in page.lines} <= set(STYLES)
    less = sum(len(page.decisive(f.evidence)) for f in findings) < sum(len(f.evidence) for f in findings)
    assert ("--verbose shows all" in text) == (less and not verbose)


@pytest.mark.parametrize(("choice", "terminal", "env", "wanted"), [
    ("auto", True, {"TERM": "xterm"}, True), ("auto", False, {"TERM": "xterm"}, False),
    ("auto", True, {"TERM": "dumb"}, False), ("auto", True, {"TERM": "xterm", "NO_COLOR": "1"}, False),
    ("auto", True, {"TERM": "xterm", "NO_COLOR": ""}, True), ("never", True, {"TERM": "xterm"}, False),
    ("always", False, {"TERM": "dumb", "NO_COLOR": "1"}, True)])
def test_when_there_is_color(choice: str, terminal: bool, env: dict[str, str], wanted: bool,
                             monkeypatch: pytest.MonkeyPatch) -> None:
    """As it was asked for, else on a terminal that has it, unless the person wants none anywhere."""
    for name in ("TERM", "NO_COLOR"):
        monkeypatch.delenv(name, raising=False)
    for name, value in env.items():
        monkeypatch.setenv(name, value)
    stream = Terminal("utf-8", terminal)
    assert wants_color(choice, stream) is wanted
    page = Page()
    page.title("problem", "It is so.")
    Writer(stream, choice).write(page)
    assert ("\x1b[" in stream.shown()) is wanted
    assert re.sub(r"\x1b\[[\d;]*m", "", stream.shown()) == "◆ It is so.\n"


def test_a_page_longer_than_the_screen() -> None:
    """Its title stands again at its end, where it is seen."""
    page, stream = Page(), Terminal("utf-8", True)
    page.title("ok", "It is well.")
    for number in range(30):
        page.say(f"line {number}")
    writer = Writer(stream, "never")
    writer.columns, writer.rows = 80, 24
    writer.write(page)
    assert stream.shown().count("It is well.") == 2 and stream.shown().endswith("It is well.\n")


# -- rectangles ------------------------------------------------------------------------------------
@EXAMPLES
@given(sizes=st.lists(st.integers(1, 10**9), min_size=1, max_size=60))
def test_areas_are_true(sizes: list[int]) -> None:
    """Each rectangle's area is its share; they lie inside, do not overlap, and fill the whole."""
    sizes.sort(reverse=True)
    whole = (1.0, 2.0, 12.8, 7.0)
    places = divided(sizes, whole)
    for size, (left, top, width, height) in zip(sizes, places, strict=True):
        assert width * height == pytest.approx(size / sum(sizes) * whole[2] * whole[3], rel=1e-6)
        assert left >= 1 - 1e-9 and top >= 2 - 1e-9
        assert left + width <= 13.8 + 1e-6 and top + height <= 9 + 1e-6
    for number, (left, top, width, height) in enumerate(places):
        for other_left, other_top, other_width, other_height in places[number + 1:]:
            across = min(left + width, other_left + other_width) - max(left, other_left)
            down = min(top + height, other_top + other_height) - max(top, other_top)
            assert across <= 1e-6 or down <= 1e-6


@pytest.mark.parametrize(("sizes", "free", "names"), [
    ([100], 0, ["a0 1"]), ([60, 40], 0, ["a0 1", "a1 1"]), ([60], 40, ["a0 1", "of no distribution"]),
    ([990, 3, 2, 1], 4, ["a0 1", "3 smaller ones", "of no distribution"]), ([], 5, ["of no distribution"]),
    ([10] * 70, 0, [*(f"a{n} 1" for n in range(60)), "10 smaller ones"])])
def test_what_is_drawn(sizes: list[int], free: int, names: list[str]) -> None:
    """Small things are gathered, what belongs to nobody is one, and all of it is there."""
    answer = SimpleNamespace(
        total=sum(sizes) + free, unowned=Unowned(free, 1, ()), environment=SimpleNamespace(name="lab"),
        distributions=[WeighedDistribution(f"a{n}", "1", size, 1, 0, size) for n, size in enumerate(sizes)])
    parts = rectangles._parts(answer)  # type: ignore[arg-type]
    assert sorted(p[0] for p in parts) == sorted(names) and sum(p[1] for p in parts) == answer.total
    assert [p[1] for p in parts] == sorted((p[1] for p in parts), reverse=True)
    assert len(rectangles._places(answer)) == len(parts)  # type: ignore[arg-type]
    assert all(re.fullmatch("#[0-9a-f]{6}", p[2]) for p in parts)
    caption = rectangles._caption(answer)  # type: ignore[arg-type]
    assert f"{len(sizes)} distribution" in caption and ("of none of them" in caption) == bool(free)


@pytest.mark.parametrize(("name", "labels"), [
    ("germkit 1.0", ["germkit 1.0\n5 B", "germkit\n1.0\n5 B", "germkit\n5 B", "germkit"]),
    ("germkit", ["germkit\n5 B", "germkit\n5 B", "germkit"]),
    ("germ-kit_x 1", ["germ-kit_x 1\n5 B", "germ-kit_x\n1\n5 B", "germ-kit_x\n5 B", "germ-kit_x",
                      "germ-\nkit_\nx\n5 B", "germ-\nkit_\nx"]),
    ("3 smaller ones", ["3 smaller ones\n5 B", "3 smaller ones\n5 B", "3 smaller ones"])])
def test_labels(name: str, labels: list[str]) -> None:
    """All of it first, then less, in fewer letters for each row."""
    assert rectangles._labels(name, "5 B") == labels
