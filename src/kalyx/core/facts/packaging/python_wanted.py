"""Which versions of Python a project says that it is for: ``requires-python`` and what other tools call it."""

from __future__ import annotations

import re

from kalyx.core.errors import ONLY_IN_PART, Unreadable
from kalyx.core.facts.packaging.project_files import is_lock
from kalyx.core.facts.packaging.requirements import is_specifier
from kalyx.core.model import Place

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator
    from typing import Any

    from kalyx.core.facts.files import Files

__all__ = ["pythons_wanted"]

LIMIT = 1_048_576  # bytes of one file


def pythons_wanted(files: Files, folder: str, names: Iterable[str]) -> list[tuple[str, Place]]:
    """Return the specifiers (PEP 440) by which the files of a project's folder limit Python, each with its place."""
    found = []
    for name in sorted(n for n in names if n in _READERS or is_lock(n)):
        path = files.path.join(folder, name)
        try:
            text = files.read_text(path, LIMIT)
            wanted = [s for s in _READERS.get(name, _of_lock)(text) if s]
        except (Unreadable, ValueError, TypeError, AttributeError, KeyError, RecursionError):
            continue  # who reads what it requires says what is wrong with the file
        lines = text.splitlines()
        line = next((n for n, row in enumerate(lines, 1) if re.search(r"python", row, re.IGNORECASE)
                     and re.search(r"\d", row) and not row.lstrip().startswith("#")), 1)
        said = [s for s in wanted if not isinstance(s, _Standard) or is_specifier(s)]
        found += [(specifier, Place(path, line, text=lines[line - 1].strip() if lines else "")) for specifier in said]
        for odd in (s for s in wanted if s not in said):
            files.report(path, f"{ONLY_IN_PART}it says {odd[:80]} of Python, which bounds no versions (PEP 440)")
    return found


class _Standard(str):
    """What is to be a specifier as it stands there, and was put together from no other form."""

    __slots__ = ()


def _toml(text: str) -> Any:
    from kalyx.core.toml import load_toml

    return load_toml(text)


def _of_pyproject(text: str) -> Iterator[str]:
    content = _toml(text)
    yield _Standard(content.get("project", {}).get("requires-python", ""))
    own = content.get("tool", {}).get("poetry", {}).get("dependencies", {}).get("python", "")
    if isinstance(own, str):
        yield _carets(own)
    yield from _of_pixi(text) if content.get("tool", {}).get("pixi") else ()


def _of_pixi(text: str) -> Iterator[str]:
    content = _toml(text)
    wanted = content.get("tool", {}).get("pixi", content).get("dependencies", {}).get("python", "")
    yield _carets(wanted) if isinstance(wanted, str) else ""


def _of_lock(text: str) -> Iterator[str]:
    yield _Standard(_toml(text).get("requires-python", ""))


def _of_pipfile(text: str) -> Iterator[str]:
    wanted = _toml(text).get("requires", {})
    version = str(wanted.get("python_version") or wanted.get("python_full_version") or "")
    yield f"=={version}.*" if version.count(".") == 1 else f"=={version}" if version else ""


def _of_setup(text: str) -> Iterator[str]:
    match = re.search(r"^[ \t]{0,8}python_requires[ \t]{0,8}=[ \t]{0,8}([^\s#].{0,200})$", text, re.MULTILINE)
    yield _Standard(match[1].strip() if match else "")


def _of_setup_script(text: str) -> Iterator[str]:
    from kalyx.core.facts.packaging.setup_script import handed_to_setup

    wanted = handed_to_setup(text).get("python_requires")
    yield _Standard(wanted if isinstance(wanted, str) else "")


def _of_conda(text: str) -> Iterator[str]:
    match = re.search(r"^[ \t]{0,8}-[ \t]{1,4}[\"']?(?:[\w-]{1,40}::)?python[ \t]{0,4}"
                      r"([=<>!~\d][=<>!~\d.*, ]{0,80})(?:[= ][\w*]{1,80})?[\"']?[ \t]{0,8}(?:#.{0,200})?$",
                      text, re.MULTILINE)
    if match is None:
        return
    words = match[1].replace(" ", "")
    plain = re.fullmatch(r"={0,2}([\d.]+)(\.\*)?=?", words)
    yield f"=={plain[1]}.*" if plain and (plain[2] or plain[1].count(".") < 2) else f"=={plain[1]}" if plain else words


def _of_version_file(text: str) -> Iterator[str]:
    match = re.fullmatch(r"(?:python-|cpython-)?(\d{1,2}\.\d{1,3})(?:\.\d{1,3})?", text[:200].strip())
    yield f"=={match[1]}.*" if match else ""


def _carets(words: str) -> str:
    """Put ``^3.8`` and ``~3.8``, and a version alone, into the words of PEP 440."""
    words = words.strip()
    match = re.fullmatch(r"([\^~]?)\s*(\d{1,4})(?:\.(\d{1,4}))?(?:\.(?:\d{1,4}|\*))?", words)
    if match is None:
        return "" if words == "*" else words
    if not match[1]:
        return f"=={words}" if words.count(".") > 1 or words.endswith("*") else f"=={words}.*"
    above = f"{int(match[2]) + 1}" if match[1] == "^" or not match[3] else f"{match[2]}.{int(match[3]) + 1}"
    return f">={words[1:].strip()},<{above}"


_READERS: dict[str, Callable[[str], Iterable[str]]] = {
    "pyproject.toml": _of_pyproject, "Pipfile": _of_pipfile, "pixi.toml": _of_pixi, "setup.cfg": _of_setup,
    "setup.py": _of_setup_script,
    "environment.yml": _of_conda, "environment.yaml": _of_conda, ".python-version": _of_version_file}
