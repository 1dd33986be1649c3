"""Remedies that a package's own message names: another version of something, a setting."""

from __future__ import annotations

import re

from kalyx.core.model import Remedy
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.verdicts.reading.failure import own_frames
from kalyx.core.verdicts.remedies import pip
from kalyx.core.verdicts.remedies.shell_lines import setting
from kalyx.core.verdicts.remedies.variables import with_variable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import ObservedError

__all__ = ["advised", "where_to_look"]

MOST_READ = 4000  # characters of a message
_NAME, _NUMBER = r"[`'\"]?([A-Za-z][\w.-]{0,60}?)[`'\"]?", r"[`'\"]?v?(\d{1,6}(?:\.\d{1,6}){0,3})((?:\.x)?)[`'\"]?"
_DOWN = re.compile(rf"(?i)\bdowngrade\s+(?:the\s+)?{_NAME}\s+(?:package\s+|version\s+)?(to|below)\s+(?:version\s+)?"
                   f"{_NUMBER}")
_UP = re.compile(rf"(?i)\b(?:upgrade|update)\s+(?:the\s+)?{_NAME}\s+(?:package\s+)?(?:to|>=)\s*(?:version\s+)?"
                 f"{_NUMBER}")
_SPECIFIED = re.compile(r"(?i)\b(?:(?:down|up)grade(?: your \w{1,30} (?:module|package))? to|pip3? install|requires?|"
                        r"needs?|please use|install|depends? on)\s+"
                        r"(?:-{1,2}[\w-]{1,20}\s+){0,3}[`'\"]{0,2}([A-Za-z][\w.-]{0,60}(?:\[[\w,-]{1,60}\])?\s?"
                        r"(?:[<>=!~]=?|===)\s?\d[\w.*]{0,20}(?:\s?,\s?[<>=!~]=?\s?\d[\w.*]{0,20}){0,3})")
_GENERATED = re.compile(r"(?i)\bgencode\s+(\d[\w.]{0,20})\s+runtime\s+(\d[\w.]{0,20})")
_BACK_END = re.compile(r"(?i)cannot load backend '\w{1,30}' which requires the '\w{1,30}' interactive framework.{0,60}"
                       r"'headless'")


def advised(case: Case, error: ObservedError) -> list[Remedy]:
    """Return what a message says is to be done, as a command where it names a distribution that is here."""
    message = " ".join(error.message[:MOST_READ].split())
    found = [r for requirement in _requirements(case, error, message)
             for r in pip.install(case, requirement, why=", as the message says")]
    if _BACK_END.search(message):
        kept = with_variable(case.files, case.seat, "MPLBACKEND", "Agg")
        found += [kept] if kept else [Remedy(
            "There is no display where this runs: have it draw into files, by the line below, or run it where there is "
            "one.", "manual", changes="the variable MPLBACKEND", typed=setting(case.files, "MPLBACKEND", "Agg"))]
    return found


def _requirements(case: Case, error: ObservedError, message: str) -> Iterator[str]:
    """Yield the requirements that a message names, of distributions that are here and do not meet them."""
    from kalyx.core.facts.packaging.requirements import is_met

    asked = [m.group(1).replace(" ", "") for m in _SPECIFIED.finditer(message)]
    asked += [_below(*m.groups()) for m in _DOWN.finditer(message)]
    asked += [f"{m.group(1)}>={m.group(2)}" for m in _UP.finditer(message)]
    generated, frames = _GENERATED.search(message), own_frames(error.frames)
    owner = case.distributions.of(frames[-1].file) if generated and frames else None
    asked += [f"{owner.name}>={generated.group(1)}"] if generated and owner is not None else []
    seen: set[str] = set()
    for requirement in asked:
        here = case.distributions.named(requirement_name(requirement))
        if here is not None and is_met(requirement, here.version) is False and normal_name(here.name) not in seen:
            seen.add(normal_name(here.name))
            yield requirement.replace(requirement_name(requirement), here.name, 1)


def _below(name: str, word: str, number: str, any_last: str) -> str:
    """Return the requirement for a version and all before it: ``3.20.x or lower`` is below 3.21."""
    if word == "below":
        return f"{name}<{number}"
    if not any_last:
        return f"{name}<={number}"
    first, _, last = number.rpartition(".")
    return f"{name}<{first}.{int(last) + 1}" if first else f"{name}<{int(number) + 1}"


def where_to_look(case: Case, error: ObservedError, place: str) -> Remedy:
    """Return where a person reads on: at their own line; a library's line mends nothing."""
    frames = own_frames(error.frames)
    mine = next((f for f in reversed(frames) if case.distributions.of(f.file) is None
                 and case.modules.layer_of_file(f.file) not in ("stdlib", "env", "base", "user")), None)
    last = frames[-1] if frames else None
    if last is None or mine is last or error.is_syntax:
        return Remedy(f"Read {place}: that is where it was raised.", "manual", changes="nothing")
    if mine is not None:
        return Remedy(f"Look at your own line, {mine.file}, line {mine.line}, which led there: "
                      f"{case.modules.code_line(mine.file, mine.line)}", "manual", changes="nothing")
    owner = case.distributions.of(last.file)
    whom = f"{owner.name} {owner.version}" if owner is not None else "the project"
    return Remedy(f"Ask those who make {whom}: nothing that is here tells what it lacks. The message, the version and "
                  f"{case.python.name} are what they need to know.", "manual", changes="nothing")
