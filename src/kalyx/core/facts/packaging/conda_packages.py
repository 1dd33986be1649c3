"""What conda put into an environment, by the records that it keeps there (``conda-meta/NAME-VERSION-BUILD.json``).

Many of its packages have no Python in them: libraries, compilers, Python itself. Only these records tell whose their
files are.
"""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.lean.record import record, replace
from kalyx.core.model import Distribution

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from typing import Any

    from kalyx.core.facts.files import Files

__all__ = ["CondaPackage", "is_of_conda", "read_conda_packages", "with_conda_packages"]

RECORD_LIMIT = 64 * 1024 * 1024  # bytes of one
_FIRST = re.compile(r'\A\{\n([ \t]{1,16})"')
_KEY = re.compile(r'^([ \t]{1,16})"(name|version|files|depends|requested_spec)": ', re.MULTILINE)
_NO_SPEC = (None, "", "None")


@record
class CondaPackage:
    """A package of conda's. ``files`` are below the prefix, with ``/``; ``path`` is its record.

    ``asked`` is whether somebody asked for it by name, None where the records of the environment do not tell.
    """

    name: str
    version: str
    path: str
    files: tuple[str, ...]
    depends: tuple[str, ...]
    asked: bool | None = None


def read_conda_packages(files: Files, prefix: str) -> list[CondaPackage]:
    """Return what conda put into a prefix; nothing where it is none of conda's. What cannot be read is told."""
    folder = files.path.join(prefix, "conda-meta")
    found, specs = [], []
    for name in sorted(files.names_in(folder)):
        path = files.path.join(folder, name)
        if not name.endswith(".json"):
            continue
        try:
            said = _said(files.read_text(path, RECORD_LIMIT))
            found.append(CondaPackage(str(said["name"]), str(said["version"]), path, _texts(said.get("files")),
                                      _texts(said.get("depends"))))
            specs.append(said.get("requested_spec"))
        except Unreadable:
            continue  # told by who reads it
        except (KeyError, TypeError, ValueError, RecursionError):
            files.report(path, "it is no record of a package of conda's")
    if all(spec in _NO_SPEC for spec in specs):
        return found  # made from a list of files, or by an installer that does not note it
    return [replace(one, asked=spec not in _NO_SPEC) for one, spec in zip(found, specs, strict=True)]


def _said(text: str) -> dict[str, Any]:
    """Return what a record says, of the keys that are wanted: by far the most of it are check sums of each file.

    Raises:
        ValueError: it is no JSON.
    """
    import json

    decoder, found, first = json.JSONDecoder(), {}, _FIRST.match(text)
    if first is None:
        return dict(json.loads(text))
    for match in _KEY.finditer(text):
        if match[1] == first[1]:  # not one of something inside
            found[match[2]] = decoder.raw_decode(text, match.end())[0]
    return found


def _texts(said: Any) -> tuple[str, ...]:
    return tuple(str(text) for text in said) if isinstance(said, list) else ()


def is_of_conda(distribution: Distribution) -> bool:
    """Whether it is a package of conda's without Python metadata of its own."""
    return distribution.installer == "conda" and distribution.metadata.endswith(".json")


def with_conda_packages(files: Files, distributions: Sequence[Distribution], packages: Sequence[CondaPackage],
                        prefix: str) -> tuple[list[Distribution], dict[int, CondaPackage]]:
    """Return distributions and, as more of them, the packages of conda's that are none; by number what conda says.

    A package that brings a distribution is that one, by its metadata folder.
    """
    if not packages:
        return list(distributions), {}
    there = {files.key(one.metadata): number for number, one in enumerate(distributions) if one.metadata}
    found, said = list(distributions), {}
    for package in packages:
        brought = [number for path in _metadata_in(package) if (number := there.get(
            files.key(files.path.join(prefix, *path.split("/"))), -1)) >= 0 and number not in said]
        if not brought:
            brought = [len(found)]
            found.append(Distribution(package.name, package.version, "env", prefix, "conda", metadata=package.path))
        for number in brought:
            found[number] = replace(found[number], installer="conda",
                                    requested=found[number].requested if package.asked is None else package.asked)
            said[number] = package if number == brought[0] else replace(package, files=(), depends=())
    return found, said


def _metadata_in(package: CondaPackage) -> Iterator[str]:
    """Yield the metadata of distributions among a package's files, each once; the one of its own name first."""
    found = {}
    for file in package.files:
        start, mark, rest = file.replace("\\", "/").partition("-info")
        if mark and start.endswith((".dist", ".egg")) and rest[:1] in ("", "/"):
            found[start + mark] = start.rpartition("/")[2].lower().startswith(package.name.lower())
    yield from sorted(found, key=lambda path: not found[path])
