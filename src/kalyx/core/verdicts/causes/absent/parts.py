"""Group A: the package is here, and this version of it lacks what is asked of it."""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.packaging.requirements import applies, is_met, suits
from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.tables import import_names
from kalyx.core.verdicts.catalogue import also, cause
from kalyx.core.verdicts.causes.absent.moved_parts import find_moved
from kalyx.core.verdicts.reading.absence import asked_near_home, asker_evidence
from kalyx.core.verdicts.reading.definitions import will_have
from kalyx.core.verdicts.reading.failure import own_frames
from kalyx.core.verdicts.reading.spelling import near_names
from kalyx.core.verdicts.remedies import pip
from kalyx.core.verdicts.remedies.conflicts import bring_together, outgrew
from kalyx.core.verdicts.remedies.source_edits import asking_place, change_line, leave_out, write_import

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Distribution, Elsewhere
    from kalyx.core.verdicts.causes.absent.moved_parts import Moved
    from kalyx.core.verdicts.reading.failure import Failure

# What a module adds to the plain sentence; what Python itself adds is no advice of the module's
_ADVICE = re.compile(r"(?s)has no attribute '\w+'[.:;\s]+(?!Did you mean|\(most likely due)(\S.{20,})")

__all__ = ["attribute_absent", "other_project", "submodule_absent"]


@cause("submodule-absent", "the parent imports, the submodule isn't in the installed version",
       asks="anything", after=("relative-import-alone",),
       not_beside=("hiding", "unfit", "damage", "version-conflict", "name-differs", "stdlib-removed",
                   "stdlib-not-yet"),
       why_here="it is said of a whole, right package alone")
def submodule_absent(case: Case, failure: Failure | None) -> Finding | None:
    """Name the submodule that a package of this version does not hold.

    Looks like: `No module named 'a.b'`, and `import a` works.
    Why: The installed version of the package has no such part: it came later, moved, or was split off.
    How Kalyx knows: The package's folder is listed; the part is not in it and is not in its RECORD
        either.
    What to do: Install the version that another environment shows to have it, or write the near name.
    """
    if failure is None or failure.name is not None or "." not in failure.module:
        return None
    parent, _, name = failure.module.rpartition(".")
    file = case.modules.file_of(parent)
    if file is None:
        return None
    if any(c.kind != "namespace" for c in case.modules.finder.find_all(case.modules.search_folders(parent), name)):
        return None  # it is there: something else than this package stands in its place
    owner = case.distributions.of(file)
    held = sorted({n.split(".")[0] for folder in case.modules.search_folders(parent)
                   for n in case.modules.finder.names(folder) if n.split(".")[0].isidentifier()
                   and not n.startswith("__")})
    near = _alike(name, held)
    what = f"{owner.name} {owner.version}" if owner else parent
    host = import_names.host_of(failure.module)
    if host is not None:
        return Finding.error("submodule-absent", "certain",
                       f"{failure.module} is there in {host} alone, and this Python runs elsewhere.",
                       (Evidence(f"{parent} is {file}", file), *asker_evidence(case, failure)),
                       (leave_out(failure.module),))
    moved = find_moved(case, failure, owner)
    known = _known_versions(case, owner, failure)
    misread = _no_module_at_all(case, failure, file)
    todo = [*misread, *(moved.remedies(case, failure) if moved else ()), *known]
    todo += [write_import(case, failure, failure.module, f"{parent}.{n}") for n in near[:1]
             if not misread and not moved]
    todo += [] if known else _likely_versions(case, owner, failure, moved) or _whole_again(
        case, owner, file, failure)
    if not misread and not moved:
        todo.append(_by_hand(case, failure, file, owner))
    holds = f"it holds {', '.join(held[:12])}" + (" and more" if len(held) > 12 else "")
    if not held or not case.modules.search_folders(parent):
        holds = "it is a single file, no package" if "is not a package" in failure.error.message else \
            "it holds no modules"
    return Finding.error(
        "submodule-absent", "certain", f"{what} has no module {failure.module}.",
        (Evidence(f"{parent} is {file}", file), Evidence(holds), *([moved.evidence()] if moved else []),
         *asker_evidence(case, failure)),
        tuple(todo))


def _by_hand(case: Case, failure: Failure, file: str, owner: Distribution | None) -> Remedy:
    """Return what a person may do about a part that is not there: of a package, or of their own code."""
    parent, _, name = failure.module.rpartition(".")
    if owner is not None or case.modules.layer_of_file(file) in ("env", "base", "user", "stdlib"):
        return Remedy(f"Look up which version of {parent} has {name}, or where it went.", "manual",
                      changes="the import, or the version")
    m = case.files
    place = m.path.dirname(file)
    around = [m.path.dirname(place), *(m.path.join(place, n) for n in m.scan(place)[1])]
    there = next((p for folder in around for p in (m.path.join(folder, f"{name}.py"),
                                                   m.path.join(folder, name, "__init__.py")) if m.exists(p)),
                                                   None)
    says = f"Take out the import of {failure.module}, or write {m.path.join(place, name)}.py: {parent} is " \
        "your own code"
    return Remedy(says + (f". There is {there}: perhaps that is meant." if there else "."), "manual",
                  changes="your code")


def _no_module_at_all(case: Case, failure: Failure, file: str) -> list[Remedy]:
    """Return how to write what is no module: a file's ending, or a name that its parent defines."""
    from kalyx.core.facts.source_code.definitions import defined_names

    parent, _, name = failure.module.rpartition(".")
    if name == "py":
        return [write_import(case, failure, failure.module, parent)]
    if not file.endswith(".py") or name not in defined_names(case.files, file, perhaps=True):
        return []
    place, plain = asking_place(case, failure), f"from {parent} import {name}"
    form = rf"import\s+{re.escape(failure.module)}(\s+as\s+\w+)?"
    match = re.fullmatch(form, place.text) if place else None
    edit = change_line(case, place, plain + (match[1] or "")) if place and match else None
    says = f"Write: {plain}: {name} is no module, but something that {parent} defines."
    if edit is None:
        return [Remedy(says, "manual", changes="the import in your code")]
    return [Remedy(says, "edit", edits=(edit,), changes=edit.path)]


def _alike(name: str, names: Iterable[str]) -> list[str]:
    """Return the nearest names of those that a module has: a few, so that more than one letter may differ."""
    from difflib import get_close_matches

    near = near_names(name, names) if len(name) > 3 else []
    alike = [n for n in names if n != name and n[:1] == name[:1] and abs(len(n) - len(name)) < 2]
    return near or (get_close_matches(name, alike, 1, 0.8) if len(name) > 6 else [])


def _known_versions(case: Case, owner: Distribution | None, failure: Failure) -> list[Remedy]:
    """Return the installation of a version of which it is known that it has the part."""
    return _version_that_has(case, owner, failure) or _wheel_that_has(case, owner, failure)


def _likely_versions(case: Case, owner: Distribution | None, failure: Failure,
                     moved: Moved | None) -> list[Remedy]:
    """Return the changes of version that should bring together what a package asks and what another has.

    Which of the two is older is to be judged: a package that declares a lower bound found there what it
    asks for, so that versions above it must have dropped it.
    """
    asker = case.distributions.of(failure.asker.file) if failure.asker else None
    served = pip.allowed(case)
    if owner is None or asker is None or asker.name == owner.name or owner.editable \
            or served is None:
        return []
    says = (f"{asker.name} {asker.version} counts on {failure.name or failure.module}, which "
            f"{owner.name} {owner.version} has not")
    if moved is not None and not moved.came_later:
        return bring_together(case, asker, owner, f"{says} any more", moved.versions)
    if asker.editable or not outgrew(case, owner, asker):
        return [Remedy(f"Install the newest {owner.name}: {says}.", "command",
                       argv=served.install(owner.name, upgrade=True),
                       changes=f"replaces {owner.name} {owner.version} in {case.python.prefix}")]
    return bring_together(case, asker, owner, f"{says} any more")


def _whole_again(case: Case, owner: Distribution | None, file: str | None, failure: Failure) -> list[Remedy]:
    """Return the installation of a package that lacks a part of its own, with nothing written down of it."""
    asker, top = failure.asker, failure.top
    itself = asker is not None and case.modules.file_of(top) is not None and case.files.is_within(
        asker.file, case.files.path.dirname(case.modules.file_of(top) or ""))
    if owner is not None or not itself or case.modules.layer_of_file(file) not in ("env", "user"):
        return []
    return list(pip.install(case, import_names.distribution_for(top) or top,
                            why=", whole: it lacks a part of its own", over="replaced"))


def _wheel_that_has(case: Case, owner: Distribution | None, failure: Failure) -> list[Remedy]:
    """Return the installation of a version of which a wheel on this machine has the part."""
    if owner is None or owner.editable or not case.python.knows_version:
        return []
    requirements = _requirements_of_asker(case, owner, failure)
    for wheel in case.distributions.wheels_of(owner.name):
        if str(wheel.version) != owner.version and all(is_met(w, str(wheel.version)) for w in requirements) \
                and case.distributions.wheelhouse.has(wheel, failure.module, failure.name, case.python.version):
            return list(pip.install(case, f"{owner.name}=={wheel.version}",
                                         why=f", a version that has it, as its wheel {wheel.path} shows"))
    return []


def _requirements_of_asker(case: Case, owner: Distribution, failure: Failure) -> list[str]:
    """Return what the package that asked requires of the one that lacks the part."""
    asker = case.distributions.of(failure.asker.file) if failure.asker else None
    return [r for r in (asker.requires if asker else ()) if applies(r, case.distributions.markers)
            and normal_name(requirement_name(r)) == normal_name(owner.name)]


def _version_that_has(case: Case, owner: Distribution | None, failure: Failure) -> list[Remedy]:
    """Return the installation of a version that another environment has, where that one has the part."""
    if owner is None or not owner.modules:
        return []
    mine, requirements = case.python.version, _requirements_of_asker(case, owner, failure)
    for other in case.elsewhere.having(owner.modules[0]):
        if other.name == owner.name and other.version and other.version != owner.version \
                and all(is_met(w, other.version) for w in requirements) \
                and suits(other.requires_python, mine) and _has_part(case, other, failure):
            return list(pip.install(
                case, f"{owner.name}=={other.version}",
                why=f", the version that {other.environment.name} has; there it is"))
    return []


def _has_part(case: Case, other: Elsewhere, failure: Failure) -> bool:
    """Whether another environment's copy holds the missing submodule or name: its files are read."""
    from kalyx.core.facts.source_code.definitions import defined_names

    m = case.files
    for site in case.elsewhere.known.sites(other.environment):
        base = m.path.join(site, *failure.module.split("."))
        if failure.name is None:
            if m.is_file(base + ".py") or m.is_folder(base):
                return True
            continue
        for source in (m.path.join(base, "__init__.py"), base + ".py"):
            if failure.name in defined_names(case.files, source):
                return True
        if m.is_file(m.path.join(base, failure.name + ".py")) or m.is_folder(m.path.join(base, failure.name)):
            return True
    return False


@cause("attribute-absent", "X is the genuine X and has no y in it",
       asks="anything", after=("submodule-absent",),
       not_beside=("hiding", "unfit", "damage", "python-too-new", "python-too-old", "version-conflict",
                   "circular-import", "name-differs"),
       why_here="it is said of a whole, right module alone, and where nothing explains why the name is not there")
def attribute_absent(case: Case, failure: Failure | None) -> Finding | None:
    """Name what a module of this version does not define.

    Looks like: `ImportError: cannot import name 'y' from 'x'`, or `module 'x' has no attribute 'y'`.
    Why: The module is the genuine one, and this version of it has no such name: it came later, went
        away, or is spelt otherwise.
    How Kalyx knows: The module's own file is found and read, and does not define the name; near names
        in it are listed, and another environment's copy is read for it.
    What to do: Write the near name, or install the version that has it; where no other version is known
        here, look the name up in the package's change log.
    """
    if failure is None or failure.name is None or (
            "partially initialized" in failure.error.message and will_have(case, failure.module, failure.name)):
        return None
    if failure.error.type == "AttributeError" and _raised_by_own_getattr(case, failure):
        return None
    from kalyx.core.facts.source_code.definitions import defined_names

    file = case.modules.file_of(failure.module)
    owner = case.distributions.of(file)
    what = f"{failure.module} ({owner.name} {owner.version})" if owner else failure.module
    defined = defined_names(case.files, file, perhaps=True) if file and file.endswith(".py") else {}
    advice = _own_advice(failure)
    near = [] if advice else _alike(failure.name, defined)
    moved = find_moved(case, failure, owner)
    known = _known_versions(case, owner, failure)
    todo = [*(moved.remedies(case, failure) if moved else ()),
            *(advice if asked_near_home(case, failure) else []), *known]
    todo += [write_import(case, failure, failure.name, n, whole=f"from {failure.module} import {n}")
             for n in near[:1] if not moved]
    todo += [] if known else _likely_versions(case, owner, failure, moved) or _whole_again(
        case, owner, file, failure)
    todo += [r for r in advice if r not in todo]
    todo += [] if moved else [Remedy(f"Look up which version of {failure.module} has {failure.name}, or where "
                       "it went.", "manual", changes="the import, or the version")]
    evidence = [Evidence(f"{failure.module} is {file or 'built into the interpreter'}", file)]
    evidence += [Evidence(f"it defines {n}", file, defined[n]) for n in near[:2]]
    evidence += [moved.evidence()] if moved else []
    return Finding.error(
        "attribute-absent", "certain", f"{what} is here and has no {failure.name}.",
        (*evidence, *asker_evidence(case, failure)), tuple(todo))


def _own_advice(failure: Failure) -> list[Remedy]:
    """Return what a module itself says is to be done about a name that it dropped."""
    said = _ADVICE.search(failure.error.message)
    text = " ".join(said.group(1).split())[:400] if said else ""
    return [Remedy(f"Do as {failure.module} itself says: {text}", "manual", changes="your code")][:bool(text)]


@also("name-differs",
      asks="anything", after=("version-conflict",),
      not_beside=("metadata-only", "mixed-install", "file-unreadable"),
      why_here="a damaged install looks like another project of that name")
def other_project(case: Case, failure: Failure | None) -> Finding | None:
    """Find that another project's module of the same name was installed: what one imports has another name."""
    error = case.obs.error
    if case.obs.outcome != "fails" or error is None:
        return None
    frames = own_frames(error.frames)
    inner = case.distributions.of(frames[-1].file) if frames else None
    tops = [failure.top] if failure else []
    for top in dict.fromkeys([*tops, *(inner.modules[:1] if inner else ()), top_level(case.obs.module)]):
        owner = case.distributions.of(case.modules.file_of(top))
        if owner is None or normal_name(owner.name) != normal_name(top) or import_names.is_shared(top) \
                or import_names.is_same_project(top):
            continue
        lacking = failure if failure is not None and failure.top == top else None
        is_code = failure is not None or error.type == "SyntaxError"  # and no library of the system
        if lacking is None and (not is_code or inner is None or inner.metadata != owner.metadata
                                or _declares(owner, failure)):
            continue  # what fails is neither a part that it has not, nor its own code
        meant, evidence = _meant(case, owner, top, lacking)
        if meant:
            return _is_other(case, owner, meant, top, (evidence, *asker_evidence(case, failure))
                             if failure else (evidence,))
    return None


def _declares(owner: Distribution, failure: Failure | None) -> bool:
    """Whether what is missing is something that a distribution asks for."""
    if failure is None:
        return False
    names = {normal_name(failure.top), normal_name(import_names.distribution_for(failure.top) or failure.top)}
    return any(normal_name(requirement_name(r)) in names for r in owner.requires)


def _meant(case: Case, owner: Distribution, top: str, lacking: Failure | None) -> tuple[str, Evidence]:
    """Return the distribution that a module usually comes from; empty where it is the installed one."""
    for other in case.elsewhere.having(top):
        if other.name and normal_name(other.name) != normal_name(owner.name) and (
                lacking is None or _has_part(case, other, lacking)):
            return other.name, Evidence(f"in {other.environment.path} the module {top} belongs to {other.name} "
                                        f"{other.version}", other.environment.path)
    known = import_names.distribution_for(top) or ""
    if normal_name(known) == normal_name(owner.name) or (known and case.distributions.named(known) is not None):
        known = ""
    return known, Evidence(f"{top} belongs to {known} in the table of well-known names that Kalyx ships")


def _is_other(case: Case, owner: Distribution, meant: str, top: str, evidence: tuple[Evidence, ...]) -> Finding:
    served = pip.serving(case)
    typed = " ".join(served.start if served else ("pip",))
    return Finding.error(
        "name-differs", "likely",
        f"{owner.name} {owner.version}, which is installed, is another project than {meant}, from which the "
        f"module {top} usually comes.",
        (*evidence, Evidence(f"{owner.name} {owner.version} is installed", owner.metadata)),
        (*pip.install(case, meant),
         Remedy(f"Better still, take out {owner.name} first, as both lay files under {top}: {typed} uninstall "
                f"{owner.name}; then install {meant}.", "manual",
                changes=f"removes {owner.name} {owner.version}")))


def _raised_by_own_getattr(case: Case, failure: Failure) -> bool:
    """Whether the line that failed does not even name the attribute: code computed what to ask for."""
    if failure.asker is None:
        return False
    line = case.modules.code_line(failure.asker.file, failure.asker.line)
    if not line or failure.name is None:
        return False
    import ast

    try:
        tree = ast.parse(line.rstrip(":") if not line.endswith(":") else line + " pass")
    except (SyntaxError, ValueError, Unreadable):
        return failure.name not in line  # a part of a longer statement
    return not any(isinstance(n, ast.Attribute) and n.attr == failure.name for n in ast.walk(tree))
