"""What a file may import and which Python it may need, by its text: enough to tell whether a tree of it says more.

The tree shows no import and no newer form of syntax that is not among what is found here; what is found here may be in
a comment or a docstring.
"""

from __future__ import annotations

import re

from kalyx.core.facts.source_code.cells import read_pieces
from kalyx.core.facts.source_code.import_statements import statements_of
from kalyx.core.facts.source_code.imports import ImportedName
from kalyx.core.facts.source_code.newest_sign import is_for_another_parser, newest_sign
from kalyx.core.facts.source_code.python_range import bound_of_name, spoken_names
from kalyx.core.facts.source_code.relative_imports import named_from
from kalyx.core.lean.record import record
from kalyx.core.model import version_pair

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence
    from typing import Any

    from kalyx.core.facts.files import Files

__all__ = ["Scan", "scan_of_data", "scans_as_data"]

# What imports by a name that is computed, adds to the search path, or says what the file needs in a block of its own
_NEEDS_A_TREE = ("addsitedir", "# /// script", "\0")
_CALLS = tuple(re.compile(rf"{name}\s{{0,9}}\(") for name in ("import_module", "__import__"))
_CHANGES_PATH = re.compile(r"sys\.path\s{0,9}(?:\.\s{0,9}(?:append|insert|extend)|\+?=|\[)")
LARGEST = 500_000  # characters of a text that is looked at


@record
class Scan:
    """What a file may import, and the newest Python that it may need.

    Each import is the module, the name or None, and whether the code does without it.
    """

    path: str
    imports: tuple[tuple[str, str | None, bool], ...]
    newest: str = ""


def scans_as_data(files: Files, paths: Sequence[str], root: str) -> list[list[Any]]:
    """Return what each file may import and need, as plain data; of those that only a tree tells of, the path alone."""
    return [_scan(files, path, root) or [path] for path in paths]


def scan_of_data(data: Sequence[Any]) -> Scan | None:
    """Return the same as it was made; None for a file of which only a tree tells.

    Raises:
        TypeError, ValueError: it is not what was written.
    """
    if len(data) == 1:
        return None
    path, said, newest = data
    imports = tuple((module, name, bool(is_tried)) for module, name, is_tried in said)
    if not all(isinstance(module, str) and isinstance(name, (str, type(None))) for module, name, _ in imports):
        raise TypeError("no names of modules")
    return Scan(str(path), imports, str(newest))


def _scan(files: Files, path: str, root: str) -> list[Any] | None:
    pieces = read_pieces(files, path)[0] if path.endswith(".py") else []
    if not pieces:
        return None
    text = pieces[0][1]
    if len(text) > LARGEST or any(sign in text for sign in _NEEDS_A_TREE) or any(
            form.search(text) for form in (*_CALLS, _CHANGES_PATH)):
        return None
    said = statements_of(text)
    if said is None or any(one.module == "sys" and one.name == "path" for one in said) or is_for_another_parser(text):
        return None
    found, named = [], []
    for one in dict.fromkeys(said):
        whole = named_from(files, path, one.module, root) if one.module.startswith(".") else one.module
        if whole is not None and (whole != "__future__" or one.name is None):  # in no package, dots lead nowhere else
            found.append((whole, one.name, one.is_tried))
            named.append(ImportedName(whole, one.name, 0, alias=one.alias))
    newest = newest_sign(text)
    for module, name in spoken_names(text, named):
        bound = bound_of_name(module, name)
        if bound is not None and not bound[1]:
            return None
        if bound is not None and version_pair(bound[0]) > version_pair(newest):
            newest = bound[0]
    return [path, list(dict.fromkeys(found)), newest]
