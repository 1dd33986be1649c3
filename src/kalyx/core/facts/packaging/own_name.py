"""The name of the distribution that a project's folder makes, by its files; nothing of it is run."""

from __future__ import annotations

from kalyx.core.errors import Unreadable
from kalyx.core.model.names import requirement_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

    from kalyx.core.facts.files import Files

__all__ = ["own_name"]

LIMIT = 4 * 1024 * 1024  # characters of a file


def own_name(files: Files, folder: str) -> str:
    """Return the name that a project's files give it; empty where none does, or where it is computed."""
    for file, name_in in (("pyproject.toml", _in_toml), ("setup.cfg", _in_ini), ("setup.py", _in_script)):
        try:
            name = name_in(files.read_text(files.path.join(folder, file), LIMIT))
        except (Unreadable, ValueError, KeyError, TypeError, AttributeError, RecursionError):
            continue
        if isinstance(name, str) and requirement_name(name):
            return requirement_name(name)
    return ""


def _in_toml(text: str) -> Any:
    from kalyx.core.toml import load_toml

    said = load_toml(text)
    return said.get("project", {}).get("name") or said.get("tool", {}).get("poetry", {}).get("name")


def _in_ini(text: str) -> Any:
    from configparser import Error, RawConfigParser

    parser = RawConfigParser(strict=False)
    try:
        parser.read_string(text)
        return parser.get("metadata", "name", fallback="")
    except Error as error:
        raise ValueError(str(error)) from None


def _in_script(text: str) -> Any:
    from kalyx.core.facts.packaging.setup_script import handed_to_setup

    return handed_to_setup(text).get("name")
