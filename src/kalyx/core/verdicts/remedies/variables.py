"""What sets the variables and flags that a seat starts Python with, and how to take one of them out."""

from __future__ import annotations

import json
import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.editors.json_text import JsonText
from kalyx.core.facts.shells.loaded_modules import brought_by
from kalyx.core.model import Edit, Evidence, Remedy
from kalyx.core.verdicts.known import as_known
from kalyx.core.verdicts.remedies.shell_lines import setting
from kalyx.core.verdicts.remedies.unique_edits import edit_between

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Seat

__all__ = ["add_library_folder", "brought_in", "set_in", "with_variable", "without_flag", "without_variable"]

# Files in which a person sets variables for good, as data; ~ is the home folder
START_FILES = (
    "~/.bashrc", "~/.bash_profile", "~/.bash_login", "~/.profile", "~/.bash_aliases", "~/.zshrc", "~/.zshenv",
    "~/.zprofile", "~/.zlogin", "~/.kshrc", "~/.cshrc", "~/.tcshrc", "~/.login", "~/.config/fish/config.fish",
    "~/.pam_environment", "/etc/environment", "/etc/profile", "/etc/bash.bashrc", "/etc/zshenv",
    "/etc/zsh/zshenv",
)
START_FOLDERS = ("~/.config/environment.d", "~/.config/fish/conf.d", "/etc/profile.d")


def set_in(files: Files, name: str) -> list[Evidence]:
    """Return the lines of the shell's start files that set a variable."""
    m, found = files, []
    if m.platform == "win32":
        return []
    start_files = [m.absolute(f) for f in START_FILES]
    for folder in map(m.absolute, START_FOLDERS):
        start_files += [m.path.join(folder, n) for n in sorted(m.names_in(folder))[:100]]
    line_of = re.compile(rf"\s*(?:export\s+|setenv\s+|typeset\s+-x\s+|set\s+(?:-\S+\s+)+)?{name}(?:\s*=|\s+\S)")
    for file in start_files:
        try:
            text = m.read_text(file, 262_144) if m.is_file(file) else ""
        except Unreadable:
            continue
        found += [Evidence(line.strip(), file, number) for number, line in enumerate(text.splitlines(), 1)
                  if name in line and line_of.match(line)]
    return found


def without_variable(files: Files, seat: Seat, name: str, entry: str | None = None) -> Remedy:
    """Return how to take a variable out of a seat, or one entry of it where it is a list of folders.

    As an edit, where the kernel.json sets it; else in the words of the shell, with the line of the
    start file that sets it for good.
    """
    spec = _kernelspec(files, seat)
    if spec is not None:
        edited = _without_key(files, *spec, name, entry)
        if edited is not None:
            return edited
    env: Mapping[str, str] = seat.launch.env if seat.launch else files.env
    brought = brought_by(files, env, name, entry or env.get(name, ""))
    if brought is not None:
        return Remedy(f"Unload the module {brought.module}, which brings {entry or name}, and start anew what runs in "
                      "this shell.", "manual", changes="what is loaded in this shell",
                      typed=f"module unload {brought.module}")
    kept = _kept(files, env.get(name, ""), entry) if entry else ""
    now = setting(files, name, kept)
    nowhere: list[Evidence] = []
    lines = as_known(files, lambda: set_in(files, name), nowhere)
    for_good = " and ".join(f"{e.path}, line {e.line}" for e in lines) + ", which sets it in every new shell" \
        if lines else "where it is set for good"
    what = f"Take {entry} out of {name}" if entry else f"Unset {name}"
    return Remedy(f"{what} in this shell by the line below; and take it out of {for_good}.", "manual",
                  changes=f"the variable {name}", typed=now)


def brought_in(files: Files, seat: Seat | None, name: str, entry: str) -> tuple[Evidence, ...]:
    """Return what shows that a loaded module of a cluster has put an entry into a variable; nothing where none has."""
    env = seat.launch.env if seat is not None and seat.launch else files.env
    brought = brought_by(files, env, name, entry)
    return (brought.evidence,) if brought is not None else ()


def with_variable(files: Files, seat: Seat, name: str, value: str) -> Remedy | None:
    """Return the edit of the kernel.json that sets a variable for a seat; None where there is none."""
    spec = _kernelspec(files, seat)
    if spec is None:
        return None
    file, text, content = spec
    env = content.get("env")
    way = ("env", name) if isinstance(env, dict) else ("env",)
    change = edit_between(file, text, JsonText(text).with_value(value if len(way) > 1 else {name: value}, *way)) \
        if env is None or isinstance(env, dict) else None
    return Remedy(f"Have the kernel set {name}={value}.", "edit", edits=(change,), changes=file, undoable=True) \
        if change is not None else None


def _kept(files: Files, value: str, entry: str | None) -> str:
    m = files
    parts = value.split(m.path_separator)
    return m.path_separator.join(p for p in parts if not p or entry is None or not m.same(m.absolute(p), entry))


def _kernelspec(files: Files, seat: Seat) -> tuple[str, str, dict[str, object]] | None:
    """Return the kernel.json that a seat starts by, its text and what it says."""
    m = files
    file = next((s.where for s in seat.trail if s.where and m.path.basename(s.where) == "kernel.json"), None)
    if file is None:
        return None
    try:
        text = m.read_text(file, 262_144)
        content = json.loads(text)
    except (Unreadable, ValueError, RecursionError):
        return None
    return (file, text, content) if isinstance(content, dict) else None


def _without_key(files: Files, file: str, text: str, content: dict[str, object], name: str,
                 entry: str | None) -> Remedy | None:
    env = content.get("env")
    value = env.get(name) if isinstance(env, dict) else None
    if not isinstance(env, dict) or not isinstance(value, str):
        return None
    kept = _kept(files, value, entry) if entry else ""
    if kept == value:
        return None
    read = JsonText(text)
    after = read.with_value(kept, "env", name) if kept else read.with_value(
        {k: v for k, v in env.items() if k != name}, "env")
    edit = edit_between(file, text, after)
    what = f"Take {entry} out of the {name}" if entry else f"Take out the {name}"
    return Remedy(f"{what} that the kernel sets.", "edit", edits=(edit,), changes=file, undoable=True) \
        if edit is not None else None


def without_flag(files: Files, seat: Seat, letters: str) -> Remedy | None:
    """Return the edit of the kernel.json or the script's first line that takes flags of Python out.

    `letters` are those of the flags: ``-sE`` without ``s`` is ``-E``.
    """
    flags = seat.launch.argv[1:] if seat.launch else ()
    bad = [f for f in flags if re.fullmatch(r"-[A-Za-z]+", f) and set(f) & set(letters)]
    if not bad:
        return None
    spec = _kernelspec(files, seat)
    if spec is not None:
        file, text, content = spec
        argv = content.get("argv")
        if not isinstance(argv, list):
            return None
        rest = [w for a in argv if (w := _stripped(a, letters) if a in bad else a)]
        change = edit_between(file, text, JsonText(text).with_value(rest, "argv"))
        return Remedy(f"Take {' '.join(bad)} out of what the kernel starts.", "edit", edits=(change,),
                      changes=file, undoable=True) if change is not None else None
    main = seat.launch.main if seat.launch else None
    if main is None:
        return None
    text = files.read_text(main)
    head = text.split("\n")[0].rstrip("\r")
    if not head.startswith("#!") or text.count(head) != 1:
        return None
    words = [_stripped(word, letters) if word in bad else word for word in head.split(" ")]
    changed = " ".join(filter(None, words))
    changed = re.sub(r"(/env) -S (\S+)$", r"\1 \2", changed)
    return Remedy(f"Take {' '.join(bad)} out of the first line of {main}.", "edit",
                  edits=(Edit(main, head, changed),), changes=main, undoable=True)


def _stripped(flag: str, letters: str) -> str:
    rest = "".join(c for c in flag[1:] if c not in letters)
    return f"-{rest}" if rest else ""


def add_library_folder(case: Case, folder: str) -> Remedy:
    """Return how to have the loader look into a folder first."""
    name = "DYLD_LIBRARY_PATH" if case.files.platform == "darwin" else "LD_LIBRARY_PATH"
    before = case.launch.env.get(name, "")
    whole = f"{folder}:{before}" if before else folder
    return with_variable(case.files, case.seat, name, whole) or Remedy(
        f"Have {name} hold {folder} where this seat is started; this is how "
        "the import goes with it.", "command",
        argv=(*case.launch.argv, "-c", f"import {case.obs.module}"), cwd=case.launch.cwd,
        env={name: whole}, changes="nothing; the import is tried", is_trial=True,
        typed=setting(case.files, name, whole) if case.seat.kind == "shell" else "")
