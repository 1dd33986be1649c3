"""How to take out what lets packages from outside into an environment: a line, a key of a file, a variable."""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.interpreters.pyvenv import find_venv_config
from kalyx.core.model import Edit, Remedy
from kalyx.core.verdicts.remedies.unique_edits import edit_between, edit_line
from kalyx.core.verdicts.remedies.variables import set_in, with_variable, without_variable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files
    from kalyx.core.facts.search_path.layers import Layer
    from kalyx.core.facts.search_path.pth_files import LinkLine
    from kalyx.core.facts.seats.context import SeatFacts

__all__ = ["close", "take_line_out"]


def close(files: Files, facts: SeatFacts, layer: Layer, line: LinkLine | None) -> tuple[Remedy, ...]:
    """Return how to have a layer stay outside: by the file that lets it in, as an edit where that can be one."""
    if line is not None:
        return (take_line_out(files, line.file, line.text, line.line),)
    if layer.layer == "pythonpath":
        return (*_from_editor(files, facts, layer.path), *_from_start_files(files, facts, layer.path),
                without_variable(files, facts.seat, "PYTHONPATH", layer.path))
    if layer.layer == "user":
        kernel = with_variable(files, facts.seat, "PYTHONNOUSERSITE", "1")
        return (kernel or Remedy("Set PYTHONNOUSERSITE=1 where this seat is started, or take the packages out of the "
                                 "user site.", "manual", changes="the variable PYTHONNOUSERSITE"),)
    return (_close_to_base(files, facts),)


def _close_to_base(files: Files, facts: SeatFacts) -> Remedy:
    """Return the edit of an environment's pyvenv.cfg that closes it to its base's packages."""
    says, interpreter = "Set include-system-site-packages = false in {}.", facts.seat.interpreter
    config = find_venv_config(files, interpreter.path) if interpreter else None
    line = config.lines.get("include-system-site-packages") if config else None
    if config is None or line is None:
        return Remedy(says.format("the environment's pyvenv.cfg"), "manual", changes="pyvenv.cfg")
    edit = edit_line(files, config.path, line, config.keys["include-system-site-packages"], "false")
    return Remedy(says.format(config.path), "edit", edits=(edit,), changes=config.path, undoable=True) \
        if edit else Remedy(says.format(config.path), "manual", changes=config.path)


def take_line_out(files: Files, file: str, line: str, number: int | None = None) -> Remedy:
    """Return the edit that takes a line out of a file; by hand, where it is not found there."""
    edit, what = edit_line(files, file, number, line, None), f"Take the line {line} out of {file}."
    return Remedy(what, "edit", edits=(edit,), changes=file, undoable=True) if edit else Remedy(
        what, "manual", changes=file)


def _from_editor(files: Files, facts: SeatFacts, folder: str) -> tuple[Remedy, ...]:
    """Return how to take a folder out of an editor's env file, or out of its extra paths."""
    setting = facts.setting
    if setting is None:
        return ()
    found = []
    if setting.env_file:
        line = _line_setting(files, setting.env_file, "PYTHONPATH")
        edit = edit_line(files, setting.env_file, None, line, None) if line and _sets_alone(
            files, line, folder) else None
        if edit is not None:
            found.append(Remedy(f"Take PYTHONPATH out of {setting.env_file}, which {setting.file} has the editor read.",
                                "edit", edits=(edit,), changes=setting.env_file, undoable=True))
    if any(files.same(p, folder) for p in setting.extra_paths):
        key = setting.editor.extra[1]
        edit = _without_element(files, setting.file, key, folder, setting.root)
        what = f"Take {folder} out of {key} in {setting.file}."
        found.append(Remedy(what, "edit", edits=(edit,), changes=setting.file, undoable=True) if edit else
                     Remedy(what, "manual", changes=setting.file))
    return tuple(found)


def _line_setting(files: Files, file: str, name: str) -> str | None:
    """Return the line of a file that sets a variable; None where none does."""
    try:
        lines = files.read_text(file, 262_144).splitlines()
    except Unreadable:
        return None
    return next((ln for ln in lines if re.match(rf"\s*(export\s+)?{name}\s*=", ln)), None)


def _sets_alone(files: Files, line: str, folder: str) -> bool:
    """Whether a line sets the variable to one folder, and to nothing else that would go with the line."""
    value = re.split(r"PYTHONPATH\s*[=\s]\s*", line, maxsplit=1)[-1].strip().strip("\"'")
    parts = [p for p in value.split(files.path_separator) if p and p not in ("$PYTHONPATH", "${PYTHONPATH}")]
    return len(parts) == 1 and files.same(files.absolute(parts[0].replace("$HOME", files.home)), folder)


def _without_element(files: Files, file: str, key: str, folder: str, root: str) -> Edit | None:
    """Return the edit that takes a folder out of a list in a settings file; None where it is not plain."""
    from kalyx.core.facts.editors.json_text import JsonText
    from kalyx.core.facts.editors.settings import fill_variables

    try:
        text = files.read_text(file, 1_048_576)
        read = JsonText(text)
    except (Unreadable, ValueError):
        return None
    for way in ((key,), ("settings", key)):
        table = read.content
        for name in way[:-1]:
            table = table.get(name) if isinstance(table, dict) else None
        items = table.get(key) if isinstance(table, dict) else None
        if isinstance(items, list):
            kept = [i for i in items if not isinstance(i, str)
                    or not files.same(files.absolute(fill_variables(files, i, root), root), folder)]
            return edit_between(file, text, read.with_value(kept, *way)) if len(kept) < len(items) else None
    return None


def _from_start_files(files: Files, facts: SeatFacts, folder: str) -> tuple[Remedy, ...]:
    """Return the edits that take a line out of the shell's start files which sets the variable to a folder."""
    found = []
    for evidence in set_in(files, "PYTHONPATH") if facts.seat.kind == "shell" else ():
        if evidence.path is None or not evidence.path.startswith(files.home) or not _sets_alone(
                files, evidence.says, folder):
            continue
        edit = edit_line(files, evidence.path, evidence.line, evidence.says, None)
        if edit is not None:
            found.append(Remedy(f"Take the line out of {evidence.path} that sets it in every new shell.", "edit",
                                edits=(edit,), changes=evidence.path, undoable=True))
    return tuple(found)
