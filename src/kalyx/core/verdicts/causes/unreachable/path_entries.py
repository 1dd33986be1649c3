"""Group B: an entry of the search path means the right folder and names another: it is taken to the letter."""

from __future__ import annotations

import re

from kalyx.core.model import Edit, Evidence, Finding, Place, Remedy
from kalyx.core.verdicts.reading.absence import asked_whole, searched
from kalyx.core.verdicts.reading.own_files import code_at
from kalyx.core.verdicts.reading.spelling import near_names
from kalyx.core.verdicts.remedies.search_path import reach
from kalyx.core.verdicts.remedies.shell_lines import setting
from kalyx.core.verdicts.remedies.source_edits import change_line
from kalyx.core.verdicts.remedies.unique_edits import edit_line
from kalyx.core.verdicts.remedies.variables import set_in, with_variable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["meant_by_code", "meant_by_line", "meant_by_variable"]

NAME = "PYTHONPATH"
_VARIABLE = re.compile(r"\$\{?(\w+)\}?|%(\w+)%")
_QUOTED = re.compile(r"""(["'])((?:(?!\1).)+)\1""")


def meant_by_variable(case: Case, failure: Failure) -> Finding | None:
    """Find an entry of PYTHONPATH that would hold the module, had it been written as Python reads it."""
    m, value = case.files, case.launch.env.get(NAME, "")
    entries = value.split(m.path_separator)
    for number, raw in enumerate(entries):
        for folder, why, found in _holding(case, raw, failure):
            right = m.path_separator.join([*entries[:number], folder, *entries[number + 1:]])
            lines = set_in(m, NAME)
            return Finding.error(
                "own-code-unreachable", "certain",
                f"{failure.top} is in {folder}, and {NAME} does not lead there: it holds {raw!r}, {why}.",
                (Evidence(f"{found} is there", found), Evidence(f"{NAME} is {value!r}"), *lines,
                 *searched(case)), (_set(case, right, lines), *reach(case, folder, failure.top)))
    return None


def meant_by_code(case: Case, failure: Failure) -> Finding | None:
    """Find a line of the explained file that adds a folder, and means another that has the module."""
    for file in dict.fromkeys(p.path for p in case.asked if p.path.endswith(".py")):
        for number, line in enumerate(case.modules.lines_of(file), 1):
            if "sys.path" not in line:
                continue
            for quoted in _QUOTED.findall(line):
                for folder, why, found in _holding(case, quoted[1], failure):
                    place = Place(file, number, text=line.strip())
                    edit = change_line(case, place, place.text.replace(quoted[1], folder))
                    if edit is not None:
                        return Finding.error(
                            "own-code-unreachable", "certain",
                            f"{failure.top} is in {folder}, and line {number} of {file} does not lead there: "
                            f"it adds {quoted[1]!r}, {why}.",
                            (Evidence(f"{found} is there", found), Evidence(place.text, file, number),
                             *searched(case)),
                            (_mend(edit, file),))
    return None


def meant_by_line(case: Case, failure: Failure, file: str, number: int, raw: str) -> Finding | None:
    """Find what a line of a .pth file was meant to name, where that has the module."""
    for folder, why, found in _holding(case, raw, failure):
        return Finding.error(
            "link-broken", "certain",
            f"{failure.top} is in {folder}, and the line that is to lead there does not: it is {raw!r}, {why}.",
            (Evidence(f"{found} is there", found), Evidence(f"the line is {raw!r}", file, number)),
            (_mend(edit_line(case.files, file, number, raw, folder), file),))
    return None


def _mend(edit: Edit | None, file: str) -> Remedy:
    says = "Have the line name the whole folder."
    return Remedy(says, "edit", edits=(edit,), changes=file) if edit else Remedy(says, "manual", changes=file)


def _holding(case: Case, raw: str, failure: Failure) -> Iterator[tuple[str, str, str]]:
    """Yield the folders that an entry may mean and that have the module, why it misses them, the file there."""
    inside = asked_whole(case, failure).split(".")[1:]
    for folder, why in _meant(case, raw, failure.top):
        found = code_at(case, folder, failure.top, inside)
        if found is not None and not any(case.files.same(folder, x.path) for x in case.modules.layers):
            yield folder, why, found


def _set(case: Case, right: str, lines: list[Evidence]) -> Remedy:
    """Return how to have the variable as it was meant: in the kernel.json, or in the words of the shell."""
    edited = with_variable(case.files, case.seat, NAME, right)
    if edited is not None:
        return edited
    places = " and ".join(f"in {e.path}, line {e.line}" for e in lines) or "where it is set for good"
    typed = setting(case.files, NAME, right)
    return Remedy(f"Set it as below in this shell, and likewise {places}.", "manual",
                  changes=f"the variable {NAME}", typed=typed)


def _meant(case: Case, raw: str, name: str) -> Iterator[tuple[str, str]]:
    """Yield the folders that an entry may have been meant to name, each with what is wrong with it."""
    m = case.files
    plain = raw.strip().strip("\"'").strip()
    if not plain:
        return
    wrong = [] if plain == raw else ["whose quotes or blanks Python takes as a part of the name"]
    filled = _VARIABLE.sub(lambda v: case.launch.env.get(v[1] or v[2] or "", v[0]), plain)
    if filled[:1] == "~" and filled[1:2] in ("", "/", m.path.sep):
        filled = m.home + filled[1:]
    if filled != plain:
        sign = "~" if plain[0] == "~" else "variable"
        wrong.append(f"with a {sign} in it, which only a shell fills in")
    parts = [filled] if m.platform == "win32" else [p for p in filled.split(";") if p]
    if len(parts) > 1:
        wrong.append(f"where {m.path_separator!r} has to part the entries, not ';'")
    for part in parts:
        full = m.located(part, case.launch.cwd)
        if wrong:
            yield full, ", ".join(wrong)
        above, last = m.path.dirname(full), m.path.basename(full)
        if last == f"{name}.py" and m.is_file(full):
            yield above, "which is the file itself, and not the folder that holds it"
        elif last == name and m.is_folder(full):
            yield above, "which is the package itself, and not the folder that holds it"
        elif not m.exists(full):
            for near in near_names(last, m.scan(above)[1]):
                yield m.path.join(above, near), f"which is not there, and {m.path.join(above, near)} is"
