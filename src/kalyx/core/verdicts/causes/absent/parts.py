"""Group A: the package is here, and this version of it lacks what is asked of it."""

from __future__ import annotations

from kalyx.core.errors import Unreadable
from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.model import Evidence, Finding
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.tables import import_names
from kalyx.core.verdicts.catalogue import also, cause
from kalyx.core.verdicts.causes.absent.part_remedies import alike, has_part, lack_of, own_advice, remedies_for
from kalyx.core.verdicts.reading.absence import asker_evidence
from kalyx.core.verdicts.reading.definitions import will_have
from kalyx.core.verdicts.reading.failure import own_frames
from kalyx.core.verdicts.remedies import pip
from kalyx.core.verdicts.remedies.source_edits import leave_out

TYPE_CHECKING = False
if TYPE_CHECKING:

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Distribution
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["attribute_absent", "other_project", "submodule_absent"]


@cause("submodule-absent", "the parent imports, the submodule isn't in the installed version",
       asks="anything", after=("relative-import-alone",),
       not_beside=("hiding", "unfit", "damage", "version-conflict", "name-differs", "stdlib-removed",
                   "stdlib-not-yet", "dependency-absent:portion_absent", "python-too-new:legacy_importer"),
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
    what = f"{owner.name} {owner.version}" if owner else parent
    host = import_names.host_of(failure.module)
    if host is not None:
        return Finding.error("submodule-absent", "certain",
                       f"{failure.module} is there in {host} alone, and this Python runs elsewhere.",
                       (Evidence(f"{parent} is {file}", file), *asker_evidence(case, failure)),
                       (leave_out(failure.module),))
    lack = lack_of(case, failure, owner, file, alike(name, held))
    holds = f"it holds {', '.join(held[:12])}" + (" and more" if len(held) > 12 else "")
    if not held or not case.modules.search_folders(parent):
        holds = "it is a single file, no package" if "is not a package" in failure.error.message else \
            "it holds no modules"
    return Finding.error(
        "submodule-absent", "certain", f"{what} has no module {failure.module}.",
        (Evidence(f"{parent} is {file}", file), Evidence(holds), *lack.evidence,
         *asker_evidence(case, failure)),
        remedies_for(lack))


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
    near = [] if own_advice(failure) else alike(failure.name, defined)
    lack = lack_of(case, failure, owner, file, near)
    evidence = [Evidence(f"{failure.module} is {file}", file)] if file else []
    if case.modules.is_builtin(failure.module):
        evidence = [Evidence(f"{failure.module} is built into the interpreter", case.python.executable)]
    evidence += [Evidence(f"it defines {n}", file, defined[n]) for n in near[:2]]
    evidence += lack.evidence
    return Finding.error(
        "attribute-absent", "certain", f"{what} is here and has no {failure.name}.",
        (*evidence, *asker_evidence(case, failure)), remedies_for(lack))


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
                lacking is None or has_part(case, other, lacking)):
            return other.name, Evidence(f"in {other.environment.path} the module {top} belongs to {other.name} "
                                        f"{other.version}", other.environment.path)
    known = import_names.distribution_for(top) or ""
    if normal_name(known) == normal_name(owner.name) or (known and case.distributions.named(known) is not None):
        known = ""
    return known, Evidence(f"{top} belongs to {known} in the table of well-known names that Kalyx ships")


def _is_other(case: Case, owner: Distribution, meant: str, top: str, evidence: tuple[Evidence, ...]) -> Finding:
    return Finding.error(
        "name-differs", "likely",
        f"{owner.name} {owner.version}, which is installed, is another project than {meant}, from which the "
        f"module {top} usually comes.",
        (*evidence, Evidence(f"{owner.name} {owner.version} is installed", owner.metadata)),
        pip.take_turns(case, owner, pip.that_brings(case, top, meant), f"as both lay files under {top}"))


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
