"""Check src/kalyx/core/tables/moved_names.json against an index: that it names the right versions.

    python tools/moved_names.py [WORD...]

Of each entry the last version that is said to have a part and the first that
is said to lack it are fetched (or the other way round), and read: nothing of
them is run. What cannot be confirmed is printed; with words, only entries
that hold one of them are looked at. Needs a network.
"""

from __future__ import annotations

import ast
import io
import json
import re
import sys
import tarfile
import urllib.request
import zipfile
from collections.abc import Iterator
from functools import cache
from pathlib import Path

from packaging.requirements import Requirement
from packaging.utils import (
    InvalidSdistFilename,
    InvalidWheelFilename,
    parse_sdist_filename,
    parse_wheel_filename,
)
from packaging.version import Version

TABLE = Path(__file__).parent.parent / "src" / "kalyx" / "core" / "tables" / "moved_names.json"
FORM = "application/vnd.pypi.simple.v1+json"
READ = (".py", ".pyx", ".so", ".pyd")
INDEX = "https://pypi.org/simple/{}/"


@cache
def files_of(name: str) -> dict[Version, str]:
    """Return one file's address for each final version, the smallest that can be read."""
    asked = urllib.request.Request(INDEX.format(name), headers={"Accept": FORM})
    with urllib.request.urlopen(asked) as answer:
        listed = json.load(answer)["files"]
    found: dict[Version, tuple[int, str]] = {}
    for file in listed:
        parse = parse_wheel_filename if file["filename"].endswith(".whl") else parse_sdist_filename
        try:
            version = parse(file["filename"])[1]
        except (InvalidWheelFilename, InvalidSdistFilename):
            continue
        if version.is_prerelease or file.get("yanked"):
            continue
        if version not in found or file["size"] < found[version][0]:
            found[version] = file["size"], file["url"]
    return {version: url for version, (_, url) in found.items()}


@cache
def sources_of(url: str) -> dict[str, bytes]:
    """Return the Python files of a wheel or source archive, by their path in it."""
    with urllib.request.urlopen(url) as answer:
        data = io.BytesIO(answer.read())
    if url.endswith((".whl", ".zip")):
        with zipfile.ZipFile(data) as archive:
            return {n: archive.read(n) for n in archive.namelist() if n.endswith(READ)}
    with tarfile.open(fileobj=data) as archive:
        members = [m for m in archive if m.isfile() and m.name.endswith((".py", ".pyx"))]
        return {m.name: archive.extractfile(m).read() for m in members}  # type: ignore[union-attr]


def has_part(url: str, module: str, name: str) -> bool:
    """Whether a version has a module, and a name in it, by its files."""
    sources = sources_of(url)
    file = _file_of(sources, module)
    return file is not None and (not name or name in _names(sources, file, module)
                                 or _file_of(sources, f"{module}.{name}") is not None)


def _file_of(sources: dict[str, bytes], module: str) -> str | None:
    base = re.escape(module.replace(".", "/"))
    found = re.compile(rf"(^|/){base}(\.py|/__init__\.py|\.pyx|\.[\w-]+\.(so|pyd))$")
    return next((path for path in sorted(sources, key=len) if found.search(path)), None)


def _names(sources: dict[str, bytes], file: str, module: str, depth: int = 0) -> set[str]:
    """Return the names in a module, with those that it takes whole from others of its distribution."""
    names = defined(sources[file])
    package = module if file.endswith("/__init__.py") else module.rpartition(".")[0]
    for dots, other in re.findall(rb"^\s*from (\.*)([\w.]*) import \*", sources[file], re.MULTILINE):
        parts = package.split(".")
        base = ".".join(parts[: len(parts) - len(dots) + 1]) if dots else ""
        whole = ".".join(filter(None, (base, other.decode())))
        inner = _file_of(sources, whole)
        if inner is not None and depth < 4:
            names |= _names(sources, inner, whole, depth + 1)
    return names


def defined(source: bytes) -> set[str]:
    """Return the names that a module's code mentions as its own: bound, imported, listed or mapped."""
    try:
        tree = ast.parse(source)
    except SyntaxError:
        return {word.decode() for word in re.findall(rb"\w+", source)}
    return set(_bound(tree))


def _bound(tree: ast.AST) -> Iterator[str]:
    for node in ast.walk(tree):
        if isinstance(node, (ast.FunctionDef, ast.ClassDef, ast.AsyncFunctionDef)):
            yield node.name
        elif isinstance(node, (ast.Import, ast.ImportFrom)):
            yield from (alias.asname or alias.name for alias in node.names)
        elif isinstance(node, ast.Name) and isinstance(node.ctx, ast.Store):
            yield node.id
        elif isinstance(node, ast.Constant) and isinstance(node.value, str) and node.value.isidentifier():
            yield node.value


def boundary(requirement: str) -> tuple[Version, Version] | None:
    """Return the version next to the bound that satisfies a requirement, and the one that does not."""
    wanted = Requirement(requirement)
    versions = sorted(files_of(wanted.name))
    inside = [v for v in versions if v in wanted.specifier]
    if "<" in str(wanted.specifier):
        outside = [v for v in versions if inside and v > inside[-1]]
        return (inside[-1], outside[0]) if inside and outside else None
    outside = [v for v in versions if inside and v < inside[0]]
    return (inside[0], outside[-1]) if inside and outside else None


def check(part: str, requirement: str) -> str:
    """Return what speaks against an entry; empty where it is confirmed."""
    module, _, name = part.partition(":")
    try:
        found = boundary(requirement)
        if found is None:
            return "no such versions"
        files = files_of(Requirement(requirement).name)
        has, lacks = (has_part(files[v], module, name) for v in found)
    except OSError as error:
        return str(error)
    return "" if has and not lacks else f"{found[0]} {'has' if has else 'lacks'} it, {found[1]} " + (
        "has it" if lacks else "lacks it")


def main(words: list[str]) -> int:
    """Check the table; return how many entries could not be confirmed."""
    doubtful = 0
    for part, (requirement, _) in json.loads(TABLE.read_text())["moved"].items():
        if words and not any(word in part + requirement for word in words):
            continue
        against = check(part, requirement)
        doubtful += bool(against)
        print(f"{'?' if against else ' '} {part}  {requirement}  {against}", flush=True)
    return doubtful


if __name__ == "__main__":
    sys.exit(1 if main(sys.argv[1:]) else 0)
