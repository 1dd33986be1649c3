"""Tables of names and versions, as tools keep them of their own, read as requirements (PEP 508)."""

from __future__ import annotations

import re

from kalyx.core.facts.packaging.requirement_rows import Row

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator
    from typing import Any

__all__ = ["WORKSPACE", "place_of", "rows_of_names"]

WORKSPACE = "workspace"  # of which it is a member: its files tell where in it

# The markers of PEP 508, each of which may be a key by itself
_MARKERS = ("os_name", "sys_platform", "platform_machine", "platform_python_implementation", "platform_release",
            "platform_system", "platform_version", "python_version", "python_full_version", "implementation_name",
            "implementation_version")
_REPOSITORIES = ("git", "hg", "svn", "bzr")
_BEHIND_SSH = re.compile(r"(?<![\w.-])([\w.-]+@[\w.-]+):(?!//)(.+)")  # as git takes it: user@host:path


def rows_of_names(table: dict[str, Any], *, is_optional: bool = False) -> Iterator[Row]:
    """Yield the rows of a table of names and versions, or of tables that say more of them."""
    for name, said in table.items():
        for one in said if isinstance(said, list) else [said]:
            more = one if isinstance(one, dict) else {"version": one}
            version = more.get("version", "*") if isinstance(more.get("version", "*"), str) else "*"
            if name.lower() != "python":
                place = place_of(more)
                yield Row(f"{name}{_extras_of(more)}{'' if place else _specifier(version)}",
                          is_optional or more.get("optional") is True, place=place, marker=_marker_of(more))


def place_of(said: dict[str, Any]) -> str:
    """Return where a table says that a distribution is from: a URL, a path, WORKSPACE; empty for an index."""
    if said.get("workspace") is True:
        return WORKSPACE
    kind = next((k for k in _REPOSITORIES if isinstance(said.get(k), str)), "")
    if not kind:
        places = (said.get(key) for key in ("path", "file", "url"))
        return next((place for place in places if isinstance(place, str)), "")
    url = said[kind]
    behind_ssh = _BEHIND_SSH.fullmatch(url)
    url = f"ssh://{behind_ssh[1]}/{behind_ssh[2]}" if behind_ssh else url
    which = next((said[k] for k in ("rev", "ref", "tag", "branch") if isinstance(said.get(k), str)), "")
    inside = said.get("subdirectory")
    return (f"{kind}+{url.removeprefix(f'{kind}+')}{f'@{which}' if which else ''}"
            f"{f'#subdirectory={inside}' if isinstance(inside, str) else ''}")


def _extras_of(said: dict[str, Any]) -> str:
    extras = said.get("extras")
    extras = [e for e in extras if isinstance(e, str)] if isinstance(extras, list) else []
    return f"[{','.join(extras)}]" if extras else ""


def _marker_of(said: dict[str, Any]) -> str:
    """Return where alone it is asked for, as a marker (PEP 508)."""
    parts = [f"({said['markers']})"] if isinstance(said.get("markers"), str) else []
    parts += [f"{key} {said[key]}" for key in _MARKERS if isinstance(said.get(key), str)]
    if isinstance(said.get("python"), str):
        bounds = re.findall(r"(<=|>=|==|!=|<|>)\s*(\d+(?:\.\d+)?)", _specifier(said["python"]))
        parts += [f"python_version {sign} '{version}'" for sign, version in bounds]
    parts += [f"sys_platform == '{said['platform']}'"] if isinstance(said.get("platform"), str) else []
    return " and ".join(parts)


def _specifier(words: str) -> str:
    """Put versions with ``^`` or ``~`` before them, or nothing, and ``||`` between them, into the words of PEP 440.

    That has no "or": of several ranges it is all from the lowest to the highest.
    """
    ranges = [_range(part) for part in re.split(r"\|\|?", words)]
    if len(ranges) == 1:
        return ranges[0]
    lows = [re.search(r"(?:>=|==)(\d+(?:\.\d+)*)", one) for one in ranges]
    highs = [re.search(r"(?:<=?|==)(\d+(?:\.\d+)*)", one) for one in ranges]
    low = min((m for m in lows if m), key=lambda m: _numbers(m[1]), default=None) if all(lows) else None
    high = max((m for m in highs if m), key=lambda m: _numbers(m[1]), default=None) if all(highs) else None
    bounds = [f">={low[1]}" if low else "", f"{'<' if high[0][1] != '=' and high[0][0] == '<' else '<='}{high[1]}"
              if high else ""]
    return ",".join(filter(None, bounds))


def _numbers(version: str) -> list[int]:
    return [int(part) for part in version.split(".")]


def _range(words: str) -> str:
    """Put versions that all hold, one behind the other or with commas, into the words of PEP 440."""
    parts = [part for listed in words.split(",") for part in re.split(r"(?<=[\w*])\s+(?=[<>=!~^])", listed.strip())]
    return ",".join(filter(None, map(_bound, parts)))


def _bound(word: str) -> str:
    parts = re.fullmatch(r"([\^~]?)\s*(\d{1,9}(?:\.\d{1,9}){0,9})(\.\*)?", word.strip())
    if parts is None:
        return "" if word.strip() == "*" else word.strip()
    sign, numbers = parts[1], _numbers(parts[2])
    if not sign:
        return f"=={parts[2]}{parts[3] or ''}"
    kept = next((n for n, part in enumerate(numbers) if part), len(numbers) - 1) if sign == "^" else (
        min(1, len(numbers) - 1))
    above = [*numbers[:kept], numbers[kept] + 1]
    return f">={parts[2]},<{'.'.join(map(str, above))}"
