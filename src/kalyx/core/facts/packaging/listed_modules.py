"""Which modules a distribution says that it brings: top_level.txt, RECORD, ``Import-Name``, an import hook's table."""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.facts.files import Files

__all__ = ["HOOK", "brings_back", "imports_in_heads", "mapped_folder", "mapped_modules", "modules_in_record",
           "names_in_heads"]

MODULE_ENDINGS = ("py", "so", "pyd", "pyc", "dylib")
_HEAD = re.compile(r'^"?([^/\\,"\n]+)([/\\]?)', re.MULTILINE)


def modules_in_record(text: str) -> set[str]:
    """Return the top-level modules among the paths of a RECORD (PEP 376)."""
    found = set()
    for head, slash in set(_HEAD.findall(text)):
        if head.endswith((".dist-info", ".egg-info", ".data")) or head in ("..", "__pycache__"):
            continue
        stem, dot, ending = head.partition(".")
        is_package = slash and not dot
        if is_package or (not slash and ending.split(".")[-1] in MODULE_ENDINGS):
            found.add(stem)
    return {name for name in found if name.isidentifier()}


_IMPORTS = re.compile(r"^Import-Name(?:space)?:[ \t]*([A-Za-z_]\w*)", re.MULTILINE | re.IGNORECASE)
_NAMES = re.compile(r"^Import-Name:[ \t]*([A-Za-z_][\w.]*)", re.MULTILINE | re.IGNORECASE)


def imports_in_heads(text: str) -> set[str]:
    """Return the top-level modules that the header lines of a METADATA name (PEP 794)."""
    return set(_IMPORTS.findall(text.replace("\r\n", "\n").partition("\n\n")[0]))


def names_in_heads(text: str) -> set[str]:
    """Return the modules, dotted ones too, that the header lines of a METADATA name as its own (PEP 794)."""
    return set(_NAMES.findall(text.replace("\r\n", "\n").partition("\n\n")[0]))


def mapped_modules(files: Files, folder: str, finder: str) -> set[str]:
    """Read the table of an editable install's import hook (PEP 660): the modules that it brings."""
    try:
        text = files.read_text(files.path.join(folder, finder), 262_144)
    except Unreadable:
        return set()
    table = re.search(r"^MAPPING[^=]*=\s*(\{.*?\})\s*$", text, re.MULTILINE)
    return set(re.findall(r"['\"](\w+)['\"]\s*:", table.group(1))) if table else set()


def mapped_folder(files: Files, folder: str, finder: str, module: str) -> str | None:
    """Return where an editable install's import hook looks for a module (PEP 660): a folder, or a file."""
    try:
        text = files.read_text(files.path.join(folder, finder), 262_144)
    except Unreadable:
        return None
    entry = re.search(rf"['\"]{re.escape(module)}['\"]\s*:\s*['\"]([^'\"]+)['\"]", text)
    return entry.group(1) if entry else None


HOOK = "distutils-precedence.pth"
_SWITCH = "SETUPTOOLS_USE_DISTUTILS"
_DEFAULT = re.compile(r"environ\.get\(var, '(\w{1,20})'\)")


def brings_back(files: Files, folder: str, module: str, env: Mapping[str, str]) -> str | None:
    """Return the file by which a site folder brings back a module that Python dropped; None where it does not.

    Setuptools does that for ``distutils``, by an import hook that a .pth file of its own installs.
    """
    if module != "distutils":
        return None
    path = files.path.join(folder, "setuptools", "_distutils", "__init__.py")
    try:
        said = _DEFAULT.search(files.read_text(files.path.join(folder, HOOK), 4096))
    except Unreadable:
        return None
    is_on = said is not None and env.get(_SWITCH, said[1]) == "local"
    return str(path) if is_on and files.is_file(path) else None
