"""What is released: the wheel and the source hold what they should, and nothing else."""

from __future__ import annotations

import shutil
import subprocess
import sys
import tarfile
import zipfile
from pathlib import Path

import pytest

import kalyx

ROOT = Path(__file__).parent.parent
DATA = (".json", ".html", ".css", ".typed")


def build(folder: Path) -> tuple[Path, Path]:
    """Build both from a copy of this tree, with nothing said against its settings; return the wheel and the source."""
    tree = folder / "tree"
    shutil.copytree(ROOT, tree, ignore=shutil.ignore_patterns(".*", "build", "*.egg-info", "__pycache__"))
    done = subprocess.run([sys.executable, "-m", "build", "--no-isolation", "--outdir", folder / "dist", tree],
                          capture_output=True, text=True, check=False)
    said = done.stdout[-3000:] + done.stderr[-3000:]
    assert done.returncode == 0 and "deprecated" not in done.stdout + done.stderr, said
    wheel, source = sorted((folder / "dist").iterdir(), key=lambda p: p.suffix, reverse=True)
    return wheel, source


@pytest.mark.thorough
def test_wheel_and_source(tmp_path: Path) -> None:
    """The wheel has every module and table, the command and the manual page, the source what builds that again."""
    wheel, source = build(tmp_path)
    name = f"kalyx-{kalyx.__version__}"
    assert wheel.name.startswith(f"{name}-py3-none-") and source.name == f"{name}.tar.gz"
    package = {str(p.relative_to(ROOT / "src")) for p in (ROOT / "src" / "kalyx").rglob("*")
               if p.suffix in (".py", *DATA) and "__pycache__" not in p.parts}
    others = {f"{name}.dist-info/{n}" for n in ("METADATA", "WHEEL", "RECORD", "top_level.txt", "licenses/LICENSE")}
    others |= {f"{name}.data/scripts/kalyx", f"{name}.data/data/share/man/man1/kalyx.1"}
    with zipfile.ZipFile(wheel) as archive:
        assert set(archive.namelist()) == package | others
        said = archive.read(f"{name}.dist-info/METADATA").decode()
    for line in ("License-Expression: Apache-2.0", "Requires-Python: >=3.10", "Provides-Extra: notebook"):
        assert line in said
    with tarfile.open(source) as archive:
        inside = {n.partition("/")[2] for n in archive.getnames()}
    assert {f"src/{n}" for n in package} | {"pyproject.toml", "setup.py", "bin/kalyx", "docs/kalyx.1", "LICENSE",
                                            "README.md", "CHANGELOG.md", "docs/guide/taking-it-back.md"} <= inside
    assert not {n for n in inside if n.startswith(("tests", "bench", "tools", "."))}
