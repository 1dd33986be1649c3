"""What a failing import was missing, and who asked for it: the reading of its exceptions."""

from __future__ import annotations

import re

from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.lean.record import record
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.tables import import_names

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Distribution, Frame, ObservedError

__all__ = ["Failure", "own_frames", "read_failure"]

_NO_MODULE = re.compile(r"No module named '?([\w.]+)'?")
_NO_NAME = re.compile(r"cannot import name '?(\w+)'?(?: from (?:partially initialized module )?"
                      r"'([\w.]+)')?")
_NO_DISTRIBUTION = re.compile(r"^The '([\w.-]+)[^']*' distribution was not found|"
                           r"^(?:No package metadata was found for )?([\w.-]+)$")
_ADVICE = re.compile(r"(?i)\b(?:install|missing|requires?|required|not found|depend\w*|support|optional)\b")
# A package's own word for what its user lacks; nothing that merely looks like a name
_INSTALL = re.compile(r"\b(?:pip3?|conda|uv|mamba) install (?:-\S+ )*[`'\"]?([A-Za-z][\w.-]*)[`'\"]?|"
                   r"\b(?:pip|conda)(?: or (?:pip|conda))? to install [`'\"]?(?P<other>[A-Za-z][\w.-]*)")
_EVERYDAY = ("all", "dev", "test", "tests", "testing", "doc", "docs", "full", "complete", "extra", "extras",
             "standard", "build", "type", "types", "data", "io", "server", "client", "file")
_NO_ATTRIBUTE = re.compile(r"(?:partially initialized )?module '([\w.]+)' has no attribute '(\w+)'")


@record
class Failure:
    """What was missing.

    ``module`` is the dotted name of an absent module (its first absent part),
    or the module that lacks ``name``. ``asker`` is the frame that asked for it,
    None when the request was the one that was made of Kalyx. ``direct`` is
    False when the exception that says so was hidden behind another.
    """

    module: str
    name: str | None
    error: ObservedError
    asker: Frame | None
    direct: bool

    @property
    def top(self) -> str:
        """The top-level part of the module's name."""
        return top_level(self.module)


def own_frames(frames: Sequence[Frame]) -> list[Frame]:
    """Return the frames of real files: no frozen code, no import machinery."""
    return [f for f in frames if not f.file.startswith("<")
            and "importlib" not in f.file.replace("\\", "/").split("/")[-2:-1]]


def read_failure(case: Case) -> Failure | None:
    """Find in the chain of exceptions what was missing; None when nothing was.

    The final exception counts first. Where it is an ImportError that says
    nothing (as packages raise to give advice), the one it arose from does.
    """
    for number, error in enumerate(case.obs.chain):
        if number and not _may_look_behind(case.obs.chain[number - 1], error):
            if any(e.link == "group" for e in case.obs.chain[number:]):
                continue  # what a group holds stands behind what the group arose from
            break
        failure = _read(case, error, direct=number == 0)
        if failure is not None:
            return failure
    return _read_advice(case)


def _read_advice(case: Case) -> Failure | None:
    """Read what a package's message says is missing: a distribution that it declares, and that is not here."""
    error = case.obs.error
    frames = own_frames(error.frames) if error is not None else []
    if error is None or not frames:
        return None
    owner = case.distributions.of(frames[-1].file)
    behind = _behind_extra(case, owner, error, frames[-1])
    if behind is not None or error.type not in ("ImportError", "ModuleNotFoundError", "RuntimeError"):
        return behind
    words = {normal_name(w.strip(".")) for w in re.findall(r"[A-Za-z][\w.-]+", error.message)}
    for line in owner.requires if owner is not None else ():
        name = requirement_name(line)
        module = name.replace("-", "_")
        if normal_name(name) in words and case.distributions.named(name) is None \
                and not case.modules.candidates(module):
            return Failure(module, None, error, frames[-1], False)
    return _told_to_install(case, owner, error, frames[-1])


def _told_to_install(case: Case, owner: Distribution | None, error: ObservedError,
                     asker: Frame) -> Failure | None:
    """Read which distribution an installed package's message tells one to install, where it is not here."""
    for match in _INSTALL.finditer(error.message) if owner is not None else ():
        name = (match.group(1) or match["other"]).rstrip(".")
        module = import_names.module_for(name) or name.replace("-", "_")
        if module.isidentifier() and case.distributions.named(name) is None and not case.modules.candidates(module):
            return Failure(module, None, error, asker, False)
    return None


def _behind_extra(case: Case, owner: Distribution | None, error: ObservedError, asker: Frame) -> Failure | None:
    """Read which extra of its own a package's message speaks of, where what that brings is not all here."""
    from kalyx.core.facts.packaging.requirements import applies

    if owner is None or not owner.extras or not _ADVICE.search(error.message):
        return None
    words = {normal_name(w.strip(".")) for w in re.findall(r"[A-Za-z][\w.-]*", error.message)}
    for extra in owner.extras:
        if normal_name(extra) not in words or (extra in _EVERYDAY and f"[{extra}" not in error.message):
            continue
        for line in owner.requires:
            if applies(line, case.distributions.markers, (extra,)) and not applies(line, case.distributions.markers):
                name = requirement_name(line)
                module = name.replace("-", "_")
                if case.distributions.named(name) is None and not case.modules.candidates(module):
                    return Failure(module, None, error, asker, False)
    return None


def _may_look_behind(error: ObservedError, behind: ObservedError) -> bool:
    """Whether an exception passes on what the one behind it says: by ``raise ... from``, advice, a group."""
    return (error.type in ("ImportError", "ModuleNotFoundError") or behind.link in ("cause", "group")
            or error.link == "group")


def _read(case: Case, error: ObservedError, *, direct: bool) -> Failure | None:
    frames = own_frames(error.frames)
    asker = frames[-1] if frames else None
    if error.type in ("ImportError", "ModuleNotFoundError"):
        name = error.name if error.type == "ModuleNotFoundError" else None
        if not name or "No module named " not in error.message:
            missing = _NO_MODULE.search(error.message)
            name = missing.group(1) if missing else None
        if name:
            return Failure(first_absent(case, name, asker), None, error, asker, direct)
        lacking = _NO_NAME.search(error.message)
        if lacking:
            module = lacking.group(2) or error.name or (
                case.obs.module if asker is None else _module_of(case, asker, lacking.group(1)))
            if module:
                return Failure(module, lacking.group(1), error, asker, direct)
    elif error.type in ("PackageNotFoundError", "DistributionNotFound"):
        match = _NO_DISTRIBUTION.search(error.message)
        wanted = match.group(1) or match.group(2) if match else None
        if wanted and case.distributions.named(wanted) is None:
            asker = next((f for f in reversed(frames) if case.modules.layer_of_file(f.file) != "stdlib"), None)
            return Failure(wanted.replace("-", "_"), None, error, asker, direct)
    elif error.type == "AttributeError":
        lacking = _NO_ATTRIBUTE.search(error.message)
        if asker is not None and asker.function == "__getattr__" and len(frames) > 1:
            asker = frames[-2]  # the module's own answer to who asked (PEP 562)
        if lacking:
            return Failure(lacking.group(1), lacking.group(2), error, asker, direct)
        if frames and frames[-1].function == "__getattr__" and error.message.isidentifier():
            module = _module_in(case, frames[-1].file)
            return Failure(module, error.message, error, asker, direct) if module else None
    return None


def _module_in(case: Case, file: str) -> str:
    """Return the dotted name of the module that a file of a site folder is."""
    m = case.files
    around = [x.path for x in case.modules.layers
              if x.layer in ("env", "base", "user", "link") and m.is_within(file, x.path)]
    path = m.path.relpath(file, max(around, key=len)).replace("\\", "/") if around else ""
    parts = path.removesuffix(".py").removesuffix("/__init__").split("/")
    return ".".join(parts) if all(p.isidentifier() for p in parts) else ""


def _module_of(case: Case, asker: Frame, name: str) -> str | None:
    """Read from the asking line which module `name` was to come from (Python before 3.7)."""
    line = case.modules.code_line(asker.file, asker.line)
    match = re.match(r"from\s+([\w.]+)\s+import\b", line)
    if not match or name not in line:
        return None
    module = match.group(1)
    return None if module.startswith(".") else module


def first_absent(case: Case, name: str, asker: Frame | None) -> str:
    """Return the first part of a dotted name that is not there.

    Python 2 names only the tail of what it did not find, or the whole of a
    dotted name whose head is missing.
    """
    asked = case.obs.module
    if case.python.version_pair[0] == 2 and asker is None and asked.endswith(name):
        name = asked
    elif case.python.version_pair[0] == 2 and asker is not None:
        whole = re.search(rf"\b((?:\w+\.)+){re.escape(name)}\b", case.modules.code_line(asker.file, asker.line))
        name = whole[1] + name if whole else name
    parts = name.split(".")
    for count in range(1, len(parts)):
        head = ".".join(parts[:count])
        if case.modules.is_builtin(head) or head in case.obs.loaded or case.modules.file_of(head):
            continue
        return head
    return name
