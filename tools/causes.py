"""Write docs/causes.md anew, from the checks themselves."""

from pathlib import Path

from kalyx.core.verdicts.explanations import as_markdown

if __name__ == "__main__":
    (Path(__file__).parent.parent / "docs" / "causes.md").write_text(as_markdown(), encoding="utf-8")
