"""The guide and the README show what the commands print."""

from __future__ import annotations

import re
import sys
from pathlib import Path

import pytest

from tests.support.build import run

ROOT = Path(__file__).parent.parent.parent
PAGES = [ROOT / "README.md", *(ROOT / "docs").rglob("*.md")]


@pytest.mark.thorough
@pytest.mark.skipif(sys.platform != "linux", reason="the sessions are of a terminal of Linux")
def test_sessions_are_what_is_printed() -> None:
    """Each command of each page, run on the demo's data, prints what stands under it."""
    done = run([sys.executable, ROOT / "tools" / "guide.py", "--check"])
    assert done.returncode == 0, f"run tools/guide.py: {done.stderr}"


def test_short_and_linked() -> None:
    """Ten pages at most, each short and linked from the README; what a page links to is there."""
    guide = sorted((ROOT / "docs" / "guide").glob("*.md"))
    readme = (ROOT / "README.md").read_text()
    assert len(guide) <= 10
    for page in guide:
        assert f"(docs/guide/{page.name})" in readme and len(page.read_text().splitlines()) <= 120, page
        assert re.search(r"^\$ kalyx ", page.read_text(), re.MULTILINE), page
    for page in PAGES:
        for link in re.findall(r"\]\(([^)#:]+)\)", page.read_text()):
            assert (page.parent / link).exists(), (page, link)
