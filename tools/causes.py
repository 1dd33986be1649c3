"""Write docs/causes.md and the index of the checks from the checks themselves."""

from pathlib import Path

from kalyx.core.verdicts.explanations import as_index, as_markdown

if __name__ == "__main__":
    root = Path(__file__).parent.parent
    (root / "src" / "kalyx" / "core" / "verdicts" / "index.py").write_text(as_index(), encoding="utf-8")
    (root / "docs" / "causes.md").write_text(as_markdown(), encoding="utf-8")
