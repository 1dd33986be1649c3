"""What the person's project asks for: which version of what is missing, and where that is written."""

from __future__ import annotations

from kalyx.core.facts.packaging.project_files import LOCKS
from kalyx.core.model import Evidence, Remedy
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.tables.import_names import are_builds_of_one
from kalyx.core.verdicts.reading.absence import asked_near_home, known_distribution
from kalyx.core.verdicts.reading.asked_part import asked_part
from kalyx.core.verdicts.remedies import pip, which_pip
from kalyx.core.verdicts.remedies.only_elsewhere import of_another_system

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.facts.packaging.project import Declared
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["install_for_project", "project_requirement", "requirement_evidence"]


def project_requirement(case: Case, failure: Failure) -> Declared | None:
    """Return what the project asks for that brings the missing module, where that counts for this Python."""
    if case.distributions.project is None or not asked_near_home(case, failure):
        return None
    from kalyx.core.facts.packaging.requirements import applies

    name = failure.top
    known = {normal_name(n) for n in (name, known_distribution(case, failure) or name)}
    known |= {normal_name(o.name) for o in case.elsewhere.having(name) if o.name}
    markers = case.distributions.markers
    requirements = [d for d in case.distributions.project.declared if applies(d.requirement, markers)]
    named = next((d for d in requirements if d.name in known), None) or next(
        (d for d in requirements if any(are_builds_of_one(d.name, n) for n in known)), None)
    return named or next(
        (d for d in requirements if _is_called_after(d.name, name) and case.distributions.named(d.name) is None), None)


def _in_all_lines(case: Case, declared: Declared) -> str:
    """Return what to install for a line of the project: all its lines for that distribution that count here, as one."""
    from packaging.requirements import InvalidRequirement, Requirement

    from kalyx.core.facts.packaging.requirements import applies, are_compatible

    plain, project = declared.requirement.split(";")[0].strip(), case.distributions.project
    rows = [d for d in (project.declared if project is not None else ()) if d.name == declared.name
            and (declared.optional or not d.optional) and applies(d.requirement, case.distributions.markers)]
    try:
        lines = [Requirement(d.requirement) for d in rows] if len(rows) > 1 else []
    except InvalidRequirement:
        return plain
    bounds = list(dict.fromkeys(str(line.specifier) for line in lines if line.specifier))
    if not lines or any(line.url for line in lines) or not are_compatible(bounds):
        return plain
    extras = ",".join(sorted({extra for line in lines for extra in line.extras}))
    return f"{lines[0].name}{f'[{extras}]' if extras else ''}{','.join(bounds)}"


def _can_be_had(case: Case, name: str, requirement: str) -> bool:
    """Whether pip may find a requirement: local folders are asked, where it is told to look there alone."""
    from kalyx.core.facts.packaging.requirements import is_met

    wheels = case.distributions.wheels_of(name) if case.distributions.wheelhouse.is_closed else []
    return not wheels or any(is_met(requirement, str(w.version)) is not False for w in wheels)


def _is_called_after(distribution: str, module: str) -> bool:
    """Whether a distribution's name is a module's with words around it: py, python, client ..."""
    plain = module.lower().replace("_", "-")
    return plain in distribution.split("-") or distribution.replace("-", "") in (
        f"py{plain}", f"{plain}py", f"python{plain}", f"{plain}python")


def requirement_evidence(declared: Declared | None) -> list[Evidence]:
    """Say where the project asks for it."""
    if declared is None:
        return []
    return [Evidence(f"the project asks for it: {declared.requirement}", declared.file, declared.line)]


def install_for_project(case: Case, wanted: str, declared: Declared | None, why: str = "") -> tuple[Remedy, ...]:
    """Return how to install `wanted`, or what the project asks for, and how to have the project know of it."""
    if declared is not None:
        asked = _in_all_lines(case, declared)
        known = normal_name(requirement_name(wanted)) == declared.name
        because = ", as the project asks for it" + ("" if known else f" (its name says that it has {wanted})")
        part = asked_part(case, declared.name)
        if part is not None and requirement_name(asked) == asked:  # the project leaves it open
            asked, because = part.versions, ""
        wanted, why = (asked, because) if _can_be_had(case, declared.name, asked) else (
            declared.name, f"; {asked}, which the project asks for, is not where pip is told to look")
    name = requirement_name(wanted)
    system = of_another_system(name, case.python.platform)
    if system is not None:
        return (system.remedy,)
    todo = pip.install(case, wanted, why=why)
    project, served = case.distributions.project, which_pip.allowed(case)
    if project is None or served is None:
        return todo
    if project.lock:
        name, (add, sync) = declared.name if declared else wanted, LOCKS[project.lock]
        says, typed = (f"Or have all put in that {project.lock} lists.", sync) if declared else (
            f"Add {name} to the project too: what {project.lock} does not list, {sync} may take out again.",
            f"{add} {name}")
        return (*todo, Remedy(says, "manual", typed=typed,
                              changes=f"the environment that {project.lock} is for"))
    if declared is not None and declared.file.endswith((".txt", ".in")) and len(project.declared) > 1:
        todo += (Remedy("Or put in all that the project asks for.", "command",
                        argv=served.install(file=declared.file),
                        changes=f"adds what {declared.file} lists to {case.python.prefix}"),)
    return todo
