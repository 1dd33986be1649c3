"""Group A: the name is another than the one to import, or the one to install."""

from __future__ import annotations

from kalyx.core.model import Evidence, Finding
from kalyx.core.model.names import normal_name
from kalyx.core.tables import import_names
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.causes.absent.dropped_modules import lacking_version
from kalyx.core.verdicts.reading.absence import (
    asked_near_home,
    asked_whole,
    asker_evidence,
    is_absent,
    known_distribution,
    searched,
)
from kalyx.core.verdicts.reading.asked_part import part_evidence
from kalyx.core.verdicts.reading.spelling import near_names
from kalyx.core.verdicts.remedies import pip
from kalyx.core.verdicts.remedies.project import install_for_project, project_requirement, requirement_evidence
from kalyx.core.verdicts.remedies.source_edits import or_written, write_import

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Remedy
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["best_module", "name_differs", "name_misspelt"]


@cause("name-differs", "the distribution and its module have different names",
       asks="absence", after=("installed-elsewhere",),
       not_beside=("metadata-only", "mixed-install", "file-unreadable", "site-off"),
       why_here="a module that exists somewhere by that name is no mistake of the name")
def name_differs(case: Case, failure: Failure | None) -> Finding | None:
    """Tell apart the name that one installs and the name that one imports.

    Looks like: `No module named ...` for the name that you installed, or no distribution of the name
        that you import.
    Why: What one installs and what one imports may have different names.
    How Kalyx knows: The metadata of an installed distribution lists the module; failing that, a small
        table of well-known pairs.
    What to do: Write the module's name in the import, or install the distribution by its own name.
    """
    if failure is None or import_names.host_of(asked_whole(case, failure)):
        return None
    if "." in failure.module:
        return _is_other_portion(case, failure)
    if not is_absent(case, failure):
        return None
    name = failure.top
    return (_is_distribution_here(case, failure, name)
            or _belongs_to_other_name(case, failure, name)
            or _is_distribution_name(case, failure, name))


def _import_instead(case: Case, failure: Failure, name: str, other: str) -> Remedy:
    return write_import(case, failure, name, other)


def _is_distribution_here(case: Case, failure: Failure, name: str) -> Finding | None:
    """The name is that of a distribution installed here, whose modules have other names."""
    found = case.distributions.named(name)
    usable = [m for m in found.modules if case.modules.candidates(m)] if found else []
    if found is None or not usable or name.lower() in {m.lower() for m in found.modules}:
        return None
    public = [m for m in usable if not m.startswith("_")] or usable
    module = best_module(found.name, public)
    return Finding.error(
        "name-differs", "certain",
        f"{found.name} {found.version} is installed here, and the module to import from it is "
        f"{module}, not {name}.",
        (Evidence(f"{found.name} {found.version} provides {', '.join(public)}",
                  found.metadata or found.location), *asker_evidence(case, failure)),
        (_import_instead(case, failure, name, module),))


def best_module(distribution: str, modules: list[str]) -> str:
    """Return the module that a distribution's name stands for: the most alike one."""
    import difflib

    plain = normal_name(distribution).replace("-", "").removeprefix("python")
    return max(modules, key=lambda m: (difflib.SequenceMatcher(
        None, plain, m.lower().replace("_", "")).ratio(), -len(m)))


def _belongs_to_other_name(case: Case, failure: Failure, name: str) -> Finding | None:
    """The module is provided by a distribution of another name."""
    for other in case.elsewhere.having(name):
        if other.name and normal_name(other.name) != normal_name(name) and not _is_here(case, failure, other.name):
            says = (f"in {other.environment.name} the module {name} belongs to {other.name}"
                    f" {other.version}")
            declared = project_requirement(case, failure)
            return Finding.error(
                "name-differs", "certain",
                f"The module {name} comes from the distribution {other.name}: that is the name to "
                "install.", (Evidence(says, other.environment.path), *requirement_evidence(declared),
                             *part_evidence(case, other.name)),
                install_for_project(case, other.source or pip.that_brings(case, name, other.name), declared))
    known = known_distribution(case, failure)
    if known is None or normal_name(known) == normal_name(name) or case.elsewhere.having(name) \
            or _is_here(case, failure, known):
        return None
    whole, declared = asked_whole(case, failure), project_requirement(case, failure)
    return Finding.error(
        "name-differs", "certain",
        f"The module {whole} comes from the distribution {known}: that is the name to install.",
        (Evidence(f"{whole} belongs to {known} in the table of well-known names that Kalyx ships"),
         *requirement_evidence(declared), *part_evidence(case, known), *searched(case),
         *asker_evidence(case, failure)),
        (*install_for_project(case, pip.that_brings(case, failure.top, known), declared),
         *or_written(case, failure, known)))


def _is_here(case: Case, failure: Failure, distribution: str) -> bool:
    """Whether a distribution is here in a version without the module: its name is then nothing to be learned."""
    here = lacking_version(case, failure)
    return here is not None and normal_name(here.name) == normal_name(distribution)


def _is_other_portion(case: Case, failure: Failure) -> Finding | None:
    """The part of a namespace that many distributions share is in one that is not installed."""
    parent = failure.module.rpartition(".")[0]
    found = [c for _, c in case.modules.candidates(failure.top)]
    known = import_names.distribution_for(failure.module)
    if failure.name is not None or known is None or not found or any(c.kind != "namespace" for c in found) \
            or (case.modules.file_of(parent) or "").endswith(".py") or case.distributions.named(known) is not None:
        return None
    here = sorted({d.name for d in case.distributions.all() if failure.top in d.modules})
    return Finding.error(
        "name-differs", "certain",
        f"The module {failure.module} comes from the distribution {known}: that is the name to install.",
        (Evidence(f"{failure.top} is a name that distributions share; here {', '.join(here) or 'a folder'} has "
                  "parts of it", found[0].path),
         Evidence(f"{failure.module} belongs to {known} in the table of well-known names that Kalyx ships"),
         *asker_evidence(case, failure)), pip.install(case, known))


def _is_distribution_name(case: Case, failure: Failure, name: str) -> Finding | None:
    """What was typed is the name of a distribution that is not here; its module has another."""
    module = import_names.module_for(name)
    where = "the table of well-known names that Kalyx ships"
    for environment, distribution in case.elsewhere.known.providing_name(name):
        public = [m for m in distribution.modules if not m.startswith("_")]
        if public and name.lower() not in {m.lower() for m in distribution.modules}:
            module, where = best_module(distribution.name, public), str(environment.path)
            break
    if module is None or case.elsewhere.having(name):
        return None
    listed = import_names.distribution_for(module)
    shown = listed if listed and normal_name(listed) == normal_name(name) else name
    if case.modules.candidates(module) or case.modules.file_of(module):
        todo: tuple[Remedy, ...] = (_import_instead(case, failure, name, module),)
    else:
        todo = (*pip.install(case, shown, why=f", then import it as {module}"),
                _import_instead(case, failure, name, module))
    return Finding.error(
        "name-differs", "certain",
        f"{shown} is the name to install; the module to import from it is {module}.",
        (Evidence(f"{shown} provides {module}, by {where}"),), todo)


@cause("name-misspelt", "one edit away from, or only in case different from, a module that this seat has",
       asks="absence", after=("name-differs",),
       not_beside=("metadata-only", "link-broken", "mixed-install", "file-unreadable", "site-off", "env-version-skew",
                   "stdlib-removed", "stdlib-not-yet"),
       why_here="a name that is near to another is no slip where the name itself is known")
def name_misspelt(case: Case, failure: Failure | None) -> Finding | None:
    """Look for a module of nearly the same name.

    Looks like: `No module named ...`, and a module of nearly that name is here.
    Why: One letter is wrong, swapped or missing, or only capital letters differ, which matters also
        where the file system does not care.
    How Kalyx knows: A module that this seat can import is one edit away, and the name as typed is known
        nowhere.
    What to do: Write the near name.
    """
    if not is_absent(case, failure) or failure is None or not asked_near_home(case, failure):
        return None
    name = failure.top
    if case.elsewhere.having(name) or known_distribution(case, failure) or project_requirement(case, failure):
        return None
    near = near_names(name, case.modules.names())
    near = [n for n in near if n != name and not n.startswith("_")]
    if not near:
        return None
    by_case = near[0].lower() == name.lower()
    file = case.modules.file_of(near[0])
    return Finding.error(
        "name-misspelt", "certain" if by_case else "likely",
        f"There is no {name} here, but there is {near[0]}" + (
            ": the names differ only in capital letters." if by_case else ", one letter away."),
        (Evidence(f"{near[0]} is {file or 'built into the interpreter'}", file),
         *asker_evidence(case, failure)),
        (_import_instead(case, failure, name, near[0]),))
