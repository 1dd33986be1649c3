"""Group D: it is there, and may not be read."""

from __future__ import annotations

import re

from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.remedies import files
from kalyx.core.verdicts.remedies.shell_lines import command_line

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["file_unreadable"]

_ERRNO = re.compile(r"\[Errno (\d{1,9})\] ([^:]{1,300}): [b]?['\"](.+)['\"]$")
# A signature that macOS does not accept, a mark that a file came from outside; rules of a company
_BLOCKED = re.compile(r"library load disallowed by system policy|"
                   r"code signature [^()]{0,200}?(?:invalid|not valid)[^()]{0,400}|"
                   r"(?<![^:.])[^:.]{0,200}Application Control policy[^:.]{0,200}|"
                   r"\[WinError (?:1260|4551)\][^:]{0,400}|"
                   r"DLL load failed[^:]{0,200}: (?:Access is denied|Zugriff verweigert)")
_REFUSALS = ("PermissionError", "OSError", "IOError")
_CODE = (".py", ".pyc", ".so", ".pyd")
_FORBIDDEN = ("1", "5", "13", "116", "121")  # EPERM, EIO, EACCES, ESTALE, EREMOTEIO


@cause("file-unreadable", "permission or an I/O error on a file or folder of it",
       asks="traces", family="damage", also_when_it_imports="without a file", after=("bytecode-stale",),
       why_here="what cannot be read cannot be compared: the checks of wholeness would take it for missing")
def file_unreadable(case: Case, failure: Failure | None) -> Finding | None:
    """Find the file that the import was refused, or a folder that hides what is in it.

    Looks like: `Permission denied`, or `No module named ...` for something whose files are plainly
        there; `not valid for use in process`, `policy has blocked this file`.
    Why: You may not read the file or the folder: it was installed by another user, or with closed
        permissions. Or the system does not let code of unknown origin be loaded.
    How Kalyx knows: Mode and owner of the file, and who asks; or what the loader says.
    What to do: Let yourself read it, or ask its owner to.
    """
    refused = _refused(case) or _closed(case, failure)
    if refused is None:
        return _blocked(case)
    path, why = refused
    m = case.files
    info = m.stat(path)
    owner = case.distributions.of(path)
    whose = f" of {owner.name} {owner.version}" if owner else ""
    evidence = [Evidence(why, path)]
    if info is not None:
        evidence.append(Evidence(f"its mode is {info.mode & 0o7777:04o}, its owner is user {info.owner}; "
                                 f"you are user {m.user_id}", path))
    what = "The folder" if info is not None and info.kind == "folder" else "The file"
    return Finding(
        "file-unreadable", "warning" if case.obs.outcome == "imports" else "error", "certain",
        f"{what} {path}{whose} may not be read: {why}.", tuple(evidence),
        (files.make_readable(case, path),))


def _blocked(case: Case) -> Finding | None:
    """Find a compiled part that the system itself does not let be loaded, whatever its mode."""
    for error in case.obs.chain:
        match = _BLOCKED.search(error.message)
        file = error.path or (error.frames[-1].file if error.frames else None)
        if match is None or not file:
            continue
        from kalyx.core.verdicts.remedies.pip import install_again

        owner = case.distributions.of(file)
        whose = f" of {owner.name} {owner.version}" if owner else ""
        todo = install_again(case, owner, file)
        if case.files.platform == "darwin":
            todo += (Remedy("Or, where you trust the file, take the mark off that it came from outside.",
                            "manual", changes=file,
                            typed=command_line(case.files, ("xattr", "-d", "com.apple.quarantine", file))),)
        else:
            todo += (Remedy(f"Or have whoever looks after this computer allow {file}.", "manual",
                            changes="the rules of this computer"),)
        return Finding.error("file-unreadable", "likely",
                       f"The system does not let {file}{whose} be loaded.",
                       (Evidence(f"it says: {match.group().strip()}", file),), todo)
    return None


def _refused(case: Case) -> tuple[str, str] | None:
    """Return a file of the search path that an exception says could not be read."""
    for error in case.obs.chain:
        match = _ERRNO.search(error.message) if "[Errno" in error.message else None
        if match and match.group(1) in _FORBIDDEN and error.type in _REFUSALS:
            file = match.group(3)
            if file.endswith(_CODE) and case.modules.layer_of_file(file) not in (None, "link"):
                return file, match.group(2).lower()
        elif error.path and "ermission denied" in error.message:
            return error.path, "permission denied"
    return None


def _closed(case: Case, failure: Failure | None) -> tuple[str, str] | None:
    """Return a folder that hides the wanted module: an entry of the path, or the package's own."""
    m = case.files
    if case.obs.outcome == "imports" and (case.obs.origin or not case.obs.search):
        return None
    name = failure.top if failure is not None else top_level(case.obs.module)
    for _, candidate in case.modules.candidates(name):
        if candidate.kind == "namespace":
            why = m.why_not_listed(candidate.path) or _why_not_entered(case, candidate.path)
            if why:
                return candidate.path, why
        elif failure is not None and candidate.kind == "package":
            folder = m.path.dirname(candidate.path)
            inner = failure.module.replace(".", m.path.sep)
            part = m.path.join(m.path.dirname(folder), inner)
            if m.is_folder(part) and (why := m.why_not_listed(part)):
                return str(part), why
        return None
    if failure is None or failure.name is not None:
        return None
    for layer in case.modules.layers:
        if layer.layer != "stdlib" and m.is_folder(layer.path) and (why := m.why_not_listed(layer.path)):
            return layer.path, why
    return None


def _why_not_entered(case: Case, folder: str) -> str:
    """Say why the files of a folder cannot be looked at, though their names can be listed."""
    start = case.files.path.join(folder, "__init__.py")
    return case.files.trouble_at(start) if case.files.may_be_there(start) else ""
