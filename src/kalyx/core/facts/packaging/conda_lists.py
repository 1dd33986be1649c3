"""The list of a conda environment, ``environment.yml``, read as requirements (PEP 508)."""

from __future__ import annotations

import re

from kalyx.core.facts.packaging.requirement_rows import Row
from kalyx.core.model.names import requirement_name
from kalyx.core.tables.import_names import distribution_by_conda

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator

__all__ = ["as_distribution", "of_environment"]


_ITEM = re.compile(r"""(?<!\s)\s*-\s+(?:"([^"]{0,999})"|'([^']{0,999})'|([^"'\s].*))""")


def of_environment(text: str) -> Iterator[Row]:
    """Yield what the list of a conda environment asks for, and the list for pip in it."""
    inside, of_pip = False, -1  # how far the list for pip stands in
    alone = re.search(r"^dependencies:[ \t]*(?!#)(\S.*)$", text, re.MULTILINE)
    if alone is not None:  # all of it in one line
        if not (alone[1].startswith("[") and alone[1].rstrip().endswith("]")):
            raise ValueError("its dependencies are no list, or one that goes on after its first line")
        text = "dependencies:\n" + "".join(f"  - {word.strip()}\n" for word in alone[1].strip()[1:-1].split(","))
    for line in text.splitlines():
        plain = line.split(" #")[0].rstrip()
        if plain and not plain[0].isspace() and not plain.startswith("-"):
            inside, of_pip = plain.startswith("dependencies:"), -1
        item = _ITEM.match(plain)
        if not inside or item is None:
            continue
        word, indent = (item[1] or item[2] or item[3] or "").strip(), plain.index("-")
        if word == "pip:":
            of_pip = indent
        elif 0 <= of_pip < indent:
            yield from _for_pip(word)
        elif requirement_name(word := word.rpartition("::")[2]) not in ("python", "pip", ""):
            yield as_distribution(word)


def _for_pip(word: str) -> Iterator[Row]:
    """Yield what an item of the list for pip asks for: options, and places, mostly have no name."""
    other = re.match(r"(?:-r|--requirement)[\s=]\s*(\S+)", word)
    if other is not None:
        yield Row("", pip_list=other[1])
    elif not word.startswith(("-", ".", "/", "~")) and "://" not in word.split("@")[0]:
        yield Row(word)


def as_distribution(word: str) -> Row:
    """Return a package of conda's by the name of the distribution in it, with its versions as PEP 440 has them."""
    name, said = requirement_name(word), _in_pips_words(word)
    whole = distribution_by_conda(name.lower()) + said[len(name):] if said.startswith(name) else said
    return Row(whole, by_conda=True, written=name)


def _in_pips_words(word: str) -> str:
    """Put ``name=1.2``, which is any 1.2 to conda, ``name 1.2`` and ``name=1.2.3=build`` into the words of PEP 440."""
    inside = re.fullmatch(r"([\w.-]+)\s*\[(.*)\]", word)
    if inside is not None:  # name[version='>=1.2', build=...]
        version = re.search(r"\bversion\s{0,9}=\s{0,9}(?:'([^']{0,99})'|\"([^\"]{0,99})\"|([^,'\"]{0,99}))", inside[2])
        said = (version[1] or version[2] or version[3] or "").strip() if version else ""
        return _in_pips_words(f"{inside[1]} {said}") if said else inside[1]
    alone = re.fullmatch(r"([\w.-]+)\s+([\w.*]+)(?:\s+\S+)?", word)
    if alone is not None:
        return alone[1] if alone[2] == "*" else f"{alone[1]}=={alone[2]}"
    parts = re.fullmatch(r"([\w.-]+)\s*(==?)\s*([\w.*]+)(=\S+)?", word)
    if parts is None:
        return word
    if parts[3] == "*":
        return parts[1]
    is_whole = parts[2] == "==" or parts[4] or parts[3].endswith("*")
    return f"{parts[1]}=={parts[3]}{'' if is_whole else '.*'}"
