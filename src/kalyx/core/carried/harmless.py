"""What of a file's content may leave a machine: what decides, with all that is private in it hidden.

Lines stay where they are, so that what is said of a line is true of the file.
"""

from __future__ import annotations

import re

from kalyx.core.carried.json_values import with_values
from kalyx.core.carried.variables import may_leave
from kalyx.core.masks import MASK, masked, masked_addresses, masked_code

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

__all__ = ["harmless"]

# Whose lines are code or metadata: what is assigned there is a part of what is judged
_CODE = (".py", ".pyi", ".pyw", ".pth", ".toml", ".in", ".egg-link", "METADATA", "PKG-INFO", "RECORD", "WHEEL",
         ".txt", "._pth", ".ipynb", ".json", "pyvenv.cfg", "setup.cfg", ".conf", ".ini", ".xml", ".yml", ".yaml")
_PYTHON = (".py", ".pyi", ".pyw", ".pth", ".ipynb")
_VALUE = r"(\"[^\"]*\"|'[^']*'|[^\n]+)"
_EQUALS = re.compile(rf"(?m)^([ \t]*(?:export[ \t]+|set[ \t]+|declare[ \t]+-x[ \t]+|\$env:)?([A-Za-z_]\w{{0,100}})"
                     rf"[ \t]*=[ \t]*){_VALUE}")
_SPACED = re.compile(rf"(?m)^([ \t]*(?:setenv|set[ \t]+-\w+)[ \t]+([A-Za-z_]\w{{0,100}})[ \t]+){_VALUE}")
_ENV_KEY = re.compile(r"(?i)(?:\A|\.)(?:env|environment|environmentVariables)(?:\.(?:linux|osx|windows))?\Z")
_ABOUT_PYTHON = re.compile(r"(?i)python|interpreter|venv|env|conda|path|kernel|folder|sdk|jupyter|terminal")


def harmless(path: str, data: bytes) -> bytes:
    """Return a file's content as it may be shown; that of a file of bytes as it is."""
    if b"\0" in data[:8192]:
        return data
    codec = "utf-8"
    try:
        text = data.decode(codec)
    except UnicodeDecodeError:
        codec = "latin-1"
        text = data.decode(codec)
    name = re.split(r"[/\\]", path)[-1]
    if name.endswith(".ipynb"):
        text = with_values(text, _of_notebook)
    elif name.endswith((".json", ".code-workspace")):
        text = with_values(text, _of_settings if _is_setting(path, name) else _of_metadata)
    elif not name.endswith(_CODE):
        everything = name.startswith(".env") or name.endswith(".env") or "environment" in name
        for pattern in (_EQUALS, _SPACED):
            text = pattern.sub(lambda found: _hidden(found, everything), text)
    hide = masked_addresses if name == "RECORD" else masked_code if name.endswith(_PYTHON) else masked
    return hide(text).encode(codec)


def _is_setting(path: str, name: str) -> bool:
    """Whether a JSON file is an editor's, by where it lies; others are written by tools, about what they installed."""
    folder = re.split(r"[/\\]", path)[-2:-1]
    return name == "settings.json" or name.endswith(".code-workspace") or (folder[0] if folder else "")[:1] == "."


def _hidden(found: re.Match[str], everything: bool) -> str:
    """Return a line that assigns a variable; its value is hidden where it is none of those that decide."""
    if may_leave(found[2]) or not (everything or found[2].isupper()):
        return found[0]
    return found[1] + MASK + "\n" * found[3].count("\n")


def _in_env(keys: Sequence[str]) -> bool | None:
    """Whether the value under these keys is that of a variable which may leave; None where it is no variable's."""
    at = next((n for n, key in enumerate(keys) if _ENV_KEY.search(key)), None)
    return may_leave(keys[at + 1]) if at is not None and len(keys) > at + 1 else None


def _of_metadata(keys: Sequence[str]) -> bool:
    return _in_env(keys) is not False


def _of_settings(keys: Sequence[str]) -> bool:
    """Whether a text of an editor's settings stays: what has nothing to do with Python is nobody's business."""
    variable = _in_env(keys)
    return any(_ABOUT_PYTHON.search(key) for key in keys) if variable is None else variable


def _of_notebook(keys: Sequence[str]) -> bool:
    """Whether a text of a notebook stays: its code, and what its metadata says; not what its cells have printed."""
    return "outputs" not in keys and "attachments" not in keys
